"""Rendering step by step, with previews and checkpoints in between."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import TypeVar

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.denoise.denoise import denoise
from mill_lane.core.errors import MillError
from mill_lane.core.formats.pictures import write_pixels
from mill_lane.core.image.srgb import in_bands, view
from mill_lane.core.progress import Cancelled, left_of
from mill_lane.core.render.session import Session
from mill_lane.store.transactions import no_room
from mill_lane.work.kinds.base import Paused, Report
from mill_lane.work.kinds.render_parts import Request

BAND = 128  # rows at a time, so that a preview takes little memory
T = TypeVar("T")


@dataclass(frozen=True)
class Piece:
    """Which piece of a frame is rendered, of how many.

    `canvas` is the picture of all the frame, (H, W, 3), of which the piece is rows from `top` on.
    """

    number: int = 0
    of: int = 1
    top: int = 0
    canvas: NDArray[np.uint8] | None = None


def when_there_is_room(report: Report, make: Callable[[], T]) -> T:
    """Make files; where the disk is full, wait until it is not: hours of rendering hang on it."""
    while True:
        try:
            return make()
        except OSError as e:
            if not no_room(e):
                raise
        report.wait_for_room(1.0)


def when_written(report: Report, make: Callable[[], list[Path]]) -> dict[str, list[str] | str]:
    """Write a frame under its own names; where its folder cannot be written, wait until it can be.

    Stopped meanwhile, it says what is missing: the frame itself is kept.
    """
    while True:
        try:
            return {"written": [str(path) for path in when_there_is_room(report, make)]}
        except MillError as e:
            try:
                report.wait_for_room(1.0, e.message.rstrip("."))
            except Cancelled:
                return {"not_written": e.message}


class Steps:
    """Rendering a piece of a frame step by step, with previews and checkpoints in between."""

    def __init__(self, session: Session, report: Report, request: Request, piece: Piece) -> None:
        self.session, self.report, self.piece = session, report, piece
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
                when_there_is_room(self.report, lambda: session.save(self.checkpoint))
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
            piece = self.piece
            if self.clean and self.session.index >= 2 and piece.of == 1:
                write_clean_preview(self.session, self.preview)  # with less, noise is not known
            else:
                write_preview(self.session, self.preview, piece.canvas, piece.top)
            self.version += 1

    def _tell(self) -> None:
        session = self.session
        share, recipe = (self.piece.number + session.share) / self.piece.of, session.recipe
        self.report.live = {
            "phase": "rendering",
            "preview": self.version,
            "clean": self.clean,
            "seconds": session.seconds,
            "samples": session.samples_mean,
            "noise": self.noise,
            "converged_fraction": session.converged_fraction if recipe.noise > 0 else None,
            "priority": session.priority,
            "left": self._left(),
        }
        number = f"sample {max(1, min(session.index + 1, recipe.samples))}"
        end = ", no end" if recipe.endless else f" of {recipe.samples}"
        which = f"piece {self.piece.number + 1} of {self.piece.of}, " if self.piece.of > 1 else ""
        self.report(share, which + number + end)

    def _left(self) -> float | None:
        """Seconds left of the frame, by the pace of this piece: earlier ones have their own."""
        share = self.session.share
        left = left_of(share, self.session.seconds, 0.002)
        others = self.piece.of - self.piece.number - 1
        return None if left is None else left + others * self.session.seconds / share


@contextmanager
def suppress_full_disk() -> Iterator[None]:
    """Pass over a disk that is full; anything else that goes wrong is told."""
    try:
        yield
    except OSError as e:
        if not no_room(e):
            raise


def blank(height: int, width: int) -> NDArray[np.uint8]:
    """A picture of which nothing is there yet: the grey of the well."""
    return np.full((height, width, 3), 0x76, np.uint8)


def write_preview(
    session: Session, path: Path, canvas: NDArray[np.uint8] | None = None, top: int = 0
) -> None:
    """Draw what there is so far; pixels without a sample stay as they were.

    Where a canvas is given, the film is rows of it from `top` on, and all of it is written.
    """
    film = session.film
    whole = blank(*film.samples.shape) if canvas is None else canvas
    picture = whole[top : top + len(film.samples)]
    for y in range(0, len(picture), BAND):
        rows = slice(y, y + BAND)
        n = np.maximum(film.samples[rows], 1).astype(np.float32)[..., None]
        have = film.samples[rows] > 0
        picture[rows][have] = view(film.light[rows] / n, session.recipe.exposure)[have]
    temporary = path.with_name("next.png")
    write_pixels(temporary, whole)
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
