"""The distance rule: which textures are larger than anything nearer than a distance can show."""

from __future__ import annotations

from dataclasses import dataclass

from mill_lane.core.render.mip_chain import chain_values
from mill_lane.core.weigh.analysis import Analysis, TextureRow

# Common practice: nearer than 3 m 4096 px, 3 to 10 m 2048 px, farther 1024 or 512 px.  The trade
# does not say where 512 begins; three times as far again is ours.
BANDS = ((3.0, 4096), (10.0, 2048), (30.0, 1024))
FARTHEST = 512


@dataclass(frozen=True)
class Proposal:
    """A texture that could be smaller."""

    image: int
    name: str
    nearest_m: float
    old: tuple[int, int]
    new: tuple[int, int]
    old_bytes: int  # in memory
    new_bytes: int
    reason: str

    @property
    def saves(self) -> int:
        return self.old_bytes - self.new_bytes


def side_limit(distance: float) -> int:
    """The longest side in pixels for something at this distance in metres.

    3 m itself belongs to the middle band, and so does 10 m ("3 to 10 m"); 30 m belongs to the
    farthest.
    """
    if distance < BANDS[0][0]:
        return BANDS[0][1]
    if distance <= BANDS[1][0]:
        return BANDS[1][1]
    return BANDS[2][1] if distance < BANDS[2][0] else FARTHEST


def halvings(width: int, height: int, limit: int) -> int:
    """How often a picture must be halved until its longer side is within the limit."""
    n = 0
    while max(width >> n, height >> n) > limit:
        n += 1
    return n


def by_distance(analysis: Analysis) -> list[Proposal]:
    """What the distance rule asks for, the largest saving first.

    Missing and unused textures are left alone.
    """
    out = []
    for t in analysis.textures:
        if t.missing or t.memory_bytes == 0 or t.nearest_m is None:
            continue
        limit = side_limit(t.nearest_m)
        if halvings(t.width, t.height, limit):
            new, held = shrunk(t, limit)
            why = f"never nearer than {t.nearest_m:.1f} m: {limit} px"
            out.append(
                Proposal(
                    t.index,
                    t.name,
                    t.nearest_m,
                    (t.width, t.height),
                    new,
                    t.memory_bytes,
                    held,
                    why,
                )
            )
    return sorted(out, key=lambda p: (-p.saves, p.image))


def shrunk(t: TextureRow, limit: int) -> tuple[tuple[int, int], int]:
    """A texture's pixels, and its bytes in memory, once its longer side is within the limit."""
    n = halvings(t.width, t.height, limit)
    new = max(1, t.width >> n), max(1, t.height >> n)
    return new, chain_values(*new, t.channels) * (2 if t.bits > 8 else 1)
