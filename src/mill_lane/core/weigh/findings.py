"""What stands out in a scene, as data: a code, what it concerns, what it would save.

Each finding is one function below and one entry in `FINDINGS`; the words are the page's.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Iterable, Sequence
from typing import Any

from pydantic import BaseModel, ConfigDict

from mill_lane.core.weigh.analysis import Analysis, MeshRow, TextureRow
from mill_lane.core.weigh.rules import RULES
from mill_lane.core.weigh.rules.sizes import shrunk

# Common practice: subdivided far beyond a pixel when several triangles share one, over a picture's
# worth of them.
TOO_FINE = 2.0
WORTH = 100_000  # triangles below which nobody would thin a mesh
BLOWN = 0.0005  # of the picture
FAINT = 0.001  # of the light
SMALL = 0.05  # metres, of a light, before it is known how it looks


class Finding(BaseModel):
    """Something that stands out.

    Attributes
    ----------
    code : str
        What kind of thing it is.
    saving_bytes : int
        In memory, at most; 0 where it is not about memory.
    targets : list of str
        The names of what it concerns, the heaviest first.
    values : dict
        The figures behind it.
    """

    model_config = ConfigDict(frozen=True)

    code: str
    saving_bytes: int
    targets: list[str]
    values: dict[str, Any] = {}


Find = Callable[[Analysis, float], Iterable[Finding]]


def find(analysis: Analysis, height: int) -> list[Finding]:
    """Find everything that stands out, the largest saving first.

    Parameters
    ----------
    analysis : Analysis
        As far as weighing has come.
    height : int
        Of the final picture, pixels; what is seen of textures and triangles goes by it.
    """
    scale = height / analysis.visibility.height if analysis.visibility else 1.0
    out = [f for look_for in FINDINGS for f in look_for(analysis, scale)]
    return sorted(out, key=lambda f: -f.saving_bytes)


def held(rows: Iterable[MeshRow | TextureRow]) -> int:
    """Bytes in memory of some rows."""
    return sum(r.memory_bytes for r in rows)


def _names(rows: Sequence[MeshRow | TextureRow]) -> list[str]:
    return [r.name for r in sorted(rows, key=lambda r: -r.memory_bytes)]


def texels_wasted(analysis: Analysis, scale: float) -> Iterable[Finding]:
    """Textures with more texels than the shot can show."""
    rows = [t for t in analysis.textures if t.wasted_bytes(scale) > 0]
    if analysis.visibility is not None and rows:
        saving = sum(t.wasted_bytes(scale) for t in rows)
        of = held(analysis.textures)
        yield Finding(
            code="texels_wasted", saving_bytes=saving, targets=_names(rows), values={"held": of}
        )


def beyond_the_distance_rule(analysis: Analysis, scale: float) -> Iterable[Finding]:
    """Textures larger than the distance rule asks."""
    if analysis.visibility is not None:
        return  # what the shot shows is known: see `texels_wasted`
    limits = RULES["distance"].limits(analysis, 0)
    if limits:
        rows = [x.row for x in limits]
        after = sum(shrunk(x.row, x.limit)[1] for x in limits)
        yield Finding(
            code="distance_rule",
            saving_bytes=held(rows) - after,
            targets=_names(rows),
            values={"held": held(rows), "after": after},
        )


def stored_and_not_used(analysis: Analysis, scale: float) -> Iterable[Finding]:
    """Channels and bits that hold nothing; before that is known, textures with 16 bits."""
    idle = [t for t in analysis.textures if t.memory_bytes and t.lean_bytes < t.memory_bytes]
    if idle:
        yield Finding(
            code="unused_bits",
            saving_bytes=sum(t.memory_bytes - t.lean_bytes for t in idle),
            targets=[t.name for t in idle],
            values={"why": [t.why for t in idle]},
        )
    elif analysis.stage < 2:
        deep = [t for t in analysis.textures if t.bits > 8 and t.memory_bytes]
        if deep:
            yield Finding(
                code="deep_textures",
                saving_bytes=held(deep) // 2,
                targets=[t.name for t in deep],
                values={"held": held(deep)},
            )


def unused_pictures(analysis: Analysis, scale: float) -> Iterable[Finding]:
    """Textures that are stored and that nothing drawn uses."""
    idle = [t for t in analysis.textures if not t.memory_bytes and not t.missing]
    if idle:
        heaviest = sorted(idle, key=lambda t: -t.file_bytes)
        yield Finding(
            code="unused_pictures",
            saving_bytes=0,
            targets=[t.name for t in heaviest],
            values={"file_bytes": sum(t.file_bytes for t in idle)},
        )


def same_picture(analysis: Analysis, scale: float) -> Iterable[Finding]:
    """The same picture stored again."""
    again = [t for t in analysis.textures if t.same_as is not None and t.memory_bytes]
    if again:
        yield Finding(
            code="same_picture", saving_bytes=held(again), targets=[t.name for t in again]
        )


def duplicate_groups(analysis: Analysis) -> list[list[MeshRow]]:
    """Meshes that could be one, together with the one that they are copies of."""
    groups: dict[int, list[MeshRow]] = defaultdict(list)
    for m in analysis.meshes:
        groups[m.duplicate_of if m.duplicate_of is not None else m.index].append(m)
    return [g for g in groups.values() if len(g) > 1]


def duplicates(analysis: Analysis, scale: float) -> Iterable[Finding]:
    """Meshes that are copies of others."""
    groups = duplicate_groups(analysis)
    if groups:
        rows = [m for g in groups for m in g]
        could = sum(g[0].memory_bytes for g in groups)
        yield Finding(
            code="duplicates",
            saving_bytes=held(rows) - could,
            targets=[m.name for m in rows],
            values={
                "held": held(rows),
                "after": could,
                "groups": len(groups),
                "baked": sum(m.duplicate_baked for m in rows),
            },
        )


def never_matters(analysis: Analysis, scale: float) -> Iterable[Finding]:
    """Meshes that are never seen and light nothing; before that is known, those out of view."""
    known = analysis.visibility is not None
    rows = [m for m in analysis.meshes if (m.seen == "never" if known else not m.in_view)]
    if rows:
        # Textures that nothing else uses go with them.
        with_them = [
            t for t in analysis.textures if (t.seen == "never" if known else not t.in_view)
        ]
        yield Finding(
            code="never_matters" if known else "out_of_view",
            saving_bytes=held(rows) + held(with_them),
            targets=[m.name for m in rows],
        )


def too_fine(analysis: Analysis, scale: float) -> Iterable[Finding]:
    """Meshes with several triangles a pixel."""

    def density(m: MeshRow) -> float:
        return (m.triangles_per_px or 0.0) / scale**2

    rows = [m for m in analysis.meshes if m.triangles >= WORTH and density(m) > TOO_FINE]
    if rows:
        saving = sum(round(m.memory_bytes * (1 - TOO_FINE / density(m))) for m in rows)
        yield Finding(
            code="too_fine",
            saving_bytes=saving,
            targets=[m.name for m in rows],
            values={"triangles_per_px": TOO_FINE},
        )


def small_and_strong(analysis: Analysis, scale: float) -> Iterable[Finding]:
    """Lights that make noise: tiny and very bright."""
    lit = analysis.stage >= 4
    rows = [
        x
        for x in analysis.lights
        if (x.noisy if lit else x.kind == "emissive mesh" and 0 < x.size_m < SMALL)
    ]
    if rows:
        yield Finding(code="small_and_strong", saving_bytes=0, targets=[x.name for x in rows])


def idle_lights(analysis: Analysis, scale: float) -> Iterable[Finding]:
    """Lights that give next to nothing."""
    rows = [x for x in analysis.lights if x.share is not None and x.share < FAINT]
    if rows:
        yield Finding(code="idle_lights", saving_bytes=0, targets=[x.name for x in rows])


def blown_out(analysis: Analysis, scale: float) -> Iterable[Finding]:
    """Objects that are brighter than white."""
    if analysis.visibility is not None:
        blown = [(name, share) for name, share in analysis.visibility.blown if share >= BLOWN]
        if blown:
            yield Finding(
                code="blown_out",
                saving_bytes=0,
                targets=[name for name, _ in blown],
                values={"shares": [share for _, share in blown]},
            )


FINDINGS: tuple[Find, ...] = (
    texels_wasted,
    beyond_the_distance_rule,
    stored_and_not_used,
    unused_pictures,
    same_picture,
    duplicates,
    never_matters,
    too_fine,
    small_and_strong,
    idle_lights,
    blown_out,
)
