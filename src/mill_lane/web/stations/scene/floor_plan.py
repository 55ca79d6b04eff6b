"""The floor plan: the scene from above, laid out for SVG."""

from __future__ import annotations

import json
import math
from collections.abc import Collection
from dataclasses import dataclass

from mill_lane.core.weigh.analysis import Analysis, MeshRow
from mill_lane.core.weigh.frames import frames_looked_at
from mill_lane.core.weigh.outlines import ObjectOutline

WIDTH, HEIGHT = 620.0, 470.0
MARGIN = 16.0
REACH = 24.0  # metres round the camera
MOST_OUTLINES = 1500  # that are drawn, the largest first
# Shades are steps from light to dark; their colours are the tokens shade-0 to shade-4.
UNKNOWN = "unknown"


@dataclass(frozen=True)
class Shading:
    """What the plan's shades mean: steps between them, and how they are said."""

    title: str
    steps: tuple[float, ...]
    words: tuple[str, ...]


SHADINGS = {
    "memory": Shading("memory", (1e6, 4e6, 16e6, 64e6), ("under 1 MB", "4", "16", "64", "more")),
    "density": Shading(
        "triangles a pixel", (0.1, 1.0, 2.0, 10.0), ("under 0.1", "1", "2", "10", "more")
    ),
    "texels": Shading(
        "texels wasted", (1e6, 30e6, 100e6, 300e6), ("under 1 MB", "30", "100", "300", "more")
    ),
    "seen": Shading(
        "seen or not", (1, 2, 3, 4), ("seen", "in reflection", "lights only", "never", "")
    ),
}


@dataclass(frozen=True)
class ShownOutline:
    """An object as it is drawn; `shade` is a step of the shading, or UNKNOWN."""

    name: str
    mesh: int
    points: str
    shade: str
    chosen: bool
    area: float


@dataclass(frozen=True)
class Label:
    """A name on the plan."""

    text: str
    x: float
    y: float


@dataclass(frozen=True)
class FloorPlan:
    """The drawing, in pixels."""

    outlines: list[ShownOutline]
    wedge: str
    path: str
    camera: tuple[float, float]
    bands: list[tuple[float, str, float, float, float]]  # radius, text, x, y of the text, metres
    labels: list[Label]
    squeezed: bool
    beyond: int
    small: int  # that are left out where there are very many
    scale_px: float
    scale_m: int
    legend: list[tuple[str, str]]  # shade and words
    shading: str
    track: str  # JSON for scrubbing: frames, and for each x, y and the wedge's two ends


