"""Which of a raw and a clean picture is nearer to the truth, in figures; `judging` finds them."""

from __future__ import annotations

import math

from pydantic import BaseModel, ConfigDict

SURE = 2.0  # standard errors from which on it is no chance


class Verdict(BaseModel):
    """Relative mean squared errors of the raw and of the clean picture, and the standard error of
    their difference.  Where the clean one is far better its own error is lost in that.

    `apart` is the mean squared difference between the two pictures; None where it was not measured.
    """

    model_config = ConfigDict(frozen=True)
    raw: float
    clean: float
    spread: float
    apart: float | None = None

    @property
    def better(self) -> bool:
        """Whether the clean picture is surely the better one."""
        return self.raw - self.clean > SURE * self.spread

    @property
    def share(self) -> float | None:
        """The share of the clean picture in the blend with the smallest squared error, 0 to 1.

        With the errors R and C of raw and clean and their mean product X, a blend of share s has
        the error s^2 C + (1 - s)^2 R + 2 s (1 - s) X; and R + C - 2 X is the squared difference of
        the two pictures, which needs no truth.  None where that was not measured.
        """
        if not self.apart:
            return None
        return min(max(0.5 + (self.raw - self.clean) / (2.0 * self.apart), 0.0), 1.0)

    @property
    def raw_off(self) -> float:
        """How far the raw picture is off, relative, in the quadratic mean."""
        return math.sqrt(max(self.raw, 0.0))

    @property
    def clean_known(self) -> bool:
        """Whether the clean picture's own error is told, and not only a bound of it."""
        return self.clean > SURE * self.spread

    @property
    def clean_off(self) -> float:
        """How far the clean picture is off; at most so far where that is not known."""
        least = 0.0 if self.clean_known else SURE * self.spread
        return math.sqrt(max(self.clean, 0.0) + least)
