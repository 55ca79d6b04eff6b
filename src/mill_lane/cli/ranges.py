"""What the commands for a range of frames share: its options, and what they say of the range."""

from __future__ import annotations

from argparse import ArgumentParser
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from mill_lane.cli.command import Arguments, add_choices
from mill_lane.cli.render import NUMBERS, as_framed, recipe_of, with_sky
from mill_lane.core.errors import MillError
from mill_lane.core.plan.run_sheet import RunSheet

if TYPE_CHECKING:
    from mill_lane.core.plan.way import Way
    from mill_lane.core.scene.model import Scene

FORMATS = ("exr", "png", "jpeg")
QUALITY = 90


def add_arguments(sub: ArgumentParser) -> None:
    """Add what both commands can be told."""
    sub.add_argument("scene", type=Path)
    add_choices(sub)
    sub.add_argument("--sheet", type=Path, help="a run sheet as JSON; the options below change it")
    sub.add_argument("--frames", metavar="LIST", help="1-160, 1-160x4 for every fourth, 12,40,96")
    sub.add_argument("--order", choices=("straight", "early"))
    sub.add_argument("--names", metavar="PATTERN", help="shot.####, without an ending")
    sub.add_argument("--formats", help="exr, png, jpeg, with commas between")
    sub.add_argument("--half", action="store_true", help="16 bits in EXR")
    sub.add_argument("--recipe", type=Path, help="a recipe as JSON; the options below change it")
    for name, kind in NUMBERS:
        sub.add_argument(f"--{name}", type=kind)
    sub.add_argument("--time", type=float, metavar="SECONDS", help="stop each frame after this")
    sub.add_argument("--layers", help="names of layers, with commas; see docs/terminal.md")
    sub.add_argument("--camera")
    text = "each in turn; {camera} in the names tells their files apart"
    sub.add_argument("--cameras", nargs="+", metavar="NAME", help=text)
    sub.add_argument("--sky", type=Path, help="an HDR or EXR picture of the sky")
    sub.add_argument("--out", type=Path, metavar="DIR", help="where frames are written")
    text = "steps that may be taken when memory fails, in their order, with commas; or none"
    sub.add_argument("--rungs", metavar="NAMES", help=text)


def sheet_of(args: Arguments, frames: tuple[int, int]) -> RunSheet:
    """The run sheet of a file, or all frames, with what the options change.

    Raises
    ------
    MillError
        Where the file cannot be read, or something is wrong.
    """
    try:
        values = (
            RunSheet.model_validate_json(args.sheet.read_text()).model_dump()
            if args.sheet
            else RunSheet(
                frames=f"{frames[0]}-{frames[1]}", order="straight", exr="float", png=False
            ).model_dump()
        )
        if args.formats is not None:
            wanted = [x.strip() for x in args.formats.split(",") if x.strip()]
            unknown = [x for x in wanted if x not in FORMATS]
            if unknown or not wanted:
                raise MillError(
                    f"“{args.formats}” names no formats.", f"Choose from {', '.join(FORMATS)}."
                )
            values["exr"] = (values["exr"] or "float") if "exr" in wanted else ""
            values["png"] = "png" in wanted
            values["jpeg"] = (values["jpeg"] or QUALITY) if "jpeg" in wanted else 0
        if args.half:
            values["exr"] = "half"
        if args.rungs is not None:
            named = [x.strip() for x in args.rungs.split(",")]
            values["rungs"] = [x for x in named if x and x != "none"]
        same = ("frames", "order", "cameras")
        for option, name in (*((x, x) for x in same), ("names", "name")):
            if getattr(args, option) is not None:
                values[name] = getattr(args, option)
        return RunSheet.model_validate(values)
    except (OSError, ValueError) as e:
        raise MillError(f"The run sheet is not right: {e}", "Correct it.") from e


@dataclass(frozen=True)
class Opened:
    """A scene, what is wanted of it through one camera, and how it would be rendered."""

    scene: Scene
    sheet: RunSheet
    way: Way
    camera: str = ""


def opened(args: Arguments) -> list[Opened]:
    """Open the scene, and read recipe and sheet: one for each camera.

    Raises
    ------
    MillError
        Where something is wrong.
    """
    from mill_lane.core.devices.cpu import cpu_device, find_machine
    from mill_lane.core.formats.choices import parse_choices
    from mill_lane.core.formats.opening import open_scene
    from mill_lane.core.plan.way import Way
    from mill_lane.core.weigh.measure import weigh

    recipe, _ = with_sky(args, recipe_of(args))
    recipe = recipe.model_copy(
        update={"layers": recipe.kept_layers, "camera": args.camera or recipe.camera}
    )
    scene = open_scene(args.scene, choices=parse_choices(args.choose))
    sheet = sheet_of(args, scene.frames)
    cpu = cpu_device(find_machine())
    out = []
    for camera, own in sheet.by_camera(scene.camera_names, recipe.camera):
        own.pattern()
        seen = recipe.model_copy(update={"camera": camera}) if sheet.cameras else recipe
        seen = as_framed(args, seen, scene)
        analysis = weigh(scene, seen.width / seen.height, seen.camera or None)
        way = Way(analysis, seen, cpu, cpu=cpu, far_m=own.far_m)
        out.append(Opened(scene, own, way, camera))
    return out
