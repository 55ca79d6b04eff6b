"""A frame in one piece, or in strips and parts of the scene, one after another.

A strip is some rows of the frame; what it gave is put aside on the disk.  Parts of the scene are
rendered on one film, one after another, each with the textures of the others small.
"""

from __future__ import annotations

import functools
import itertools
import math
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.progress import Cancelled
from mill_lane.core.recipe import Recipe
from mill_lane.core.render.pose import ScenePart
from mill_lane.core.render.session import Session
from mill_lane.core.render.settings import Preview
from mill_lane.work.kept_scene import is_loaded, loaded_scene
from mill_lane.work.kinds.base import Report
from mill_lane.work.kinds.render_parts import Request
from mill_lane.work.put_aside import Layers, PutAside, Rows, piece_key
from mill_lane.work.stepping import Piece, Steps, blank, when_there_is_room


@dataclass(frozen=True)
class Rendered:
    """What was rendered of a frame.

    Attributes
    ----------
    layers : callable
        Makes the mean pictures anew, one after another, the beauty first.
    figures : dict
        What was measured of it.
    session : Session
        The last one.
    stopped : bool
        Whether it was stopped by hand, with what there is.
    warm : bool
        Whether the scene was loaded before.
    baseline : int
        Bytes that were resident before it was loaded.
    setup : float
        Seconds until the first sample.
    resumed : bool
        Whether it went on from what was put aside.
    """

    layers: Callable[[], Layers]
    figures: dict[str, Any]
    session: Session
    stopped: bool
    warm: bool
    baseline: int
    setup: float
    resumed: bool


def render_pieces(request: Request, report: Report, sky: NDArray[np.float32] | None) -> Rendered:
    """Render the pieces that a request wants, those that are done left out.

    Raises
    ------
    Cancelled, Paused
        Where it was stopped with pieces left.
    """
    warm = is_loaded(request.scene, sizes_of(request, 0), request.choices)
    strips = _strips(request.region, request.means.strips)
    hands = _Pieces(request, report, sky, len(strips))
    figures: list[dict[str, Any]] = []
    aside = hands.aside
    for k, rows in enumerate(strips):
        key = hands.key(k * hands.parts, rows)
        done = aside.strip(k, key) if len(strips) > 1 else None
        if done is not None:
            figures.append(done)
            hands.resumed = True
            continue
        session = hands.render(k, rows)
        figures.append(_figures(session) | {"rows": rows[3] - rows[1]})
        if len(strips) > 1:
            keep = functools.partial(aside.keep_strip, k, key, figures[-1])
            when_there_is_room(report, functools.partial(_keep, session, keep))
    # Where all strips were put aside it was killed while files were written.
    session = hands.session or hands.begin(0, strips[-1])
    layers = aside.together(len(strips)) if len(strips) > 1 else session.each_layer
    setup, stopped = max(hands.setup, 0.0), hands.stopped
    return Rendered(
        layers, _summed(figures), session, stopped, warm, hands.baseline, setup, hands.resumed
    )


class _Pieces:
    """Rendering the pieces of a frame: strips, and in each of them the parts of the scene."""

    def __init__(
        self, request: Request, report: Report, sky: NDArray[np.float32] | None, strips: int
    ) -> None:
        self.request, self.report, self.sky = request, report, sky
        self.parts = max(1, len(request.means.parts))
        self.count = strips * self.parts
        self.recipe = request.recipe
        if self.parts > 1:
            self.recipe = without_an_end(self.recipe, self.parts)
        x0, y0, x1, y1 = request.region
        self.canvas = blank(y1 - y0, x1 - x0) if self.count > 1 else None
        self.aside = PutAside(request.folder)
        self.session: Session | None = None
        self.baseline, self.stopped, self.resumed = 0, False, False
        self.began, self.setup = time.perf_counter(), -1.0

    def render(self, strip: int, rows: Rows) -> Session:
        """Render a strip: its parts one after another, on one film."""
        first = strip * self.parts
        self.session = None
        saved = self.aside.saved()
        for part in range(self._begun(saved, first, rows), self.parts):
            number = first + part
            before: Session | None = self.session
            self.session = session = self.begin(number, rows)
            if before is not None:
                session.add_to(before)
            if saved and saved in (session.key, self._ended(number)):
                session.restore(self.aside.state, saved)
                self.resumed = True
            saved = ""  # the other parts are begun
            if self.setup < 0:
                self.setup = time.perf_counter() - self.began
            top = rows[1] - self.request.region[1]
            piece = Piece(number, self.count, top, self.canvas)
            self.stopped = Steps(session, self.report, self.request, piece).run()
            if self.count > 1 and (self.stopped or self._ends_here(number)):
                raise Cancelled  # pieces are missing
        assert self.session is not None
        return self.session

    def _ends_here(self, number: int) -> bool:
        """Whether it is to stop by hand with pieces left."""
        return number + 1 < self.count and bool(self.report.hear().get("finish"))

    def begin(self, number: int, rows: Rows) -> Session:
        """Begin a piece, its scene loaded; nothing is rendered yet."""
        request, part = self.request, number % self.parts
        parts, sizes = request.means.parts, sizes_of(request, part)
        loaded, self.baseline = loaded_scene(
            request.scene,
            sizes,
            request.threads,
            self.report,
            request.choices,
            request.textures,
        )
        return Session(
            loaded,
            self.recipe,
            region=rows,
            frame=request.frame,
            threads=request.threads,
            key=self.key(number, rows),
            preview=Preview(**request.preview),
            sky=self.sky,
            about=request.about,
            part=ScenePart(frozenset(parts[part]), part == 0) if parts else None,
        )

    def key(self, number: int, rows: Rows) -> str:
        """By which the saved state of a piece is known."""
        return piece_key(self.request.key, self.request.means, number, rows)

    def _ended(self, number: int) -> str:
        """The key of the state of an ended frame that is to get more samples."""
        return self.request.ended if self.count == 1 else ""

    def _begun(self, saved: str, first: int, rows: Rows) -> int:
        """The part of a strip whose state was saved; those before it are on its film."""
        keys = [self.key(first + p, rows) for p in range(self.parts)]
        return keys.index(saved) if saved in keys else 0


