"""The command line: the same functions from a terminal."""

from __future__ import annotations

import argparse
import json
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from mill_lane import __version__
from mill_lane.core.errors import MillError
from mill_lane.core.recipe import EVERY_LAYER, FINAL, Recipe

if TYPE_CHECKING:
    from mill_lane.core.scene.model import Scene
    from mill_lane.core.weigh.analysis import Analysis

Result = dict[str, Any]


def main(arguments: list[str] | None = None) -> int:
    """Run a command; returns the exit status: 0, or 1 after an error that was told."""
    parser = build_parser()
    args = parser.parse_args(arguments)
    try:
        result = args.run(args)
    except MillError as e:
        if args.json:
            print(json.dumps({"error": e.message, "hint": e.hint}))
        else:
            print(f"mill-lane: {e.message}\n{e.hint}", file=sys.stderr)
        return 1
    except KeyboardInterrupt:
        print("mill-lane: stopped", file=sys.stderr)
        return 1
    if args.json and result is not None:
        print(json.dumps(result))
    return 0


def build_parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(
        prog="mill-lane", description="Fit a 3D scene to the computer at hand."
    )
    parser.add_argument("--version", action="version", version=__version__)
    commands = parser.add_subparsers(required=True, metavar="COMMAND")

    def command(
        name: str, run: Callable[[argparse.Namespace], Result | None], text: str
    ) -> argparse.ArgumentParser:
        sub = commands.add_parser(name, help=text, description=text)
        sub.add_argument(
            "--json", action="store_true", help="print one JSON object on standard output"
        )
        sub.set_defaults(run=run)
        return sub

    demo = command("demo", run_demo, "Build the demo scene, or serve it.")
    demo.add_argument("--out", type=Path, help="write the scene to this GLB instead of serving it")
    demo.add_argument("--size", choices=("full", "medium", "small"), default="full")
    _serving(demo)
    served = command("serve", run_serve, "Serve the application.")
    served.add_argument(
        "--demo",
        choices=("full", "medium", "small"),
        help="make the demo job of this size when there is none",
    )
    _serving(served)

    weigh = command("weigh", run_weigh, "Count and measure a scene.")
    weigh.add_argument("scene", type=Path)
    weigh.add_argument("--camera")
    weigh.add_argument("--frames", metavar="A-B")
    weigh.add_argument("--width", type=int, default=FINAL.width)
    weigh.add_argument("--height", type=int, default=FINAL.height)
    weigh.add_argument(
        "--full",
        action="store_true",
        help="also decode every picture, and look at the shot from all its frames",
    )

    render = command("render", run_render, "Render a frame, or a region of it, to an EXR.")
    render.add_argument("scene", type=Path)
    render.add_argument("--out", type=Path, required=True)
    render.add_argument("--recipe", type=Path, help="a recipe as JSON; the options below change it")
    render.add_argument(
        "--device", default="cpu", help="cpu, or the path of a device as JSON (a simulated card)"
    )
    for name, kind in (
        ("width", int),
        ("height", int),
        ("samples", int),
        ("min-samples", int),
        ("bounces", int),
        ("seed", int),
        ("noise", float),
    ):
        render.add_argument(f"--{name}", type=kind)
    render.add_argument("--time", type=float, metavar="SECONDS", help="stop after this time")
    render.add_argument("--region", metavar="X0,Y0,X1,Y1")
    render.add_argument("--threads", type=int)
    render.add_argument("--frame", type=int)
    render.add_argument("--camera")
    render.add_argument("--layers", help="any of " + ",".join(EVERY_LAYER))
    render.add_argument(
        "--sky", type=Path, help="an HDR or EXR picture of the sky, longitude over latitude"
    )
    render.add_argument(
        "--resume", action="store_true", help="go on from OUT.state, and write it while rendering"
    )

    trim = command("trim", run_trim, "Write a lighter scene.")
    trim.add_argument("scene", type=Path)
    trim.add_argument(
        "--out",
        type=Path,
        required=True,
        help="a .glb, .obj, .zip, .usda, .usdc or .usdz, or a folder",
    )
    trim.add_argument("--textures", choices=("distance", "footprint"), default="distance")
    return parser


def _serving(sub: argparse.ArgumentParser) -> None:
    sub.add_argument("--host", default="127.0.0.1")
    sub.add_argument("--port", type=int, default=8410)
    sub.add_argument("--home", type=Path, help="where everything is kept")
    sub.add_argument(
        "--scenes", type=Path, help="a folder of scenes that may be opened from the page"
    )