def floor_plan(
    analysis: Analysis,
    chosen: Collection[int],
    shade: str = "memory",
    scale_px: float = 1.0,
    frame: int | None = None,
) -> FloorPlan:
    """Lay out the plan: the file's own axes, X right and Z down.

    `chosen` are the meshes marked; `shade` is one of SHADINGS; `scale_px` the height of the final
    picture over that of the figures in pixels; the wedge stands where the camera is in `frame`, or
    in the first.

    What lies far beyond the ten-metre band would shrink the room to a spot, so the view frames what
    lies within 24 m of the camera; larger things run over its edge, and what is farther is counted,
    not drawn.
    """
    cx, cz = analysis.camera_path[0]
    near = [
        f.points
        for f in analysis.outlines
        if all(math.hypot(x - cx, z - cz) < REACH for x, z in f.points)
    ]
    points = [p for outline in near for p in outline]
    points += analysis.camera_path
    lo_x, hi_x = min(p[0] for p in points), max(p[0] for p in points)
    lo_z, hi_z = min(p[1] for p in points), max(p[1] for p in points)
    scale = min(
        (WIDTH - 2 * MARGIN) / max(hi_x - lo_x, 1e-6),
        (HEIGHT - 2 * MARGIN) / max(hi_z - lo_z, 1e-6),
    )
    mid_x, mid_z = (lo_x + hi_x) / 2, (lo_z + hi_z) / 2

    def at(x: float, z: float) -> tuple[float, float]:
        return round(WIDTH / 2 + (x - mid_x) * scale, 1), round(HEIGHT / 2 + (z - mid_z) * scale, 1)

    shading = SHADINGS[shade]
    rows = {m.index: m for m in analysis.meshes}
    wasted = {t.index: t.wasted_bytes(scale_px) for t in analysis.textures}
    outlines: list[ShownOutline] = []
    labels: list[Label] = []
    beyond = 0
    for f in analysis.outlines:
        nearest = min(math.hypot(x - cx, z - cz) for x, z in f.points)
        if nearest > REACH and not around(f.points, cx, cz):
            beyond += 1
            continue
        drawn = [at(x, z) for x, z in f.points]
        area = _area(drawn)
        value = _value(f, rows.get(f.mesh), wasted, shade, scale_px)
        colour = UNKNOWN if value is None else str(sum(value >= s for s in shading.steps))
        outlines.append(
            ShownOutline(
                f.name,
                f.mesh,
                " ".join(f"{x},{y}" for x, y in drawn),
                colour,
                f.mesh in chosen,
                area,
            )
        )
    small = max(0, len(outlines) - MOST_OUTLINES)
    outlines = sorted(outlines, key=lambda o: (not o.chosen, -o.area))[:MOST_OUTLINES]
    outlines.sort(key=lambda o: (o.chosen, -o.area))
    for o in sorted(outlines, key=lambda o: -o.area)[:40]:
        corner = [tuple(map(float, p.split(","))) for p in o.points.split()]
        x, y = sum(p[0] for p in corner) / len(corner), sum(p[1] for p in corner) / len(corner)
        room = max(p[0] for p in corner) - min(p[0] for p in corner)
        tall = max(p[1] for p in corner) - min(p[1] for p in corner)
        wide = 6.6 * len(o.name)
        free = all(
            abs(x - b.x) > (wide + 6.6 * len(b.text)) / 2 or abs(y - b.y) > 14 for b in labels
        )
        if room > wide + 4 and 14 < tall < 200 and free:
            labels.append(Label(o.name, round(x, 1), round(y + 4, 1)))
    frames = frames_looked_at(analysis.frames)
    now = min(
        range(len(frames)),
        key=lambda k: abs(frames[k] - (frame if frame is not None else frames[0])),
    )
    stations = []
    for (px, pz), (ax, az) in zip(analysis.camera_path, analysis.camera_ahead, strict=True):
        n = math.hypot(ax, az) or 1.0
        ends: list[float] = []
        for sign in (-1, 1):
            a = sign * analysis.camera_half_angle
            dx, dz = (
                (ax * math.cos(a) - az * math.sin(a)) / n,
                (ax * math.sin(a) + az * math.cos(a)) / n,
            )
            ends += at(px + 60.0 * dx, pz + 60.0 * dz)
        stations.append((*at(px, pz), *ends))
    x0, y0, *far = stations[now]
    wedge = " ".join(f"{_plain(x)},{_plain(y)}" for x, y in ((x0, y0), far[:2], far[2:]))
    path = " ".join(f"{x},{y}" for x, y in (at(x, z) for x, z in analysis.camera_path))
    bands = []
    for metres in (3.0, 10.0):
        r = metres * scale
        bands.append((round(r, 1), f"{metres:.0f} m", x0, round(y0 - r - 4, 1), metres))
    step = next((s for s in (1, 2, 5, 10, 20, 50, 100, 500) if s * scale > 50), 1000)
    legend = [(str(i), word) for i, word in enumerate(shading.words) if word]
    track = json.dumps({"frames": frames, "stations": stations})
    return FloorPlan(
        outlines,
        wedge,
        path,
        (x0, y0),
        bands,
        labels,
        beyond > 0,
        beyond,
        small,
        round(step * scale, 1),
        step,
        legend,
        shade,
        track,
    )


def _value(
    f: ObjectOutline, row: MeshRow | None, wasted: dict[int, int], shade: str, scale: float
) -> float | None:
    """What an object is shaded by; None where it is not known."""
    if shade == "memory" or row is None:
        return float(f.memory_bytes)
    if shade == "density":
        return row.triangles_per_px / scale**2 if row.triangles_per_px is not None else None
    if shade == "texels":
        return float(sum(wasted.get(i, 0) for i in row.images)) if row.seen is not None else None
    return (
        float({"camera": 0, "reflection": 1, "light_only": 2, "never": 3}[f.seen])
        if f.seen
        else None
    )


def around(outline: list[tuple[float, float]], x: float, z: float) -> bool:
    """Whether an outline goes round a point, by its box."""
    xs, zs = [p[0] for p in outline], [p[1] for p in outline]
    return min(xs) <= x <= max(xs) and min(zs) <= z <= max(zs)


def _plain(x: float) -> str:
    """A rounded number as scripts write it, so that both draw the same attribute: 12, not 12.0."""
    return str(x + 0.0).removesuffix(".0")


def _area(points: list[tuple[float, float]]) -> float:
    n = len(points)
    return (
        abs(
            sum(
                points[i][0] * points[(i + 1) % n][1] - points[(i + 1) % n][0] * points[i][1]
                for i in range(n)
            )
        )
        / 2
    )
