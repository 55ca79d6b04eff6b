"""The stations, in the order of the work; one folder each and one line below."""

from __future__ import annotations

from mill_lane.core.registry import Registry
from mill_lane.web.shared.station import Station
from mill_lane.web.stations.finish.routes import FINISH
from mill_lane.web.stations.fit.routes import FIT
from mill_lane.web.stations.machine.routes import MACHINE
from mill_lane.web.stations.scene.routes import SCENE
from mill_lane.web.stations.trials.routes import TRIALS
from mill_lane.web.stations.trim.routes import TRIM

STATIONS: Registry[Station] = Registry("station", SCENE, MACHINE, FIT, TRIALS, TRIM, FINISH)
