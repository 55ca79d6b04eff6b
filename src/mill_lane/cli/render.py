"""`mill-lane render`: a frame, or a region of it, to an EXR."""

from __future__ import annotations

import json
import time
from argparse import ArgumentParser
from pathlib import Path
from typing import TYPE_CHECKING, Any

from mill_lane.cli.command import Arguments, Command, Result, add_choices, telling, whole_numbers
from mill_lane.core.crop import crop_of, pixels_of
from mill_lane.core.errors import MillError
from mill_lane.core.recipe import FINAL, Recipe, Region, clip_region, framed

if TYPE_CHECKING:
    from mill_lane.core.devices.model import Device
    from mill_lane.core.render.session import Session
    from mill_lane.core.scene.model import Scene

NUMBERS: tuple[tuple[str, type], ...] = (
    ("width", int),
    ("height", int),
    ("samples", int),
    ("min-samples", int),
    ("bounces", int),
    ("seed", int),
    ("noise", float),
)
SAVE_EVERY = 10  # seconds between two states


def add_arguments(sub: ArgumentParser) -> None:
    """Add the arguments of the command."""
    sub.add_argument("scene", type=Path)
    add_choices(sub)
    sub.add_argument("--out", type=Path, required=True)
    sub.add_argument("--recipe", type=Path, help="a recipe as JSON; the options below change it")
    text = "cpu, or the path of a device as JSON (a simulated card)"
    sub.add_argument("--device", default="cpu", help=text)
    for name, kind in NUMBERS:
        sub.add_argument(f"--{name}", type=kind)
    sub.add_argument("--time", type=float, metavar="SECONDS", help="stop after this time")
    help_region = "a crop in pixels, or in percent of the frame: 25%%,10%%,50%%,40%%"
    sub.add_argument("--region", metavar="X0,Y0,X1,Y1", help=help_region)
    sub.add_argument("--threads", type=int)
    sub.add_argument("--frame", type=int)
    sub.add_argument("--camera")
    sub.add_argument("--layers", help="names of layers, with commas; see docs/terminal.md")
    text = "an HDR or EXR picture of the sky, longitude over latitude"
    sub.add_argument("--sky", type=Path, help=text)
    text = "go on from OUT.state, and write it while rendering"
    sub.add_argument("--resume", action="store_true", help=text)


def run(args: Arguments) -> Result:
    """Render a frame, or a region of it."""
    from mill_lane.core.devices.cpu import cpu_device, find_machine
    from mill_lane.core.formats.choices import parse_choices
    from mill_lane.core.formats.opening import open_scene
    from mill_lane.core.plan.fitting import check_fits
    from mill_lane.core.render.load import load
    from mill_lane.core.render.picture_header import picture_header
    from mill_lane.core.render.session import Session
    from mill_lane.core.weigh.ledger import draw_up
    from mill_lane.core.weigh.measure import weigh
    from mill_lane.store.files import file_hash
    from mill_lane.work.memory import (
        give_back,
        peak_since,
        reset_peak,
        resident,
        return_large_blocks,
    )
    from mill_lane.work.warm import prepare

    return_large_blocks()
    recipe, sky = with_sky(args, recipe_of(args))
    cpu = cpu_device(find_machine())
    device = _device(args.device, cpu)
    scene = open_scene(args.scene, choices=parse_choices(args.choose))
    recipe = as_framed(args, recipe, scene)
    region = _region(args.region, recipe)
    analysis = weigh(scene, recipe.width / recipe.height, args.camera)
    size = (region[2] - region[0], region[3] - region[1])
    check_fits(analysis, recipe, device, size)
    tell = telling(args)
    prepare(lambda share, text: tell(0.0, text))
    # What was let go of before would otherwise be taken again without a trace.
    give_back()
    baseline = resident()
    reset_peak()
    start = time.perf_counter()
    frame = args.frame if args.frame is not None else scene.frames[0]
    threads = args.threads or cpu.render_threads
    loaded = load(scene, threads, lambda share, text: tell(0.0, text))
    give_back()
    session = Session(
        loaded,
        recipe,
        region=region,
        frame=frame,
        camera=args.camera,
        threads=threads,
        sky=sky,
        key=_key(args, scene, recipe, {"region": region, "frame": frame}),
    )
    state = args.out.with_name(args.out.name + ".state")
    if args.resume and state.exists():
        session.restore(state)
    setup = time.perf_counter() - start
    _render(session, args, state)
    noise = session.noise()
    header = picture_header(
        scene,
        recipe.model_copy(update={"camera": args.camera or recipe.camera}),
        frame,
        session.samples_mean,
        file_hash(args.scene) if args.scene.is_file() else "",
    )
    _write(session, args.out, header)
    state.unlink(missing_ok=True)
    tell(
        1.0,
        f"{args.out}: {session.seconds:.1f} s, {session.samples_mean:.1f} samples, "
        f"noise {noise.rms * 100:.2f} %",
    )
    return {
        "seconds": session.seconds,
        "setup_seconds": setup,
        "samples_mean": session.samples_mean,
        "noise": noise.rms,
        "rays": session.rays_by_kind(),
        "peak_memory_bytes": peak_since(baseline),
        "predicted_memory_bytes": draw_up(analysis, recipe, cpu, size).total,
        "device": device.name + (" (simulated)" if device.simulated else ""),
        "out": str(args.out),
    }


