"""`mill-lane run` and `mill-lane check`: a range of frames, and what to look at before it."""

from __future__ import annotations

import itertools
import sys
import time
from argparse import ArgumentParser
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from mill_lane.cli.command import Arguments, Command, Result, add_choices, telling
from mill_lane.cli.render import NUMBERS, SAVE_EVERY, recipe_of, with_sky
from mill_lane.core.errors import MillError
from mill_lane.core.plan.run_sheet import RunSheet

if TYPE_CHECKING:
    from mill_lane.core.recipe import Recipe
    from mill_lane.core.render.load import Loaded
    from mill_lane.core.render.session import Session
    from mill_lane.core.scene.model import Scene
    from mill_lane.core.weigh.analysis import Analysis

FORMATS = ("exr", "png", "jpeg")
QUALITY = 90
LEAST_NAME = 3  # digits of a frame's number


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
    sub.add_argument("--layers", help="names of layers, with commas; see the README")
    sub.add_argument("--camera")
    sub.add_argument("--sky", type=Path, help="an HDR or EXR picture of the sky")
    sub.add_argument("--out", type=Path, metavar="DIR", help="where frames are written")


def add_run_arguments(sub: ArgumentParser) -> None:
    """Add what rendering alone can be told."""
    add_arguments(sub)
    sub.add_argument("--threads", type=int)
    text = "take the noise out before a frame is written"
    sub.add_argument("--denoise", choices=("quality", "preview"), help=text)
    there = sub.add_mutually_exclusive_group()
    there.add_argument("--overwrite", action="store_true", help="write over what is there")
    text = "leave whole frames, and go on with the one that was broken off"
    there.add_argument("--resume", action="store_true", help=text)


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
        for option, name in (("frames", "frames"), ("order", "order"), ("names", "name")):
            if getattr(args, option) is not None:
                values[name] = getattr(args, option)
        return RunSheet.model_validate(values)
    except (OSError, ValueError) as e:
        raise MillError(f"The run sheet is not right: {e}", "Correct it.") from e


def run(args: Arguments) -> Result:
    """Render a range; the scene is loaded once."""
    from mill_lane.core.devices.cpu import cpu_device, find_machine
    from mill_lane.core.plan.fitting import check_fits
    from mill_lane.core.plan.night import time_left, troubles
    from mill_lane.core.render.load import load
    from mill_lane.work.memory import (
        give_back,
        peak_since,
        reset_peak,
        resident,
        return_large_blocks,
    )
    from mill_lane.work.warm import prepare

    if args.out is None:
        raise MillError("No folder is named for the frames.", "Name one with --out DIR.")
    return_large_blocks()
    scene, recipe, analysis, sheet, sky = _opened(args)
    frames = sheet.listed(scene.frames)
    done_before = sheet.standing(args.out, frames) if args.resume else []
    present = [p for n in frames for p in sheet.paths(args.out, n) if p.exists()]
    if present and not (args.overwrite or args.resume):
        raise MillError(
            f"{present[0]} is there already.",
            "Choose another folder or name, or add --overwrite, or --resume to go on.",
            "Nothing was rendered.",
        )
    cpu = cpu_device(find_machine())
    check_fits(analysis, recipe, cpu, (recipe.width, recipe.height))
    tell = telling(args)
    prepare(lambda share, text: tell(0.0, text))
    give_back()
    baseline = resident()
    reset_peak()
    began = time.perf_counter()
    threads = args.threads or cpu.render_threads
    loaded = load(scene, threads, lambda share, text: tell(0.0, text))
    give_back()
    loading = time.perf_counter() - began
    left = [n for n in frames if n not in done_before]
    rows: list[dict[str, Any]] = []
    for k, frame in enumerate(left):
        known = time_left([row["whole_seconds"] for row in rows], len(left) - k)
        rest = f", {known.seconds:.0f} s left" if known is not None else ""
        start = time.perf_counter()

        def told(share: float, text: str, k: int = k, n: int = frame, rest: str = rest) -> None:
            tell((k + share) / len(left) * 0.999, f"frame {n}: {text}{rest}")

        row = _frame(args, loaded, recipe, sheet, frame, threads, sky, told)
        row["whole_seconds"] = time.perf_counter() - start
        nearest = sorted(rows, key=lambda other: abs(other["frame"] - frame))
        row["troubles"] = troubles(row, nearest)
        rows.append(row)
    if left:
        tell(1.0, f"{len(left)} of {len(frames)} rendered")
    marked = [row for row in rows if row["troubles"]]
    if not args.json:
        for row in marked:
            print(f"frame {row['frame']}: {'; '.join(row['troubles'])}")
    return {
        "frames": len(frames),
        "rendered": len(rows),
        "there_already": len(done_before),
        "loading_seconds": loading,
        "seconds": time.perf_counter() - began,
        "peak_memory_bytes": peak_since(baseline),
        "out": str(args.out),
        "marked": [row["frame"] for row in marked],
        "each": rows,
    }


