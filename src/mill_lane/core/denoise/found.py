"""What a pilot of a crop found: how few samples hold."""

from __future__ import annotations

from pydantic import BaseModel

from mill_lane.core.recipe import Region

SAMPLES = 64  # of a pilot, as a rule


class Point(BaseModel):
    """Relative mean squared errors at a number of samples, with their standard errors."""

    samples: int
    raw: float
    raw_spread: float
    clean: float
    clean_spread: float


class Found(BaseModel):
    """What a pilot found.

    samples, low, high : the answer, None where there is none.  confirmed : the error there,
    measured by a render of its own; None where it would have been too long.  seconds_sample : of
    one sample of one pixel; seconds_clean : of denoising a megapixel.
    """

    target: float
    points: list[Point]
    samples: int | None
    low: int | None
    high: int | None
    confirmed: float | None
    confirmed_spread: float | None
    seconds_sample: float
    seconds_clean: float
    region: Region