def run_demo(args: argparse.Namespace) -> Result | None:
    if args.out is None:
        args.demo = args.size
        run_serve(args)
        return None
    from mill_lane.demo.make import make_demo

    start = time.perf_counter()
    make_demo(args.out, args.size, progress=_telling(args))
    return {
        "out": str(args.out),
        "seconds": time.perf_counter() - start,
        "file_bytes": args.out.stat().st_size,
    }


def run_serve(args: argparse.Namespace) -> None:
    from mill_lane.serve import serve
    from mill_lane.store.home import default_folder

    if args.scenes is not None and not args.scenes.is_dir():
        raise MillError(f"{args.scenes} is not a folder.", "Name a folder that holds scenes.")
    serve(args.home or default_folder(), args.host, args.port, args.scenes, args.demo)


def _telling(args: argparse.Namespace) -> Callable[[float, str], None]:
    last = [""]

    def tell(share: float, text: str) -> None:
        if not args.json and text != last[0]:
            last[0] = text
            print(f"\r{share * 100:3.0f} %  {text:<60}", end="", file=sys.stderr, flush=True)
            if share >= 1:
                print(file=sys.stderr)

    return tell


def _pair(text: str, separator: str, count: int, what: str) -> list[int]:
    try:
        numbers = [int(x) for x in text.split(separator)]
    except ValueError:
        numbers = []
    if len(numbers) != count:
        raise MillError(
            f"{what}: “{text}” is not {count} whole numbers.",
            f"Write {what.lower()} like its help says.",
        )
    return numbers


def run_weigh(args: argparse.Namespace) -> Result:
    from dataclasses import replace

    from mill_lane.core.devices.cpu import cpu_device, find_machine
    from mill_lane.core.formats.opening import open_scene
    from mill_lane.core.weigh.ledger import draw_up
    from mill_lane.core.weigh.measure import weigh

    scene = open_scene(args.scene)
    if args.frames:
        first, last = _pair(args.frames, "-", 2, "Frames")
        scene = replace(scene, frames=(first, max(first, last)))
    analysis = (
        _weighed_in_full(scene, args)
        if args.full
        else weigh(scene, args.width / args.height, args.camera)
    )
    recipe = FINAL.model_copy(update={"width": args.width, "height": args.height})
    memory = draw_up(analysis, recipe, cpu_device(find_machine())).as_json()
    result: Result = {
        "triangles": analysis.triangles,
        "unique_triangles": analysis.unique_triangles,
        "instances": analysis.instances,
        "meshes": [{**m.model_dump(), "memory_bytes": m.memory_bytes} for m in analysis.meshes],
        "textures": [
            {**t.model_dump(), "wasted_bytes": t.wasted_bytes()} for t in analysis.textures
        ],
        "lights": [x.model_dump() for x in analysis.lights],
        "memory": memory,
        "notes": [text for _, text in analysis.notes],
        "look": analysis.visibility.model_dump(exclude={"overlap"})
        if analysis.visibility
        else None,
    }
    if not args.json:
        print(
            f"{analysis.triangles:,} triangles drawn, {analysis.unique_triangles:,} stored, {analysis.instances} placed meshes"
        )
        print(f"{len(analysis.textures)} textures, {len(analysis.lights)} lights")
        for kind, n in memory.items():
            print(f"{kind:>14} {n / 1e6:10,.1f} MB")
        for text in result["notes"]:
            print(f"note: {text}")
    return result


def _weighed_in_full(scene: Scene, args: argparse.Namespace) -> Analysis:
    """In full, with progress on the terminal."""
    from mill_lane.core.progress import part
    from mill_lane.core.render.session import threads_to_use
    from mill_lane.core.weigh.full import weigh_full
    from mill_lane.work.warm import prepare

    tell = _telling(args)
    prepare(part(tell, 0.0, 0.1))
    return weigh_full(
        scene, args.width / args.height, args.camera, threads_to_use(64), part(tell, 0.1, 1.0)
    )


