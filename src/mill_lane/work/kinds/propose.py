"""Working out what trims could do, where that takes looking into the scene."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from pydantic import BaseModel

from mill_lane.core.progress import part
from mill_lane.core.trim.model import Proposal
from mill_lane.core.weigh.analysis import Analysis
from mill_lane.core.weigh.analysis_versions import read_analysis
from mill_lane.store.models import SceneVersion
from mill_lane.work.kinds.base import AT_ONCE, Context, Kind, Report


class Asked(BaseModel):
    """A trim, and how its proposals are to be made."""

    trim: str
    parameters: dict[str, Any] = {}


class Payload(BaseModel):
    """Of which scene version, by which of its analyses, and what is asked."""

    version: int
    mark: str = ""
    asked: list[Asked]


def usual_questions(version: int, height: int, mark: str) -> Payload:
    """What every trim is asked that has to look into the scene, for a picture of that height."""
    from mill_lane.core.trim import TRIMS

    asked = []
    for trim in TRIMS:
        parameters = trim.usual(height)
        if trim.opens_scene(parameters):
            asked.append(Asked(trim=trim.name, parameters=parameters.model_dump(mode="json")))
    return Payload(version=version, mark=mark, asked=asked)


class Request(BaseModel):
    """The scene, what is known of it, and what is asked."""

    scene: Path
    analysis: Analysis
    asked: list[Asked]


class Result(BaseModel):
    """What each trim found, in the order of what was asked."""

    found: list[list[Proposal]]


class Propose(Kind[Payload, Request, Result]):
    """Ask trims what they could do."""

    name = "propose"
    payload_type = Payload
    request_type = Request
    result_type = Result
    priority = 5
    gives_way = True
    lane = "files"
    grace = AT_ONCE

    def prepare(self, context: Context, payload: Payload) -> Request:
        """Find the scene, and what weighing told."""
        row = context.db.get_one(SceneVersion, payload.version)
        return Request(
            scene=context.home.files.path(row.file_hash),
            analysis=read_analysis(row.analysis),
            asked=payload.asked,
        )

    def run(self, request: Request, report: Report) -> Result:
        """Ask one trim after another; the scene is opened once."""
        from mill_lane.core.formats.opening import open_scene
        from mill_lane.core.trim import TRIMS
        from mill_lane.core.trim.model import parameters_of

        scene = open_scene(request.scene, own=True)
        found = []
        count = len(request.asked)
        for k, asked in enumerate(request.asked):
            trim = TRIMS[asked.trim]
            tell = part(report, k / count, (k + 1) / count)
            tell(0.0, f"looking for what to trim: {trim.title.lower()}")
            parameters = parameters_of(trim, asked.parameters)
            found.append(trim.propose(lambda: scene, request.analysis, parameters, tell))
        return Result(found=found)

    def keep(
        self, context: Context, payload: Payload, result: Result, taken: Mapping[str, Any]
    ) -> dict[str, Any]:
        """Keep what was found with the task."""
        return result.model_dump(mode="json")


PROPOSE = Propose()
