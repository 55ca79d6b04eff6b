"""The computing side of a render: the scene kept warm, previews, checkpoints, what is written."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import asdict
from pathlib import Path
from typing import Any, TypeVar

import numpy as np
import psutil
from numpy.typing import NDArray
from PIL import Image

from mill_lane.core.denoise.denoise import denoise
from mill_lane.core.errors import MillError
from mill_lane.core.formats.exr import write_exr
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.formats.pictures import read_sky, write_pixels
from mill_lane.core.image.maps import layer_picture
from mill_lane.core.image.srgb import in_bands, view
from mill_lane.core.plan.frame_output import write_frame
from mill_lane.core.progress import Cancelled, part
from mill_lane.core.recipe import Recipe
from mill_lane.core.render.layers import exr_names, show_of
from mill_lane.core.render.load import Loaded, load
from mill_lane.core.render.session import Session
from mill_lane.core.render.settings import Preview
from mill_lane.store.transactions import no_room
from mill_lane.work.kinds.base import Paused, Report
from mill_lane.work.kinds.render_parts import Layer, Output, Request, Result
from mill_lane.work.looking import forget_looker
from mill_lane.work.memory import give_back, peak_since, reset_peak, resident
from mill_lane.work.warm import prepare

# The scene that was loaded last, kept for the next render of it, and the bytes that were resident
# before.  This process has no other state.
_warm: dict[Path, tuple[Loaded, int]] = {}
T = TypeVar("T")
THUMBNAIL, THUMBNAIL_SIZE = "thumbnail", (160, 120)
BAND = 128  # rows at a time, so that a preview takes little memory


def forget_scene() -> None:
    """Let go of the scene that was loaded last."""
    _warm.clear()


def render(request: Request, report: Report) -> Result:
    """Render a crop or a frame, with previews and checkpoints; stopped by hand it keeps what it
    has.

    Raises
    ------
    Cancelled
        When there is nothing to keep yet.
    Paused
        When it was put aside; its state lies in its folder.
    """
    load_before = psutil.getloadavg()[0]
    started = time.perf_counter()
    # Before the baseline is read, the machine code and the libraries are there: they belong to no
    # scene.
    prepare(part(report, 0.0, 0.01))
    warm = request.scene in _warm
    loaded, baseline = _loaded(request, report)
    recipe, sky = request.recipe, sky_pixels(request.sky, request.recipe)
    session = Session(
        loaded,
        recipe,
        region=request.region,
        frame=request.frame,
        threads=request.threads,
        key=request.key,
        preview=Preview(**request.preview),
        sky=sky,
        about=request.about,
    )
    checkpoint = request.folder / "state.npz"
    resumed = checkpoint.exists()
    if resumed:
        session.restore(checkpoint)
    setup = time.perf_counter() - started
    stopped = _Steps(session, report, request).run()
    noise = session.noise()
    exr, png = _when_there_is_room(report, lambda: _write(session, request.folder))
    samples = np.maximum(session.film.samples, 1)
    measured: dict[str, Any] = {
        "seconds": session.seconds,
        "setup_seconds": setup,
        "warm": warm,
        "resumed": resumed,
        "samples_mean": session.samples_mean,
        "passes": session.index,
        "noise": noise.rms if np.isfinite(noise.rms) else None,
        "noise_p95": noise.p95 if np.isfinite(noise.p95) else None,
        "rays": session.rays_by_kind(),
        "converged_fraction": session.converged_fraction,
        "light_lost": session.light_lost,
        "mean_luminance": float((session.film.luma[..., 0] / samples).mean()),
        "bad_pixels": int((~np.isfinite(session.film.light).all(-1)).sum()),
        "peak_memory_bytes": peak_since(baseline),
        "threads": session.threads,
        "ended_by": "hand" if stopped else session.done,
        "load_before": load_before,
        "load_after": psutil.getloadavg()[0],
    }
    small: dict[str, Layer] = {}
    if request.output is not None and not stopped:
        measured |= _put_out(session, request, request.output, report)
        path = _when_there_is_room(report, lambda: _thumbnail(png, request.folder))
        small[THUMBNAIL] = Layer(path=path)
    measured["whole_seconds"] = time.perf_counter() - started
    result = Result(picture=png, exr=exr, stopped=stopped, layers=small, measured=measured)
    if request.taken_apart:
        layers = _when_there_is_room(report, lambda: _layer_pictures(session, request.folder))
        profile = asdict(session.profile())
        result = result.model_copy(update={"layers": layers, "time_profile": profile})
    return result


def _put_out(
    session: Session, request: Request, output: Output, report: Report
) -> dict[str, list[str] | str]:
    """Write a frame under its own name; where its folder cannot be written, wait until it can be.

    Stopped meanwhile, it says what is missing: the frame itself is kept.
    """
    exposure = request.recipe.exposure
    while True:
        try:
            made = _when_there_is_room(
                report,
                lambda: write_frame(
                    output.sheet, output.folder, request.frame, session.each_layer, exposure
                ),
            )
            return {"written": [str(path) for path in made]}
        except MillError as e:
            try:
                report.wait_for_room(1.0, e.message.rstrip("."))
            except Cancelled:
                return {"not_written": e.message}


def _thumbnail(picture: Path, folder: Path) -> Path:
    small = folder / "thumbnail.png"
    with Image.open(picture) as whole:
        whole.thumbnail(THUMBNAIL_SIZE)
        whole.save(small)
    return small


def sky_pixels(path: Path | None, recipe: Recipe) -> NDArray[np.float32] | None:
    """The recipe's sky picture (H, W, 3), linear light; None where it has none."""
    return None if path is None else read_sky(path, recipe.environment_picture.split("/")[2])