def _key(args: Arguments, scene: Scene, recipe: Recipe, shown: dict[str, Any]) -> str:
    """By which a state that is put aside is known; nothing where none is kept or taken up."""
    from mill_lane.core.scene.digest import scene_digest
    from mill_lane.work.put_aside import frame_key

    if not args.resume:
        return ""
    others = {"camera": args.camera or "", "choose": args.choose}
    return frame_key(scene_digest(scene), recipe, shown, **others)


def _render(session: Session, args: Arguments, state: Path) -> None:
    tell, recipe = telling(args), session.recipe
    saved = time.perf_counter()
    while not session.done:
        session.step(0.5)
        of = "" if recipe.endless else f" of {recipe.samples}"
        tell(session.share * 0.999, f"sample {session.index + 1}{of}")
        if args.resume and time.perf_counter() - saved > SAVE_EVERY:
            session.save(state)
            saved = time.perf_counter()


def _write(session: Session, out: Path, header: dict[str, Any]) -> None:
    from mill_lane.core.formats.exr import write_exr
    from mill_lane.core.render.layers import exr_names
    from mill_lane.core.render.picture_header import axis_cosines, with_axis_depth

    temporary = out.with_name(out.name + ".part.exr")
    cosines = axis_cosines(session.loaded.scene, session.recipe, session.bounds)
    layers = with_axis_depth(session.each_layer(), cosines)
    write_exr(temporary, layers, header, names=exr_names())
    temporary.replace(out)


def recipe_of(args: Arguments) -> Recipe:
    """The recipe of a file, or the usual final one, with what the options change.

    Raises
    ------
    MillError
        Where the file cannot be read, or a field is wrong.
    """
    from mill_lane.core.recipe_versions import upgraded
    from mill_lane.core.render.layers import check_layers

    values: dict[str, Any] = FINAL.model_dump()
    try:
        if args.recipe:
            values |= upgraded(json.loads(args.recipe.read_text()))
        for name in (n.replace("-", "_") for n, _ in NUMBERS):
            if getattr(args, name) is not None:
                values[name] = getattr(args, name)
        if args.time is not None:
            values["time_limit"] = args.time
        if args.layers is not None:
            values["layers"] = [x for x in args.layers.split(",") if x]
        if args.samples is not None and args.min_samples is None:
            values["min_samples"] = min(values["min_samples"], args.samples)
        recipe = Recipe.model_validate(values)
    except (OSError, ValueError, AttributeError) as e:
        raise MillError(f"The recipe is not right: {e}", "Correct the options or the file.") from e
    check_layers(recipe.layers)
    return recipe


def as_framed(args: Arguments, recipe: Recipe, scene: Scene) -> Recipe:
    """The recipe with an upright picture where the camera's frame is; a size that was asked for
    stays.
    """
    if args.recipe or args.width is not None or args.height is not None:
        return recipe
    try:
        node = scene.nodes[scene.camera_node(recipe.camera or args.camera)]
    except KeyError:  # told later
        return recipe
    return framed(recipe, scene.cameras[node.camera].shape)


def with_sky(args: Arguments, recipe: Recipe) -> tuple[Recipe, Any]:
    """The recipe with the picture of the sky, and its pixels."""
    from mill_lane.core.formats.sky_pictures import read_sky
    from mill_lane.store.files import file_hash

    if args.sky:
        sky = read_sky(args.sky)
        height, width = sky.shape[:2]
        picture = f"{file_hash(args.sky)}/{width}x{height}/{args.sky.name}"
        return recipe.model_copy(update={"environment_picture": picture}), sky
    if recipe.environment_picture:
        raise MillError("The recipe has a sky picture.", "Name its file with --sky.")
    return recipe, None


def _device(name: str, cpu: Device) -> Device:
    from mill_lane.core.devices.model import Device

    if name == "cpu":
        return cpu
    try:
        return Device.model_validate_json(Path(name).read_text())
    except (OSError, ValueError) as e:
        raise MillError(
            f"The device {name} cannot be read: {e}", "Use cpu, or a device as JSON."
        ) from e


def _region(text: str | None, recipe: Recipe) -> Region:
    wanted: Region | None = None
    if text and ("." in text or "%" in text):
        return pixels_of(crop_of(text), recipe.width, recipe.height)
    if text:
        x0, y0, x1, y1 = whole_numbers(text, ",", 4, "Region")
        wanted = (x0, y0, x1, y1)
    try:
        return clip_region(wanted, recipe.width, recipe.height)
    except ValueError as e:
        raise MillError(
            f"{e}.",
            "Give the region as X0,Y0,X1,Y1 within the picture, or in percent: 25%,10%,50%,40%.",
        ) from e


RENDER = Command("render", "Render a frame, or a region of it, to an EXR.", add_arguments, run)
