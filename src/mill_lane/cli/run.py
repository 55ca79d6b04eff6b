"""`mill-lane run`: a range of frames, each under its own name."""

from __future__ import annotations

import itertools
import shutil
import sys
import time
from argparse import ArgumentParser
from collections.abc import Callable, Iterable
from pathlib import Path
from typing import TYPE_CHECKING, Any

from mill_lane.cli.command import Arguments, Command, Result, telling
from mill_lane.cli.ranges import Opened, add_arguments, opened
from mill_lane.cli.record import Record, read_record
from mill_lane.cli.render import SAVE_EVERY
from mill_lane.core.errors import MillError
from mill_lane.core.names import plain
from mill_lane.core.words import plural

if TYPE_CHECKING:
    from mill_lane.core.plan.way import Way
    from mill_lane.work.kinds.base import Report
    from mill_lane.work.kinds.render_parts import Request

MEASURED = (
    "seconds",
    "noise",
    "samples_mean",
    "mean_luminance",
    "bad_pixels",
    "whole_seconds",
    "setup_seconds",
    "peak_memory_bytes",
    "load_after",
    "temperature_after",
)


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


def _terminal(tell: Callable[[float, str], None]) -> Report:
    """A report that tells on the terminal; nothing is wanted from there."""
    from mill_lane.work.kinds.base import Unheard

    class Terminal(Unheard):
        def __call__(self, share: float, text: str) -> None:
            tell(share, text)

        def wait_for_room(self, share: float, why: str = "the disk is full") -> None:
            tell(share, f"waiting: {why}")
            time.sleep(1.0)

    return Terminal()


def run(args: Arguments) -> Result:
    """Render a range; the scene is loaded once."""
    from mill_lane.work.memory import return_large_blocks

    if args.out is None:
        raise MillError("No folder is named for the frames.", "Name one with --out DIR.")
    return_large_blocks()
    every = opened(args)
    results = [_through(args, got, got.camera if len(every) > 1 else "") for got in every]
    return {
        "frames": [row for r in results for row in r["frames"]],
        "rendered": sum(r["rendered"] for r in results),
        "there_already": sum(r["there_already"] for r in results),
        "load_seconds": max(r["load_seconds"] for r in results),
        "seconds": sum(r["seconds"] for r in results),
        "fallbacks": [words for r in results for words in r["fallbacks"]],
        "peak_memory_bytes": max(r["peak_memory_bytes"] for r in results),
        "marked": [n for r in results for n in r["marked"]],
        "out": str(args.out),
    }


def _through(args: Arguments, got: Opened, camera: str) -> dict[str, Any]:
    """Render the range through one camera, which is named where there are several."""
    from mill_lane.core.plan.fitting import check_way
    from mill_lane.core.plan.less_memory import made_to_fit

    sheet = got.sheet
    frames = sheet.listed(got.scene.frames)
    there = sheet.standing(args.out, frames) if args.resume else []
    present = [p for n in frames for p in sheet.paths(args.out, n) if p.exists()]
    if present and not (args.overwrite or args.resume):
        raise MillError(
            f"{present[0]} is there already.",
            "Choose another folder or name, or add --overwrite, or --resume to go on.",
            "Nothing was rendered.",
        )
    way, taken = made_to_fit(got.way, sheet.rungs)
    check_way(way)
    began = time.perf_counter()
    record = _record(args, got, way, there, camera)
    record.fallbacks += [f"from the beginning on: {rung.title}" for rung in taken]
    frames_left = [n for n in frames if n not in there]
    rows = _Range(args, got, way, record, camera).render(frames_left)
    marked = [row for row in rows if row["troubles"]]
    if not args.json:
        for row in marked:
            print(f"frame {row['frame']}: {'; '.join(row['troubles'])}")
        for words in record.fallbacks:
            print(f"less memory, {words}", file=sys.stderr)
    named = {"camera": camera} if camera else {}
    return {
        "frames": [row | named for row in rows],
        "rendered": len(rows),
        "there_already": len(there),
        "load_seconds": max((row["setup_seconds"] for row in rows), default=0.0),
        "seconds": time.perf_counter() - began,
        "fallbacks": record.fallbacks,
        "peak_memory_bytes": max((row["peak_memory_bytes"] for row in rows), default=0),
        "marked": [row["frame"] for row in marked],
    }


def _record(args: Arguments, got: Opened, way: Way, there: list[int], camera: str) -> Record:
    """The record so far: what is known of frames that stay, and how the others are rendered."""
    from mill_lane.core.weigh.counts import texture_counts
    from mill_lane.store.files import file_hash

    known: list[dict[str, Any]] = []
    if there:
        try:
            known = [row for row in read_record(args.out, camera).frames if row["frame"] in there]
        except MillError:  # rendered without one
            known = []
    return Record(
        scene=args.scene.name,
        hash=file_hash(args.scene) if args.scene.is_file() else "",
        triangles=way.analysis.triangles,
        textures=texture_counts(way.analysis).used,
        recipe=way.recipe.model_dump(mode="json"),
        sheet=got.sheet.model_dump(mode="json"),
        device=way.device.model_dump(mode="json"),
        predicted_bytes=way.ledger.total,
        frames=known,
    )