def run_render(args: argparse.Namespace) -> Result:
    from mill_lane.core.devices.cpu import cpu_device, find_machine
    from mill_lane.core.devices.model import Device
    from mill_lane.core.formats.exr import write_exr
    from mill_lane.core.formats.opening import open_scene
    from mill_lane.core.formats.pictures import read_sky
    from mill_lane.core.plan.fitting import check_fits
    from mill_lane.core.recipe import clip_region
    from mill_lane.core.render.load import load
    from mill_lane.core.render.session import Session
    from mill_lane.core.weigh.ledger import draw_up
    from mill_lane.core.weigh.measure import weigh
    from mill_lane.store.files import file_hash
    from mill_lane.work.memory import give_back, peak_since, reset_peak, resident
    from mill_lane.work.warm import prepare

    recipe, sky = _recipe(args), None
    if args.sky:
        sky = read_sky(args.sky)
        recipe = recipe.model_copy(
            update={
                "environment_picture": f"{file_hash(args.sky)}/{sky.shape[1]}x{sky.shape[0]}/{args.sky.name}"
            }
        )
    elif recipe.environment_picture:
        raise MillError("The recipe has a sky picture.", "Name its file with --sky.")
    cpu = cpu_device(find_machine())
    device = cpu
    if args.device != "cpu":
        try:
            device = Device.model_validate_json(Path(args.device).read_text())
        except (OSError, ValueError) as e:
            raise MillError(
                f"The device {args.device} cannot be read: {e}", "Use cpu, or a device as JSON."
            ) from e
    try:
        region = clip_region(
            tuple(_pair(args.region, ",", 4, "Region")) if args.region else None,
            recipe.width,
            recipe.height,
        )  # type: ignore[arg-type]
    except ValueError as e:
        raise MillError(f"{e}.", "Give the region as X0,Y0,X1,Y1 within the picture.") from e
    scene = open_scene(args.scene)
    analysis = weigh(scene, recipe.width / recipe.height, args.camera)
    size = (region[2] - region[0], region[3] - region[1])
    check_fits(analysis, recipe, device, size)
    tell = _telling(args)
    prepare(lambda share, text: tell(0.0, text))
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
        key=f"{args.scene.resolve()}:{recipe.model_dump_json()}:{region}:{frame}",
    )
    state = args.out.with_name(args.out.name + ".state")
    if args.resume and state.exists():
        session.restore(state)
    setup = time.perf_counter() - start
    saved = time.perf_counter()
    while not session.done:
        session.step(0.5)
        tell(
            session.share * 0.999,
            f"sample {session.index + 1}" + ("" if recipe.endless else f" of {recipe.samples}"),
        )
        if args.resume and time.perf_counter() - saved > 10:
            session.save(state)
            saved = time.perf_counter()
    noise = session.noise()
    temporary = args.out.with_name(args.out.name + ".part.exr")
    write_exr(temporary, session.each_layer())
    temporary.replace(args.out)
    state.unlink(missing_ok=True)
    tell(
        1.0,
        f"{args.out}: {session.seconds:.1f} s, {session.samples_mean:.1f} samples, noise {noise.rms * 100:.2f} %",
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


def _recipe(args: argparse.Namespace) -> Recipe:
    values: dict[str, Any] = FINAL.model_dump()
    try:
        if args.recipe:
            values |= json.loads(args.recipe.read_text())
        for name in ("width", "height", "samples", "min_samples", "bounces", "seed", "noise"):
            if getattr(args, name) is not None:
                values[name] = getattr(args, name)
        if args.time is not None:
            values["time_limit"] = args.time
        if args.layers is not None:
            values["layers"] = [x for x in args.layers.split(",") if x]
        if args.samples is not None and args.min_samples is None:
            values["min_samples"] = min(values["min_samples"], args.samples)
        return Recipe.model_validate(values)
    except (OSError, ValueError) as e:
        raise MillError(f"The recipe is not right: {e}", "Correct the options or the file.") from e


def run_trim(args: argparse.Namespace) -> Result:
    from mill_lane.core.formats.opening import open_scene
    from mill_lane.core.formats.saving import ENDINGS, save_scene
    from mill_lane.core.trim.distance import by_distance
    from mill_lane.core.trim.footprint import by_footprint
    from mill_lane.core.trim.textures import shrink
    from mill_lane.core.weigh.measure import weigh

    scene = open_scene(args.scene)
    tell = _telling(args)
    if args.textures == "footprint":
        args.width, args.height, args.camera = FINAL.width, FINAL.height, None
        proposals = by_footprint(_weighed_in_full(scene, args))
    else:
        proposals = by_distance(weigh(scene))
    trimmed, changes = shrink(
        scene, {p.image: max(p.new) for p in proposals}, lambda s, t: tell(0.8 * s, t)
    )
    out = (
        args.out
        if args.out.suffix.lower() in ENDINGS
        else args.out / f"{args.scene.stem}-trimmed.glb"
    )
    out.parent.mkdir(parents=True, exist_ok=True)
    notes = save_scene(trimmed, out, lambda s, t: tell(0.8 + 0.2 * s, t))
    saved = sum(c.old_bytes - c.new_bytes for c in changes)
    if not args.json:
        print(f"{len(changes)} textures made smaller; {saved / 1e6:,.0f} MB less in memory; {out}")
        for note in notes:
            print(f"note: {note.text}")
    return {
        "out": str(out),
        "changes": [vars(c) for c in changes],
        "saved_bytes": saved,
        "file_bytes": out.stat().st_size,
        "notes": [n.text for n in notes],
    }


if __name__ == "__main__":
    sys.exit(main())
