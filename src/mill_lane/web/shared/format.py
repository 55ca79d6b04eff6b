"""Figures as they are shown: three significant digits, units, the same unit down a column."""

from __future__ import annotations

import math
from collections.abc import Iterable
from typing import NamedTuple

from mill_lane.core.words import plural


def three(x: float) -> str:
    """Three significant digits without an exponent: 6.21, 62.1, 621, 6210."""
    if x == 0 or not math.isfinite(x):
        return "0" if x == 0 else "–"
    digits = max(0, 2 - math.floor(math.log10(abs(x))))
    text = f"{x:.{digits}f}"
    # Rounding may have added a digit before the point: 9.996 is 10.0, not 10.00.
    if digits and len(text.lstrip("-").replace(".", "").lstrip("0")) > 3:
        text = f"{x:.{digits - 1}f}"
    return text


def size(n: float) -> str:
    """Bytes as kB, MB or GB (10^3, 10^6, 10^9)."""
    for unit, scale in (("GB", 1e9), ("MB", 1e6), ("kB", 1e3)):
        if abs(n) >= scale * 0.9995:
            return f"{three(n / scale)} {unit}"
    return f"{n:.0f} B"


def gigabytes(n: float) -> str:
    """Bytes as GB with two decimals."""
    return f"{n / 1e9:.2f} GB"


def megabytes(n: float) -> str:
    """For columns: MB throughout."""
    return f"{n / 1e6:,.1f}" if abs(n) < 99.95e6 else f"{n / 1e6:,.0f}"


class Unit(NamedTuple):
    """The unit of a column, and how many bytes it is."""

    name: str
    bytes: float


UNITS = (Unit("MB", 1e6), Unit("kB", 1e3), Unit("B", 1.0))


def unit_for(values: Iterable[float]) -> Unit:
    """The unit in which a whole column of bytes can be read: that of its largest figure, MB at
    most.
    """
    most = max((abs(v) for v in values), default=0.0)
    return next((u for u in UNITS if most >= 0.9995 * u.bytes), UNITS[0])


def in_unit(n: float, unit: Unit) -> str:
    """Bytes in the unit of their column: one digit after the point, none from a hundred on."""
    value = n / unit.bytes
    return f"{value:,.0f}" if abs(value) >= 99.95 or unit.name == "B" else f"{value:,.1f}"


def count(n: float) -> str:
    """6.21 M, 48.0 k, 812."""
    if n >= 999_500:
        return f"{three(n / 1e6)} M"
    return f"{three(n / 1e3)} k" if n >= 9_995 else f"{n:,.0f}"


def duration(s: float | None) -> str:
    """0.42 s, 36.1 s, 4:40 (minutes), 14 h 20."""
    if s is None or not math.isfinite(s):
        return "–"
    if s < 99.95:
        return f"{three(s)} s"
    if s < 3570:
        return f"{int(s + 0.5) // 60}:{int(s + 0.5) % 60:02d} min"
    minutes = round(s / 60)
    return f"{minutes // 60} h {minutes % 60:02d}"


def predicted(s: float, margin: float) -> str:
    """A prediction with its margin in one unit: 14 h 20 ± 40 min, 46 ± 19 min, 36.1 ± 2.0 s."""
    if s < 99.95:
        return f"{three(s)} ± {s and float(f'{margin:.2g}'):g} s"
    if s < 5370:
        return f"{s / 60:.0f} ± {max(1, round(margin / 60))} min"
    return (
        f"{duration(s)} ± {round(margin / 60)} min"
        if margin < 5370
        else f"{s / 3600:.0f} ± {margin / 3600:.0f} h"
    )


def percent(x: float | None) -> str:
    """A share as a percentage of three figures; a dash where there is none."""
    return "–" if x is None or not math.isfinite(x) else f"{three(x * 100)} %"


def metres(x: float | None) -> str:
    """A distance; a dash where there is none."""
    return "–" if x is None else f"{x:.1f} m" if x < 999 else f"{x:,.0f} m"


def listed(names: Iterable[str], most: int = 3) -> str:
    """A few names, and how many more there are."""
    all_ = list(names)
    return ", ".join(all_[:most]) + (f" and {len(all_) - most} more" if len(all_) > most else "")


FILTERS = {
    f.__name__: f
    for f in (
        three,
        size,
        gigabytes,
        megabytes,
        unit_for,
        in_unit,
        count,
        duration,
        predicted,
        percent,
        metres,
        plural,
        listed,
    )
}