def _opened(args: Arguments) -> tuple[Scene, Recipe, Analysis, RunSheet, Any]:
    """The scene, what is wanted of it, and the sky."""
    from mill_lane.core.formats.choices import parse_choices
    from mill_lane.core.formats.opening import open_scene
    from mill_lane.core.weigh.measure import weigh

    recipe, sky = with_sky(args, recipe_of(args))
    recipe = recipe.model_copy(update={"layers": recipe.kept_layers})
    scene = open_scene(args.scene, choices=parse_choices(args.choose))
    analysis = weigh(scene, recipe.width / recipe.height, args.camera)
    sheet = sheet_of(args, scene.frames)
    sheet.pattern()
    return scene, recipe, analysis, sheet, sky


def _frame(
    args: Arguments,
    loaded: Loaded,
    recipe: Recipe,
    sheet: RunSheet,
    frame: int,
    threads: int,
    sky: Any,
    tell: Callable[[float, str], None],
) -> dict[str, Any]:
    """Render a frame and write its files; what was measured of it."""
    import numpy as np

    from mill_lane.core.plan.frame_output import write_frame
    from mill_lane.core.render.session import Session

    session = Session(
        loaded,
        recipe,
        region=(0, 0, recipe.width, recipe.height),
        frame=frame,
        camera=args.camera,
        threads=threads,
        sky=sky,
        key=f"{args.scene.resolve()}:{recipe.model_dump_json()}:{frame}",
    )
    args.out.mkdir(parents=True, exist_ok=True)
    state = args.out / f".{frame:0{LEAST_NAME}d}.state"
    if args.resume and state.exists():
        session.restore(state)
    saved = time.perf_counter()
    while not session.done:
        session.step(0.5)
        of = "" if recipe.endless else f" of {recipe.samples}"
        tell(session.share, f"sample {session.index + 1}{of}")
        if time.perf_counter() - saved > SAVE_EVERY:
            session.save(state)
            saved = time.perf_counter()
    layers: Callable[[], Iterable[tuple[str, Any]]] = session.each_layer
    if args.denoise:
        tell(0.99, "taking the noise out")
        layers = _clean(session, args.denoise, threads)
    written = write_frame(sheet, args.out, frame, layers, recipe.exposure)
    state.unlink(missing_ok=True)
    samples = np.maximum(session.film.samples, 1)
    noise = session.noise().rms
    return {
        "frame": frame,
        "seconds": session.seconds,
        "samples_mean": session.samples_mean,
        "noise": float(noise) if np.isfinite(noise) else None,
        "mean_luminance": float((session.film.luma[..., 0] / samples).mean()),
        "bad_pixels": int((~np.isfinite(session.film.light).all(-1)).sum()),
        "written": [str(path) for path in written],
    }


def _clean(session: Session, mode: Any, threads: int) -> Callable[[], Iterable[tuple[str, Any]]]:
    """The layers of a frame with its picture denoised, as much as is usual."""
    from mill_lane.core.denoise.denoise import blended, denoise
    from mill_lane.core.denoise.names import STRENGTH

    raw = session.layers()
    clean = blended(raw["beauty"], denoise(raw, mode, threads=threads).picture, STRENGTH)

    def layers() -> Iterable[tuple[str, Any]]:
        others = itertools.islice(session.each_layer(), 1, None)
        return itertools.chain([("beauty", clean)], others)

    return layers


def check(args: Arguments) -> Result:
    """Look at what could spoil a range, without rendering it."""
    from mill_lane.core.devices.cpu import cpu_device, find_machine
    from mill_lane.core.plan.preflight import Shot
    from mill_lane.core.plan.range_checks import Range, check_range

    scene, recipe, analysis, sheet, _ = _opened(args)
    frames = sheet.listed(scene.frames)
    shot = Shot(analysis, recipe, cpu_device(find_machine()))
    found = check_range(Range(shot, sheet, args.out or Path.cwd()))
    if not args.json:
        print(f"{len(frames)} frames, {frames[0]} to {frames[-1]} in their order")
        for result in found:
            print(f"{result.level:8} {result.text}")
    errors = [r for r in found if r.level == "error"]
    if errors and not args.json:
        print(f"{len(errors)} to be mended first", file=sys.stderr)
    return {
        "frames": len(frames),
        "errors": len(errors),
        "warnings": sum(r.level == "warning" for r in found),
        "found": [{"code": r.code, "level": r.level, "text": r.text} for r in found],
        "status": 1 if errors else 0,
    }


RUN = Command("run", "Render a range of frames, each under its own name.", add_run_arguments, run)
CHECK = Command("check", "Look at what could spoil a range of frames.", add_arguments, check)
