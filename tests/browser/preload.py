"""Imported by the process that servers of tests are forked from: what they need is there, and the
renderer is loaded.  Each saves 8 s of a processor; `tests.test_start` starts whole programs.
"""

from __future__ import annotations

import atexit
import gc

import mill_lane.serve  # noqa: F401
import tests.browser.loaded  # noqa: F401  (what is forked needs them)
from mill_lane.core.progress import silent
from mill_lane.work import warm
from tests.coarse import for_good

# A page shows grain as well as it shows a clean picture, in a sixteenth of the time.
for_good()

if warm.complete():
    warm.prepare(silent)
gc.freeze()
atexit.register(gc.unfreeze)  # at the end everything is to be let go of