class _Range:
    """Rendering frames one after another, with less memory where it fails."""

    def __init__(
        self, args: Arguments, got: Opened, way: Way, record: Record, camera: str = ""
    ) -> None:
        from mill_lane.core.scene.digest import scene_digest

        self.args, self.sheet, self.way, self.record = args, got.sheet, way, record
        self.scene, self.camera = scene_digest(got.scene), camera
        self.tell = telling(args)
        self.rows: list[dict[str, Any]] = []

    def render(self, left: list[int]) -> list[dict[str, Any]]:
        """Render frames; a row for each, with what was measured of it."""
        from mill_lane.core.plan.less_memory import with_less
        from mill_lane.work.kept_scene import forget_scene

        count = len(left)
        try:
            for k, frame in enumerate(left):
                while True:
                    try:
                        self._keep(self._frame(frame, k, count))
                        break
                    except MemoryError:
                        found = with_less(self.way, self.sheet.rungs, failed=True)
                        if found is None:
                            done = plural(len(self.rows), "frame is", "frames are")
                            raise MillError(
                                "Memory is full, and no step that is allowed takes less.",
                                "Trim the scene, or allow more with --rungs.",
                                f"{done} done; go on with --resume.",
                            ) from None
                        self.way = found[0]
                        words = f"from frame {frame} on: {found[1].title}"
                        self.record.fallbacks.append(words)
                        forget_scene()
        finally:
            forget_scene()
        if left:
            self.tell(1.0, f"{count} rendered")
        return self.rows

    def _keep(self, row: dict[str, Any]) -> None:
        from mill_lane.core.plan.night import troubles

        nearest = sorted(self.rows, key=lambda other: abs(other["frame"] - row["frame"]))
        row["troubles"] = troubles(row, nearest)
        self.rows.append(row)
        record = self.record
        record.frames = sorted(
            [*(r for r in record.frames if r["frame"] != row["frame"]), row],
            key=lambda r: int(r["frame"]),
        )
        record.recipe = self.way.recipe.model_dump(mode="json")
        record.load_seconds = max(record.load_seconds, row["setup_seconds"])
        record.seconds += row["whole_seconds"]
        record.peak_bytes = max(record.peak_bytes, row["peak_memory_bytes"])
        record.write(self.args.out, self.camera)

    def _frame(self, frame: int, k: int, count: int) -> dict[str, Any]:
        """Render a frame and write its files; what was measured of it."""
        from mill_lane.core.plan.night import time_left
        from mill_lane.work.rendering import render

        known = time_left([row["whole_seconds"] for row in self.rows], count - k)
        rest = f", {known.seconds:.0f} ± {known.margin:.0f} s left" if known is not None else ""

        def told(share: float, text: str) -> None:
            self.tell((k + share) / count * 0.999, f"frame {frame}: {text}{rest}")

        request = self._request(frame)
        start = time.perf_counter()
        result = render(request, _terminal(told))
        row = {"frame": frame} | {name: result.measured.get(name) for name in MEASURED}
        files = result.measured.get("written", [])
        if self.args.denoise:
            told(0.99, "taking the noise out")
            files = self._denoised(request, result.exr, frame)
        shutil.rmtree(request.folder, ignore_errors=True)
        return row | {"files": files, "whole_seconds": time.perf_counter() - start}

    def _request(self, frame: int) -> Request:
        from mill_lane.core.plan.parts import images_of
        from mill_lane.work.kinds.render_parts import Output, Request
        from mill_lane.work.put_aside import frame_key

        args, way = self.args, self.way
        through = f"-{plain(self.camera, 'camera')}" if self.camera else ""
        folder = args.out / f".frame-{frame:04d}{through}"
        if not args.resume:
            shutil.rmtree(folder, ignore_errors=True)
        folder.mkdir(parents=True, exist_ok=True)
        output = None if args.denoise else Output(sheet=self.sheet, folder=args.out)
        return Request(
            scene=args.scene,
            choices=args.choose,
            recipe=way.recipe,
            region=(0, 0, way.recipe.width, way.recipe.height),
            frame=frame,
            preview={},
            threads=args.threads or (way.cpu or way.device).render_threads,
            memory_limit=way.device.free_bytes,
            key=frame_key(self.scene, way.recipe, {"frame": frame}, way.means, choose=args.choose),
            about="",
            sky=args.sky,
            folder=folder,
            taken_apart=False,
            checkpoint_seconds=SAVE_EVERY,
            output=output,
            means=way.means,
            images=images_of(way.analysis),
        )

    def _denoised(self, request: Request, exr: Path, frame: int) -> list[str]:
        """Write a frame with its picture denoised, as much as is usual."""
        from mill_lane.core.denoise.denoise import blended, denoise
        from mill_lane.core.denoise.names import STRENGTH
        from mill_lane.core.formats.exr import read_exr, read_header
        from mill_lane.core.plan.frame_output import write_frame
        from mill_lane.core.render.layers import exr_names

        raw = read_exr(exr, exr_names())
        made = denoise(raw, self.args.denoise, threads=request.threads).picture
        clean = blended(raw["beauty"], made, STRENGTH)
        others = [(name, plane) for name, plane in raw.items() if name != "beauty"]

        def layers() -> Iterable[tuple[str, Any]]:
            return itertools.chain([("beauty", clean)], others)

        exposure, header = self.way.recipe.exposure, read_header(exr)
        return [
            str(p) for p in write_frame(self.sheet, self.args.out, frame, layers, exposure, header)
        ]


RUN = Command("run", "Render a range of frames, each under its own name.", add_run_arguments, run)
