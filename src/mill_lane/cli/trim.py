"""`mill-lane trim`: a lighter scene."""

from __future__ import annotations

import json
from argparse import ArgumentParser
from pathlib import Path
from typing import TYPE_CHECKING, Any

from mill_lane.cli.command import Arguments, Command, Result, add_choices, telling
from mill_lane.cli.weigh import weighed_in_full
from mill_lane.core.recipe import FINAL

if TYPE_CHECKING:
    from mill_lane.core.scene.model import Note, Scene
    from mill_lane.core.trim.model import Change

UNSEEN = ("same_material", "instances")  # trims that need no look at the shot
# Which trims each option stands for.
OPTIONS = {
    "jpeg": ("texture_jpeg",),
    "channels": ("same_picture", "constant_texture", "packed_maps", "texture_channels"),
    "instances": ("same_material", "instances"),
    "decimate": ("decimate",),
    "cull": ("fog", "leave_out"),
    "lights": ("weak_lights",),
}


def add_arguments(sub: ArgumentParser) -> None:
    """Add the arguments of the command."""
    sub.add_argument("scene", type=Path)
    add_choices(sub)
    text = "a .glb, .obj, .zip, .usda, .usdc or .usdz, or a folder"
    sub.add_argument("--out", type=Path, required=True, help=text)
    text = "USD that came in layers goes out as one"
    sub.add_argument("--flat", action="store_true", help=text)
    text = "smaller textures by a rule; by distance where nothing else is asked"
    sub.add_argument("--textures", choices=("distance", "footprint"), help=text)
    sub.add_argument("--jpeg", action="store_true", help="JPEG where the role allows it")
    text = "equal and single-value pictures, idle channels and bits"
    sub.add_argument("--channels", action="store_true", help=text)
    sub.add_argument("--instances", action="store_true", help="copies as instances")
    text = "fewer triangles, by pixels of error on screen"
    sub.add_argument("--decimate", type=float, metavar="PIXELS", help=text)
    text = "subdivision surfaces by the length of edges on screen"
    sub.add_argument("--edge", type=float, metavar="PIXELS", help=text)
    sub.add_argument("--cull", action="store_true", help="leave out what never matters")
    sub.add_argument("--lights", action="store_true", help="put out lights that give nothing")
    text = "the trim list, .csv or .json"
    sub.add_argument("--list", type=Path, metavar="FILE", help=text)
    text = "the changed pictures under their own names"
    sub.add_argument("--pictures", type=Path, metavar="FILE.zip", help=text)


def wanted_trims(args: Arguments) -> dict[str, dict[str, Any]]:
    """The trims that the options ask for, with their parameters, in the order of the registry."""
    from mill_lane.core.trim import TRIMS

    asked: dict[str, dict[str, Any]] = {}
    for option, names in OPTIONS.items():
        if getattr(args, option):
            asked |= {name: {} for name in names}
    if args.decimate is not None:
        asked["decimate"] = {"pixels": args.decimate}
    if args.edge is not None:
        asked["dicing"] = {"edge": args.edge, "finer": True}
    if args.textures or not asked:
        asked["texture_size"] = {"rule": args.textures or "distance"}
    return {trim.name: asked[trim.name] for trim in TRIMS if trim.name in asked}


def run(args: Arguments) -> Result:
    """Write a lighter scene."""
    from mill_lane.core.devices.cpu import cpu_device, find_machine
    from mill_lane.core.formats.catalogue import written_endings
    from mill_lane.core.formats.choices import parse_choices
    from mill_lane.core.formats.opening import open_scene
    from mill_lane.core.formats.saving import save_scene
    from mill_lane.core.trim import TRIMS, apply_choices
    from mill_lane.core.trim.model import parameters_of
    from mill_lane.core.weigh.ledger import draw_up
    from mill_lane.core.weigh.measure import weigh

    scene = open_scene(args.scene, choices=parse_choices(args.choose))
    tell = telling(args)
    args.width, args.height, args.camera = FINAL.width, FINAL.height, None
    wanted = wanted_trims(args)
    known = wanted == {"texture_size": {"rule": "distance"}} or not set(wanted) - set(UNSEEN)
    analysis = weigh(scene) if known else weighed_in_full(scene, args)
    proposals = []
    for name, values in wanted.items():
        trim = TRIMS[name]
        height = {"height": FINAL.height} if trim.by_size else {}
        parameters = parameters_of(trim, {**values, **height})
        proposals += trim.propose(lambda: scene, analysis, parameters, lambda s, t: tell(0.0, t))
    choices = [p.choice for p in proposals if not p.left_alone]
    trimmed, changes = apply_choices(scene, choices, lambda s, t: tell(0.8 * s, t))
    why = {(p.trim, p.target.key): TRIMS[p.trim].explain(p) for p in proposals}
    changes = [c.model_copy(update={"why": why.get((c.kind, c.key), "")}) for c in changes]
    named = args.out.suffix.lower() in written_endings()
    out = args.out if named else args.out / f"{args.scene.stem}-trimmed.glb"
    out.parent.mkdir(parents=True, exist_ok=True)
    notes = save_scene(trimmed, out, lambda s, t: tell(0.8 + 0.2 * s, t), flat=args.flat)
    notes += _beside(args, scene, trimmed, changes)
    after, device = weigh(trimmed), cpu_device(find_machine())
    saved = sum(c.memory_saved_bytes for c in changes)
    left = [p for p in proposals if p.left_alone]
    if not args.json:
        for name in dict.fromkeys(c.kind for c in changes):
            print(TRIMS[name].summarise([c for c in changes if c.kind == name]))
        print(f"{saved / 1e6:,.0f} MB less in memory; {out}")
        for p in left:
            print(f"left alone: {p.target.name}: {p.left_alone}")
        for note in notes:
            print(f"note: {note.text}")
    return {
        "out": str(out),
        "changes": [c.as_json() for c in changes],
        "left_alone": [{"target": p.target.name, "why": p.left_alone} for p in left],
        "triangles": after.triangles,
        "unique_triangles": after.unique_triangles,
        "memory_before": draw_up(analysis, FINAL, device).total,
        "memory_after": draw_up(after, FINAL, device).total,
        "saved_bytes": saved,
        "file_bytes": out.stat().st_size,
        "notes": [{"code": n.code, "level": n.level, "text": n.text} for n in notes],
    }


def _beside(args: Arguments, scene: Scene, trimmed: Scene, changes: list[Change]) -> list[Note]:
    """Write the list and the pictures that are asked for beside the scene."""
    from mill_lane.core.trim.report import as_csv, report_rows
    from mill_lane.core.trim.take_home import write_pictures_zip

    if args.list is not None:
        rows = report_rows(changes)
        as_json = args.list.suffix.lower() == ".json"
        args.list.write_text(json.dumps({"changes": rows}, indent=1) if as_json else as_csv(rows))
    return write_pictures_zip(scene, trimmed, args.pictures) if args.pictures else []


TRIM = Command("trim", "Write a lighter scene.", add_arguments, run)
