"""The Scene station: findings, tables, plan."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass

from mill_lane.core.trim.distance import by_distance
from mill_lane.core.weigh.inventory import Inventory, MeshRow
from mill_lane.web.format import count, listed, plural, size


@dataclass(frozen=True)
class Finding:
    text: str
    saving: str
    query: str


def headline(i: Inventory) -> str:
    return (
        f"{count(i.triangles)} triangles, {plural(sum(t.memory_bytes > 0 for t in i.textures), 'texture')}, "
        f"{plural(len(i.lights), 'light')}"
    )


def findings(i: Inventory) -> list[Finding]:
    """What stands out, the largest saving first."""
    out: list[tuple[int, Finding]] = []
    proposals = by_distance(i)
    if proposals:
        old, new = sum(p.old_bytes for p in proposals), sum(p.new_bytes for p in proposals)
        text = f"{plural(len(proposals), 'texture')} larger than the distance rule asks"
        out.append((old - new, Finding(text, f"{size(old)} → {size(new)}", "tab=textures")))
    groups: dict[int, list[MeshRow]] = defaultdict(list)
    for m in i.meshes:
        groups[m.twin_of if m.twin_of is not None else m.index].append(m)
    twins = [g for g in groups.values() if len(g) > 1]
    if twins:
        n = sum(len(g) for g in twins)
        held, could = sum(m.memory_bytes for g in twins for m in g), sum(g[0].memory_bytes for g in twins)
        baked = sum(m.twin_baked for g in twins for m in g)
        text = f"{n} meshes are copies of {len(twins)}" + (f", {baked} of them turned, mirrored or scaled" if baked else "")
        out.append((held - could, Finding(text, f"{size(held)} could be {size(could)}", "tab=meshes&q=copy")))
    unseen = [m for m in i.meshes if not m.in_view]
    if unseen:
        text = f"Never in the picture: {listed(m.name for m in unseen)}"
        held = sum(m.memory_bytes for m in unseen)
        # Textures that nothing in the picture uses go with them.
        held += sum(t.memory_bytes for t in i.textures if not t.in_view)
        out.append((held, Finding(text, f"{size(held)} with their textures", "tab=meshes&q=not+seen")))
    wide = [t for t in i.textures if t.bits > 8 and t.memory_bytes]
    if wide:
        held = sum(t.memory_bytes for t in wide)
        text = f"{plural(len(wide), 'texture')} with 16 bits: {listed(t.name for t in wide)}"
        out.append((held // 2, Finding(text, f"{size(held)} held", "tab=textures")))
    small = [x for x in i.lights if x.kind == "glowing mesh" and 0 < x.size_m < 0.05]
    if small:
        out.append((0, Finding(f"Small and strong: {listed(x.name for x in small)}", "grain", "tab=lights")))
    return [f for _, f in sorted(out, key=lambda x: -x[0])]
