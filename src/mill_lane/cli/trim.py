"""`mill-lane trim`: a lighter scene."""

from __future__ import annotations

from argparse import ArgumentParser
from pathlib import Path

from mill_lane.cli.command import Arguments, Command, Result, add_choices, telling
from mill_lane.cli.weigh import weighed_in_full
from mill_lane.core.recipe import FINAL

TEXTURES = "texture_size"


def add_arguments(sub: ArgumentParser) -> None:
    """Add the arguments of the command."""
    sub.add_argument("scene", type=Path)
    add_choices(sub)
    text = "a .glb, .obj, .zip, .usda, .usdc or .usdz, or a folder"
    sub.add_argument("--out", type=Path, required=True, help=text)
    sub.add_argument("--textures", choices=("distance", "footprint"), default="distance")


def run(args: Arguments) -> Result:
    """Write a lighter scene."""
    from mill_lane.core.devices.cpu import cpu_device, find_machine
    from mill_lane.core.formats.catalogue import written_endings
    from mill_lane.core.formats.choices import parse_choices
    from mill_lane.core.formats.opening import open_scene
    from mill_lane.core.formats.saving import save_scene
    from mill_lane.core.trim import TRIMS, apply_choices
    from mill_lane.core.trim.model import Choice, parameters_of
    from mill_lane.core.weigh.ledger import draw_up
    from mill_lane.core.weigh.measure import weigh

    scene = open_scene(args.scene, choices=parse_choices(args.choose))
    tell = telling(args)
    args.width, args.height, args.camera = FINAL.width, FINAL.height, None
    analysis = weighed_in_full(scene, args) if args.textures == "footprint" else weigh(scene)
    trim = TRIMS[TEXTURES]
    parameters = parameters_of(trim, {"rule": args.textures, "height": FINAL.height})
    proposals = trim.propose(lambda: scene, analysis, parameters)
    choices = [Choice(trim=p.trim, target=p.target, parameters=p.parameters) for p in proposals]
    trimmed, changes = apply_choices(scene, choices, lambda s, t: tell(0.8 * s, t))
    named = args.out.suffix.lower() in written_endings()
    out = args.out if named else args.out / f"{args.scene.stem}-trimmed.glb"
    out.parent.mkdir(parents=True, exist_ok=True)
    notes = save_scene(trimmed, out, lambda s, t: tell(0.8 + 0.2 * s, t))
    after, device = weigh(trimmed), cpu_device(find_machine())
    saved = sum(c.memory_saved_bytes for c in changes)
    if not args.json:
        print(f"{trim.summarise(changes)}; {saved / 1e6:,.0f} MB less in memory; {out}")
        for note in notes:
            print(f"note: {note.text}")
    return {
        "out": str(out),
        "changes": [c.as_json() for c in changes],
        "triangles": after.triangles,
        "unique_triangles": after.unique_triangles,
        "memory_before": draw_up(analysis, FINAL, device).total,
        "memory_after": draw_up(after, FINAL, device).total,
        "saved_bytes": saved,
        "file_bytes": out.stat().st_size,
        "notes": [{"code": n.code, "level": n.level, "text": n.text} for n in notes],
    }


TRIM = Command("trim", "Write a lighter scene.", add_arguments, run)
