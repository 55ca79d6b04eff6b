"""What another renderer's memory goes to, in bytes for each unit of what it holds, and how that is
found from trials.

A memory profile needs no look into the other program: the peak that it reports for some trials is
enough.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated

import numpy as np
from pydantic import BaseModel, ConfigDict, Field

from mill_lane.core.least_squares import nonnegative

Bytes = Annotated[float, Field(ge=0, le=1e6)]
# weight of the profile's own figures beside the trials: they decide what the trials leave open
PULL = 1e-4


class MemoryProfile(BaseModel):
    """Bytes a unit.

    The figures to begin with are ours, about what common renderers take: fit them to trials.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    name: Annotated[str, Field(min_length=1, max_length=80)]
    fixed: Annotated[float, Field(ge=0, le=1e12, title="Fixed")] = 500e6
    triangle: Annotated[Bytes, Field(title="A triangle")] = 120.0
    value8: Annotated[Bytes, Field(title="An 8-bit texture value")] = 1.33
    value16: Annotated[Bytes, Field(title="A 16-bit texture value")] = 2.67
    pixel: Annotated[Bytes, Field(title="A pixel of a layer")] = 16.0
    sample: Annotated[Bytes, Field(title="A sample in flight")] = 250.0
    denoise: Annotated[Bytes, Field(title="A pixel denoised in the render")] = 100.0


UNITS = ("fixed", "triangle", "value8", "value16", "pixel", "sample", "denoise")


class Load(BaseModel):
    """What a render holds, counted: numbers of units, in the order of UNITS."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    triangles: Annotated[float, Field(ge=0, le=1e12, title="Triangles")]
    values8: Annotated[float, Field(ge=0, le=1e13, title="8-bit texture values")] = 0.0
    values16: Annotated[float, Field(ge=0, le=1e13, title="16-bit texture values")] = 0.0
    pixels: Annotated[float, Field(ge=0, le=1e12, title="Pixels, all layers")] = 0.0
    samples: Annotated[float, Field(ge=0, le=1e12, title="Samples in flight")] = 0.0
    denoised: Annotated[float, Field(ge=0, le=1e12, title="Pixels denoised")] = 0.0

    def units(self) -> tuple[float, ...]:
        """Its parameters, bytes a unit, in the order of `UNITS`."""
        return (
            1.0,
            self.triangles,
            self.values8,
            self.values16,
            self.pixels,
            self.samples,
            self.denoised,
        )


class Logged(BaseModel):
    """A trial made with the other renderer: what it held, and the peak that was reported."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    load: Load
    peak_bytes: Annotated[float, Field(ge=1000, le=1e14)]
    note: Annotated[str, Field(max_length=200)] = ""


@dataclass(frozen=True)
class Fit:
    """A fitted profile.

    residuals : bytes by trial, what the profile says less what was reported.  decided : units that
    the trials tell about; the others kept what they had.
    """

    profile: MemoryProfile
    residuals: list[float]
    decided: tuple[str, ...]

    @property
    def rms(self) -> float:
        """The root of the mean square of the residuals, bytes."""
        return float(np.sqrt(np.mean(np.square(self.residuals)))) if self.residuals else 0.0


def predicted(profile: MemoryProfile, load: Load) -> float:
    """Bytes that a profile says."""
    return float(sum(getattr(profile, u) * n for u, n in zip(UNITS, load.units(), strict=True)))


def fit(profile: MemoryProfile, trials: list[Logged]) -> Fit:
    """The profile that fits the trials best: least squares of relative errors, nothing below 0.

    What the trials do not tell apart stays near the profile's own figures, which count a
    ten-thousandth as much as the trials do together.  Raises ValueError without any trial.
    """
    if not trials:
        raise ValueError("there is no trial to fit to")
    rows = np.array([t.load.units() for t in trials])
    peaks = np.array([t.peak_bytes for t in trials])
    own = np.array([getattr(profile, u) for u in UNITS])
    # In shares of a typical trial's memory, so that a triangle and a gigabyte can stand in one
    # equation.
    scale = np.abs(rows).max(0)
    used = np.flatnonzero(scale > 0)
    typical = float(np.median(peaks))
    unit = typical / scale[used]
    a = rows[:, used] * unit / peaks[:, None]
    usual = own[used] / unit
    pull = PULL * len(trials) * np.eye(len(used))
    found = nonnegative(a.T @ a + pull, a.T @ np.ones(len(trials)) + pull @ usual)
    new = own.copy()
    new[used] = found * unit
    # A direction counts as decided when the trials see most of it: they differ in it, and not only
    # together with others.
    seen = np.diag(np.linalg.pinv(a, rcond=1e-4) @ a)
    fitted = MemoryProfile(
        name=profile.name, **dict(zip(UNITS, (float(x) for x in new), strict=True))
    )
    return Fit(
        fitted,
        [predicted(fitted, t.load) - t.peak_bytes for t in trials],
        tuple(UNITS[u] for u, s in zip(used, seen, strict=True) if s > 0.9),
    )