def _when_there_is_room(report: Report, make: Callable[[], T]) -> T:
    """Make files; where the disk is full, wait until it is not: hours of rendering hang on it."""
    while True:
        try:
            return make()
        except OSError as e:
            if not no_room(e):
                raise
        report.wait_for_room(1.0)


def _loaded(request: Request, report: Report) -> tuple[Loaded, int]:
    """The scene in memory, and the bytes that were resident before it was."""
    if request.scene in _warm:
        reset_peak()
        return _warm[request.scene]
    _warm.clear()
    forget_looker()
    give_back()
    baseline = resident()
    reset_peak()
    scene = open_scene(request.scene)
    report(0.0, "reading the scene")
    _warm[request.scene] = load(scene, request.threads, _loading(report)), baseline
    give_back()
    return _warm[request.scene]


def _loading(report: Report) -> Callable[[float, str], None]:
    began = time.monotonic()

    def tell(share: float, text: str) -> None:
        taken = time.monotonic() - began
        report.live = {"phase": "loading", "load_share": share}
        if taken > 1.0 and share > 0:
            report.live["left"] = taken * (1 - share) / share
        report(0.0, text)

    return tell


class _Steps:
    """Rendering step by step, with previews and checkpoints in between."""

    def __init__(self, session: Session, report: Report, request: Request) -> None:
        self.session, self.report = session, report
        self.checkpoint = request.folder / "state.npz"
        self.preview = request.folder / "preview.png"
        self.rhythm = request.checkpoint_seconds
        self.version = 0
        self.next_preview = 0.0
        self.next_state = session.clock() + self.rhythm
        self.noise: float | None = None
        self.clean = False
        self.passes = session.index

    def run(self) -> bool:
        """Step until the session is done; returns whether it was stopped by hand."""
        session = self.session
        while not session.done:
            wants = self.report.hear()
            if wants.get("pause"):
                _when_there_is_room(self.report, lambda: session.save(self.checkpoint))
                self._preview()
                raise Paused
            if wants.get("finish") and session.index >= 1:
                return True
            point = wants.get("priority")
            self.clean = bool(wants.get("clean"))
            session.priority = (float(point[0]), float(point[1])) if point else None
            session.step(0.25)
            self._show()
            try:
                self._tell()
            except Cancelled:
                if session.index < 1:
                    raise
                return True
        return False

    def _show(self) -> None:
        """Make a preview and a checkpoint where they are due."""
        session = self.session
        now = session.clock()
        if now >= self.next_preview or session.done:
            self._preview()
            if session.index != self.passes and session.index >= 2:
                self.passes = session.index
                rms = session.noise().rms
                self.noise = rms if np.isfinite(rms) else None
            # Often at first, when much changes; never more than a tenth of the time.
            took = session.clock() - now
            self.next_preview = now + max(min(0.4 * self.version, 3.0), 10 * took)
        if now >= self.next_state:
            start = session.clock()
            with suppress_full_disk():  # the last checkpoint stays; the next one may fit
                session.save(self.checkpoint)
            # Never more than a tenth of the time.
            end = session.clock()
            self.next_state = end + max(self.rhythm, 10 * (end - start))

    def _preview(self) -> None:
        with suppress_full_disk():
            if self.clean and self.session.index >= 2:  # with less, noise is not known
                write_clean_preview(self.session, self.preview)
            else:
                write_preview(self.session, self.preview)
            self.version += 1

    def _tell(self) -> None:
        session = self.session
        share, recipe = session.share, session.recipe
        self.report.live = {
            "phase": "rendering",
            "preview": self.version,
            "clean": self.clean,
            "seconds": session.seconds,
            "samples": session.samples_mean,
            "noise": self.noise,
            "converged_fraction": session.converged_fraction if recipe.noise > 0 else None,
            "priority": session.priority,
            "left": session.seconds * (1 - share) / share if share > 0.002 else None,
        }
        number = f"sample {max(1, min(session.index + 1, recipe.samples))}"
        end = ", no end" if recipe.endless else f" of {recipe.samples}"
        self.report(share, number + end)


