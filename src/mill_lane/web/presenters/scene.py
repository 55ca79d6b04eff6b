"""The Scene station: what stands out, in plain words, the heaviest first."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass

from mill_lane.core.trim.distance import by_distance
from mill_lane.core.weigh.analysis import Analysis, MeshRow
from mill_lane.web.format import count, listed, percent, plural, size

# Common practice: subdivided far beyond a pixel when several triangles share one, over a picture's
# worth of them.
TOO_FINE = 2.0
WORTH = 100_000  # triangles below which nobody would thin a mesh
BLOWN = 0.0005  # of the picture


@dataclass(frozen=True)
class Finding:
    text: str
    saving: str
    query: str


def headline(i: Analysis) -> str:
    return (
        f"{count(i.triangles)} triangles, {plural(sum(t.memory_bytes > 0 for t in i.textures), 'texture')}, "
        f"{plural(len(i.lights), 'light')}"
    )


def findings(i: Analysis, scale: float = 1.0) -> list[Finding]:
    """What stands out, the largest saving first; `scale` is the height of the final picture over
    `Visibility.height`.
    """
    out = [*_textures(i, scale), *_meshes(i, scale), *_lights(i)]
    return [f for _, f in sorted(out, key=lambda x: -x[0])]


def _textures(i: Analysis, scale: float) -> list[tuple[int, Finding]]:
    out: list[tuple[int, Finding]] = []
    held = sum(t.memory_bytes for t in i.textures)
    proposals = by_distance(i)
    wasted = sum(t.wasted_bytes(scale) for t in i.textures)
    if i.visibility is not None and wasted:
        n = sum(t.wasted_bytes(scale) > 0 for t in i.textures)
        text = f"{plural(n, 'texture has', 'textures have')} more texels than the shot can show"
        out.append(
            (
                wasted,
                Finding(
                    text, f"{size(held)} could be {size(held - wasted)}", "tab=textures&sort=wasted"
                ),
            )
        )
    if proposals:
        old, new = sum(p.old_bytes for p in proposals), sum(p.new_bytes for p in proposals)
        text = f"{plural(len(proposals), 'texture')} larger than the distance rule asks"
        out.append((old - new, Finding(text, f"{size(old)} → {size(new)}", "tab=textures")))
    idle = [t for t in i.textures if t.memory_bytes and t.lean_bytes < t.memory_bytes]
    if idle:
        saved = sum(t.memory_bytes - t.lean_bytes for t in idle)
        text = f"Stored and not used: {listed(f'{t.name} ({t.why})' for t in idle)}"
        out.append(
            (saved, Finding(text, f"{size(saved)} for nothing", "tab=textures&q=unused+bits"))
        )
    elif i.stage < 2 and (wide := [t for t in i.textures if t.bits > 8 and t.memory_bytes]):
        deep = sum(t.memory_bytes for t in wide)
        text = f"{plural(len(wide), 'texture')} with 16 bits: {listed(t.name for t in wide)}"
        out.append((deep // 2, Finding(text, f"{size(deep)} held", "tab=textures")))
    double = [t for t in i.textures if t.same_as is not None and t.memory_bytes]
    if double:
        saved = sum(t.memory_bytes for t in double)
        out.append(
            (
                saved,
                Finding(
                    f"The same picture again: {listed(t.name for t in double)}",
                    size(saved),
                    "tab=textures&q=same",
                ),
            )
        )
    return out


def _meshes(i: Analysis, scale: float) -> list[tuple[int, Finding]]:
    out: list[tuple[int, Finding]] = []
    groups: dict[int, list[MeshRow]] = defaultdict(list)
    for m in i.meshes:
        groups[m.duplicate_of if m.duplicate_of is not None else m.index].append(m)
    duplicates = [g for g in groups.values() if len(g) > 1]
    if duplicates:
        n = sum(len(g) for g in duplicates)
        held, could = (
            sum(m.memory_bytes for g in duplicates for m in g),
            sum(g[0].memory_bytes for g in duplicates),
        )
        baked = sum(m.duplicate_baked for g in duplicates for m in g)
        text = f"{n} meshes are copies of {len(duplicates)}" + (
            f", {baked} of them turned, mirrored or scaled" if baked else ""
        )
        out.append(
            (
                held - could,
                Finding(text, f"{size(held)} could be {size(could)}", "tab=meshes&q=copy"),
            )
        )
    looked = i.visibility is not None
    unseen = [m for m in i.meshes if (m.seen == "never" if looked else not m.in_view)]
    if unseen:
        text = f"{'Never matters to' if looked else 'Never in'} the picture: {listed(m.name for m in unseen)}"
        held = sum(m.memory_bytes for m in unseen)
        # Textures that nothing else uses go with them.
        held += sum(
            t.memory_bytes for t in i.textures if (t.seen == "never" if looked else not t.in_view)
        )
        word = "never" if looked else "not+in+view"
        out.append(
            (held, Finding(text, f"{size(held)} with their textures", f"tab=meshes&q={word}"))
        )
    fine = [
        m
        for m in i.meshes
        if m.triangles >= WORTH
        and m.triangles_per_px is not None
        and m.triangles_per_px / scale**2 > TOO_FINE
    ]
    if fine:
        # What two triangles a pixel would take.
        saved = sum(
            round(m.memory_bytes * (1 - TOO_FINE * scale**2 / (m.triangles_per_px or 1)))
            for m in fine
        )
        text = f"Finer than {TOO_FINE:.0f} triangles a pixel: {listed(m.name for m in fine)}"
        out.append((saved, Finding(text, f"{size(saved)} beyond that", "tab=meshes&sort=density")))
    return out


def _lights(i: Analysis) -> list[tuple[int, Finding]]:
    out: list[tuple[int, Finding]] = []
    small = [
        x
        for x in i.lights
        if (x.noisy if i.stage >= 4 else x.kind == "emissive mesh" and 0 < x.size_m < 0.05)
    ]
    if small:
        out.append(
            (
                0,
                Finding(
                    f"Small and strong: {listed(x.name for x in small)}", "grain", "tab=lights"
                ),
            )
        )
    idle = [x for x in i.lights if x.share is not None and x.share < 0.001]
    if idle:
        each = (
            "lights give less than 0.1 % of the light each"
            if len(idle) > 1
            else "light gives less than 0.1 % of it"
        )
        text = f"{len(idle)} {each}: {listed(x.name for x in idle)}"
        out.append((0, Finding(text, "time", "tab=lights&sort=share&turned=true")))
    if i.visibility is not None:
        blown = [(name, share) for name, share in i.visibility.blown if share >= BLOWN]
        if blown:
            text = f"Brighter than white: {listed(f'{name} ({percent(share)} of the picture)' for name, share in blown)}"
            out.append((0, Finding(text, "blown out", "tab=transparency")))
    return out
