"""Imported by the process that servers of tests are forked from: what they need is there, and the
renderer is loaded.  Each saves 8 s of a processor; `tests.test_start` starts whole programs.
"""

from __future__ import annotations

import atexit
import gc

import mill_lane.serve  # noqa: F401
import tests.browser.loaded  # noqa: F401  (what is forked needs them)
from mill_lane.core.progress import silent
from mill_lane.core.render import look
from mill_lane.jobs import live
from mill_lane.work import warm

# A page shows grain as well as it shows a clean picture, in a sixth of the time: how good looks are
# is tested where they are drawn.
look.SAMPLES, look.LEAST = 8, 4
live.SAMPLES = 16

if warm.complete():
    warm.prepare(silent)
gc.freeze()
atexit.register(gc.unfreeze)  # at the end everything is to be let go of