def _keep(session: Session, keep: Callable[[Layers], None]) -> None:
    keep(session.each_layer())  # made anew where it is tried again


def without_an_end(recipe: Recipe, parts: int) -> Recipe:
    """The recipe of a frame in parts: each pixel gets all samples, since none of the parts knows
    the noise of the whole; a time limit is shared.
    """
    return recipe.model_copy(
        update={"noise": 0.0, "time_limit": recipe.time_limit / parts, "order": "progressive"}
    )


def sizes_of(request: Request, part: int) -> Mapping[int, int]:
    """The longest sides of textures while a part is rendered, by image."""
    if not request.means.parts:
        return request.means.sizes
    return request.means.sizes_of(request.images, part)


def _strips(region: Rows, count: int) -> list[Rows]:
    """The region cut into so many strips, from the top."""
    x0, y0, x1, y1 = region
    edges = [y0 + (y1 - y0) * k // count for k in range(count + 1)]
    return [(x0, a, x1, b) for a, b in itertools.pairwise(edges) if b > a]


def _figures(session: Session) -> dict[str, Any]:
    """What is measured of a session."""
    film, noise = session.film, session.noise()
    samples = np.maximum(film.samples, 1)
    return {
        "seconds": session.seconds,
        "samples_mean": session.samples_mean,
        "passes": session.index,
        "noise": noise.rms if np.isfinite(noise.rms) else None,
        "noise_p95": noise.p95 if np.isfinite(noise.p95) else None,
        "rays": session.rays_by_kind(),
        "converged_fraction": session.converged_fraction,
        "light_lost": session.light_lost,
        "mean_luminance": float((film.luma[..., 0] / samples).mean()),
        "bad_pixels": int((~np.isfinite(film.light).all(-1)).sum()),
        "threads": session.threads,
        "ended_by": session.done or "hand",
    }


def _summed(figures: Sequence[Mapping[str, Any]]) -> dict[str, Any]:
    """The figures of a frame from those of its strips: means go by their rows, the 95th percentile
    of the noise is that of the noisiest strip.
    """
    out = dict(figures[0])
    rows = [f["rows"] for f in figures]
    del out["rows"]
    if len(figures) == 1:
        return out

    def mean(values: Sequence[float]) -> float:
        return sum(v * n for v, n in zip(values, rows, strict=True)) / sum(rows)

    for name in ("samples_mean", "converged_fraction", "light_lost", "mean_luminance"):
        out[name] = mean([f[name] for f in figures])
    for name in ("seconds", "bad_pixels"):
        out[name] = sum(f[name] for f in figures)
    known = all(f["noise"] is not None for f in figures)
    out["noise"] = math.sqrt(mean([f["noise"] ** 2 for f in figures])) if known else None
    out["noise_p95"] = max(f["noise_p95"] or 0.0 for f in figures) if known else None
    out["passes"] = min(f["passes"] for f in figures)
    out["rays"] = {kind: sum(f["rays"].get(kind, 0) for f in figures) for kind in out["rays"]}
    return out