@contextmanager
def suppress_full_disk() -> Iterator[None]:
    """Pass over a disk that is full; anything else that goes wrong is told."""
    try:
        yield
    except OSError as e:
        if not no_room(e):
            raise


def write_preview(session: Session, path: Path) -> None:
    """Draw what there is so far; pixels without a sample stay the grey of the well."""
    film = session.film
    picture = np.full((*film.samples.shape, 3), 0x76, np.uint8)
    for y in range(0, len(picture), BAND):
        rows = slice(y, y + BAND)
        n = np.maximum(film.samples[rows], 1).astype(np.float32)[..., None]
        have = film.samples[rows] > 0
        picture[rows][have] = view(film.light[rows] / n, session.recipe.exposure)[have]
    temporary = path.with_name("next.png")
    write_pixels(temporary, picture)
    os.replace(temporary, path)


def write_clean_preview(session: Session, path: Path) -> None:
    """Draw what there is so far, denoised quickly; where it cannot be, as it is."""
    try:
        clean = denoise(session.layers(), "preview", threads=session.threads).picture
    except (MillError, MemoryError):  # too small a crop, or no room: the render itself goes on
        write_preview(session, path)
        return
    temporary = path.with_name("next.png")
    write_pixels(temporary, in_bands(lambda x: view(x, session.recipe.exposure), clean))
    os.replace(temporary, path)


def _write(session: Session, folder: Path) -> tuple[Path, Path]:
    exr, png = folder / "picture.exr", folder / "picture.png"
    write_exr(exr, session.each_layer(), names=exr_names())
    beauty = next(session.each_layer())[1]
    write_pixels(png, view(beauty, session.recipe.exposure))
    return exr, png


def _layer_pictures(session: Session, folder: Path) -> dict[str, Layer]:
    """A PNG of each layer that can be looked at, with its scale where it is a map."""
    out: dict[str, Layer] = {}
    for i, (name, plane) in enumerate(session.each_layer()):
        show = show_of(name)
        # A component without any light has nothing to show.
        if name == "beauty" or show is None or (plane.ndim == 3 and not plane.any()):
            continue
        spent = session.seconds * session.threads
        picture, scale = layer_picture(plane, show, session.recipe.exposure, spent)
        path = folder / f"layer-{i}.png"
        write_pixels(path, picture)
        out[name] = Layer(path=path, **(asdict(scale) if scale else {}))
    return out
