"""The kinds of long task, one module each and one line below."""

from __future__ import annotations

from typing import Any

from mill_lane.core.registry import Registry
from mill_lane.work.kinds.base import Kind
from mill_lane.work.kinds.camera import PUT_UP
from mill_lane.work.kinds.deliver import DELIVER
from mill_lane.work.kinds.demo import DEMO
from mill_lane.work.kinds.denoise import DENOISE, DENOISE_LATER
from mill_lane.work.kinds.denoise_files import DENOISE_FILES
from mill_lane.work.kinds.export import EXPORT
from mill_lane.work.kinds.first_look import FIRST_LOOK
from mill_lane.work.kinds.hold import HOLD
from mill_lane.work.kinds.live_look import LIVE_LOOK
from mill_lane.work.kinds.open import OPEN
from mill_lane.work.kinds.preload import PRELOAD
from mill_lane.work.kinds.prepare import PREPARE
from mill_lane.work.kinds.propose import PROPOSE
from mill_lane.work.kinds.reading import READING
from mill_lane.work.kinds.render import RENDER
from mill_lane.work.kinds.spread import SPREAD
from mill_lane.work.kinds.trim import TRIM
from mill_lane.work.kinds.variant import VARIANT
from mill_lane.work.kinds.visible_cost import VISIBLE_COST
from mill_lane.work.kinds.weigh import WEIGH

KINDS: Registry[Kind[Any, Any, Any]] = Registry(
    "kind of task",
    PREPARE,
    DEMO,
    OPEN,
    READING,
    PUT_UP,
    VARIANT,
    FIRST_LOOK,
    LIVE_LOOK,
    PRELOAD,
    WEIGH,
    PROPOSE,
    VISIBLE_COST,
    TRIM,
    EXPORT,
    RENDER,
    DENOISE,
    DENOISE_LATER,
    DENOISE_FILES,
    HOLD,
    DELIVER,
    SPREAD,
)
