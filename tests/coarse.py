"""Weighing and looking with a tenth of the rays, for tests of what is done with it.

How good figures and looks are is tested where they are made: `tests.weigh`, `tests.trim` and
`tests.work.test_looks` do as artists do.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from types import ModuleType
from unittest.mock import patch

from mill_lane.core.render import look
from mill_lane.core.weigh import full, lighting
from mill_lane.work.kinds import first_look

COARSE: tuple[tuple[ModuleType, str, int], ...] = (
    (full, "WIDE", 64),  # rays across a frame; of 192
    (lighting, "SAMPLES", 4),  # by which each light's share is told; of 32
    (look, "SAMPLES", 4),
    (look, "LEAST", 4),
    (first_look, "WIDTH", 240),
)


def for_good() -> None:
    """From now on, this process and what it forks do so."""
    for module, name, value in COARSE:
        setattr(module, name, value)


@contextmanager
def coarsely() -> Iterator[None]:
    """While it lasts, this process does so."""
    with ExitStack() as stack:
        for module, name, value in COARSE:
            stack.enter_context(patch.object(module, name, value))
        yield
