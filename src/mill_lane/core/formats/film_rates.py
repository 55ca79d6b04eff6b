"""Frames a second that a film may have."""

from __future__ import annotations

from mill_lane.core.errors import MillError

RATES = (1.0, 120.0)


def check_rate(rate: float) -> None:
    """Raise MillError for a rate that no film has."""
    if not RATES[0] <= rate <= RATES[1]:
        raise MillError(
            f"{rate:g} frames a second is not between {RATES[0]:g} and {RATES[1]:g}.",
            "24, 25 and 30 are usual.",
        )
