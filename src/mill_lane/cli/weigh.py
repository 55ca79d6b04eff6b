"""`mill-lane weigh`: counting and measuring a scene."""

from __future__ import annotations

from argparse import ArgumentParser
from pathlib import Path
from typing import TYPE_CHECKING, Any

from mill_lane.cli.command import Arguments, Command, Result, add_choices, telling, whole_numbers
from mill_lane.core.recipe import FINAL
from mill_lane.core.words import plural

if TYPE_CHECKING:
    from mill_lane.core.scene.model import Scene
    from mill_lane.core.weigh.analysis import Analysis


def add_arguments(sub: ArgumentParser) -> None:
    """Add the arguments of the command."""
    sub.add_argument("scene", type=Path)
    add_choices(sub)
    sub.add_argument("--camera")
    sub.add_argument("--frames", metavar="A-B")
    sub.add_argument("--width", type=int, default=FINAL.width)
    sub.add_argument("--height", type=int, default=FINAL.height)
    text = "also decode every picture, and look at the shot from all its frames"
    sub.add_argument("--full", action="store_true", help=text)


def run(args: Arguments) -> Result:
    """Count and measure a scene."""
    from dataclasses import replace

    from mill_lane.core.devices.cpu import cpu_device, find_machine
    from mill_lane.core.formats.choices import parse_choices
    from mill_lane.core.formats.opening import open_scene
    from mill_lane.core.weigh.ledger import draw_up, judge
    from mill_lane.core.weigh.measure import weigh

    scene = open_scene(args.scene, choices=parse_choices(args.choose))
    if args.frames:
        first, last = whole_numbers(args.frames, "-", 2, "Frames")
        scene = replace(scene, frames=(first, max(first, last)))
    aspect = args.width / args.height
    analysis = weighed_in_full(scene, args) if args.full else weigh(scene, aspect, args.camera)
    recipe = FINAL.model_copy(update={"width": args.width, "height": args.height})
    device = cpu_device(find_machine())
    ledger = draw_up(analysis, recipe, device)
    verdict = judge(ledger, device.free_bytes)
    fit = {
        "device": device.name,
        "fits": verdict.fits,
        "over_bytes": max(0, -verdict.headroom),
        "step": verdict.failing.name if verdict.failing else None,
    }
    result = as_json(analysis, args.height) | {"memory": ledger.as_json(), "fit": fit}
    if not args.json:
        _tell(analysis, ledger.as_json())
    return result


def as_json(analysis: Analysis, height: int) -> Result:
    """What is known of a scene, under the keys that scripts rely on."""
    from mill_lane.core.weigh.findings import duplicate_groups, find

    looked = analysis.visibility
    scale = height / looked.height if looked else 1.0
    needs = {
        t.name: [round(x * scale, 2) for x in t.texel_need]
        for t in analysis.textures
        if t.texel_need is not None
    }
    textures = [
        {**t.model_dump(), "wasted_bytes": t.wasted_bytes(scale)} for t in analysis.textures
    ]
    out: Result = {
        "triangles": analysis.triangles,
        "unique_triangles": analysis.unique_triangles,
        "instances": analysis.instances,
        "meshes": [{**m.model_dump(), "memory_bytes": m.memory_bytes} for m in analysis.meshes],
        "textures": textures,
        "lights": [x.model_dump() for x in analysis.lights],
        "cameras": [{"name": name, "used": name == analysis.camera} for name in analysis.cameras],
        "frames": list(analysis.frames),
        "notes": [{"code": n.code, "level": n.level, "text": n.text} for n in analysis.notes],
        "duplicate_groups": [[m.name for m in g] for g in duplicate_groups(analysis)],
        "findings": [
            f.model_dump(include={"code", "saving_bytes", "targets"})
            for f in find(analysis, height)
        ],
        "visibility": looked.model_dump(exclude={"overlap"}) if looked else None,
    }
    if looked is not None:
        out["seen"] = {o.name: o.seen for o in analysis.outlines}
        out["texel_need"] = needs
        out["transparency_depth"] = looked.transparency_depth
    return out


def _tell(analysis: Analysis, memory: dict[str, Any]) -> None:
    from mill_lane.core.weigh.counts import texture_counts

    print(
        f"{analysis.triangles:,} triangles drawn, {analysis.unique_triangles:,} stored, "
        f"{analysis.instances} placed meshes"
    )
    print(f"{texture_counts(analysis).words}, {plural(len(analysis.lights), 'light')}")
    for kind, n in memory.items():
        print(f"{kind:>14} {n / 1e6:10,.1f} MB")
    for note in analysis.notes:
        print(f"note: {note.text}")


def weighed_in_full(scene: Scene, args: Arguments) -> Analysis:
    """Weigh a scene in full, with progress on the terminal."""
    from mill_lane.core.progress import part
    from mill_lane.core.render.session import threads_to_use
    from mill_lane.core.weigh.full import weigh_full
    from mill_lane.work.warm import prepare

    tell = telling(args)
    prepare(part(tell, 0.0, 0.1))
    aspect = args.width / args.height
    return weigh_full(scene, aspect, args.camera, threads_to_use(64), part(tell, 0.1, 1.0))


WEIGH = Command("weigh", "Count and measure a scene.", add_arguments, run)
