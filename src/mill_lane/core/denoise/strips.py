"""A picture of any size cleaned strip by strip: memory depends on its width alone.

Each strip is read with margins, so that it comes out to the bit as within the whole.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.denoise import atrous as quick
from mill_lane.core.denoise import noisy as ready
from mill_lane.core.denoise.bringing import Reached, brought, reach_of
from mill_lane.core.denoise.names import RADIUS
from mill_lane.core.denoise.noisy import Facts, Noisy, farthest, noisy_of, one_sample
from mill_lane.core.denoise.notes import Notes
from mill_lane.core.denoise.prefilter import RADIUS as RADIUS_OF_GUIDES
from mill_lane.core.denoise.prefilter import box_mean
from mill_lane.core.denoise.regression import PATCH, Given, regressed
from mill_lane.core.denoise.sizes import STRIP_PIXELS
from mill_lane.core.image.srgb import luminance

F32 = NDArray[np.float32]
Layers = Mapping[str, F32]
Mode = Literal["preview", "quality", "fireflies"]
QUICK_PIXELS = 550_000  # of a strip with its margins, for a preview
KEPT = ("beauty", "half_a", "half_b", "object")  # layers that a strip goes on with
QUICK_REACH = 2  # pixels to either side that guides are freed of noise by, for a preview
EVERY = 64  # rows from one to the next that are looked at to know the whole picture
# Light is evened out by this many means over squares with so many pixels to either side, and by
# so much at most.
TURNS, EVEN, MOST_EVENED = 3, 10, 1.25
LEAST_ROWS = TURNS * EVEN + 2  # of a strip: evening looks no farther than the next


@dataclass(frozen=True)
class Source:
    """A picture that is read as it is needed.

    rows : gives the layers of rows y0 to y1, float32 (y1 - y0, W, C), by name: "beauty", guides.
    step : frames from the one that is cleaned to this one; 0 for that one itself.
    """

    height: int
    width: int
    rows: Callable[[int, int], Layers]
    step: int = 0


@dataclass(frozen=True)
class Settings:
    """How it is worked.

    guides : how much each counts, 0 to 1; those that are not named count 1.  threads : the result
    does not depend on it.
    """

    mode: Mode = "quality"
    radius: int = RADIUS
    guides: Mapping[str, float] = field(default_factory=dict)
    threads: int = 1

    @property
    def reach(self) -> int:
        """Pixels to either side that guides are freed of noise by."""
        return QUICK_REACH if self.mode == "preview" else RADIUS_OF_GUIDES

    @property
    def margin(self) -> int:
        """Rows beyond a strip that have to be known."""
        if self.mode == "fireflies":
            return ready.MARGIN
        reach = quick.REACH if self.mode == "preview" else self.radius + PATCH
        return reach + ready.MARGIN

    def rows(self, width: int) -> int:
        """Rows of a strip of a picture so wide, for which memory is thought of."""
        pixels = QUICK_PIXELS if self.mode == "preview" else STRIP_PIXELS
        return max(pixels // width - 2 * self.margin, LEAST_ROWS)


@dataclass(frozen=True, eq=False)
class Strip:
    """Rows y0 to y1 of a picture, (y1 - y0, W, 3): its raw layers of `KEPT`, clean, and the same
    of either half of the samples where there were two.  fireflies, moved : bright dots that were
    spread out, and the luminance that moved.
    """

    y0: int
    y1: int
    layers: Layers
    picture: F32
    halves: tuple[F32, F32] | None
    fireflies: float
    moved: float


def facts_of(source: Source) -> Facts:
    """Look over the whole picture, a row of every `EVERY`."""
    far, single, lit = 0.0, 0, 0
    for y in range(0, source.height, EVERY):
        layers = source.rows(y, y + 1)
        if "depth" in layers:
            far = max(far, farthest(layers["depth"]))
        if "half_a" in layers and "half_b" in layers and layers["half_a"].ndim == 3:
            single += int(one_sample(layers).sum())
            lit += int((layers["beauty"] > 0).any(-1).sum())
    return Facts(source.height, source.width, far, single > lit / 2)


def strips_of(
    source: Source,
    settings: Settings,
    notes: Notes,
    beside: Sequence[Source] = (),
    rows: int = 0,
    progress: Callable[[float], None] | None = None,
) -> Iterator[Strip]:
    """Clean a picture, one strip after another.

    Parameters
    ----------
    source : Source
    settings : Settings
    notes : Notes
        Told what was missing or mended.
    beside : sequence of Source
        Frames before and after, of the same size, whose samples are used along the motion.
    rows : int
        Of a strip, 0 for as many as memory is thought of for; the result does not depend on it.
    progress : callable, optional
        Told the share that is done; may stop it.

    Yields
    ------
    Strip
        From the top to the bottom, each as soon as the next one is known.
    """
    facts = facts_of(source)
    if beside and settings.mode != "quality":
        notes.say("frames before and after count where it is done thoroughly alone")
        beside = ()
    window: list[Strip] = []
    wholes: list[F32] = []
    step = max(rows or settings.rows(source.width), LEAST_ROWS)
    for y0 in range(0, source.height, step):
        y1 = min(y0 + step, source.height)

        def tell(share: float, y0: int = y0, y1: int = y1) -> None:
            if progress is not None:
                progress((y0 + share * (y1 - y0)) / source.height)

        strip, whole = _one(source, settings, notes, beside, facts, (y0, y1), tell)
        if settings.mode == "fireflies":
            yield strip
            continue
        window.append(strip)
        wholes.append(whole)
        if len(window) > 1:
            yield _evened(window, wholes, len(window) - 2, facts)
            window, wholes = window[-2:], wholes[-2:]
    if window:
        yield _evened(window, wholes, len(window) - 1, facts)


def _one(
    source: Source,
    settings: Settings,
    notes: Notes,
    beside: Sequence[Source],
    facts: Facts,
    span: tuple[int, int],
    tell: Callable[[float], None],
) -> tuple[Strip, F32]:
    """A strip before its light is evened, and the same rows calmed but not smoothed."""
    y0, y1 = span
    top, bottom = max(y0 - settings.margin, 0), min(y1 + settings.margin, source.height)
    inner = slice(y0 - top, y1 - top)
    layers = source.rows(top, bottom)
    known = noisy_of(layers, facts, notes, settings.guides, inner, settings.threads, settings.reach)
    tell(0.1)
    kept = {name: layers[name][inner].copy() for name in KEPT if name in layers}
    if not known.two:  # what it holds of them tells nothing
        kept = {name: x for name, x in kept.items() if not name.startswith("half_")}
    if not beside:
        layers = {}  # what is no more needed is let go before the smoothing
    if settings.mode == "fireflies":
        pictures = [f.picture[inner] for f in known.calmed]
    else:
        span = top, bottom
        near = [_brought(layers, other, settings, facts, span, notes) for other in beside]
        cut = _cut(known, inner, settings)
        flows = _smoothed(known, cut, near, settings, tell)
        base = known.base[:, inner]
        pictures = [
            np.ascontiguousarray(np.moveaxis(np.maximum(f, 0.0) * base, 0, 2)) for f in flows
        ]
    both = known.calmed if known.two else known.calmed[:1]
    strip = Strip(
        y0,
        y1,
        kept,
        ((pictures[0] + pictures[1]) / 2).astype(np.float32) if known.two else pictures[0],
        (pictures[0], pictures[1]) if known.two else None,
        sum(int(f.dots[inner].sum()) for f in both) / len(both),
        float(np.mean([f.over[inner].sum(dtype=np.float64) for f in both])),
    )
    return strip, known.whole[inner]


def _cut(known: Noisy, inner: slice, settings: Settings) -> tuple[slice, slice]:
    """The rows that smoothing is given, and which of those are wanted."""
    reach = quick.REACH if settings.mode == "preview" else settings.radius + PATCH
    top = max(inner.start - reach, 0)
    bottom = min(inner.stop + reach, known.base.shape[1])
    return slice(top, bottom), slice(inner.start - top, inner.stop - top)


def _smoothed(
    known: Noisy,
    cut: tuple[slice, slice],
    near: Sequence[Reached],
    settings: Settings,
    tell: Callable[[float], None],
) -> list[F32]:
    """Each half smoothed with the weights that the other tells."""
    wide, inner = cut
    a, b = (np.ascontiguousarray(h[:, wide]) for h in known.halves)
    variance, guides = known.variance[:, wide], known.guides[:, wide]
    if settings.mode == "preview":
        halves = (a, b) if known.two else (a,)
        found = quick.atrous(
            halves,
            (variance / len(halves)).astype(np.float32),
            guides,
            settings.threads,
            lambda s: tell(0.1 + 0.9 * s),
        )
        return [f[:, inner] for f in found]
    out = []
    for k in range(1 + known.two):
        values, by = ((a, b), (b, a))[k] if known.two else (a, a)
        others = [r.given(k, wide) for r in near]

        def share(done: float, k: int = k) -> None:
            tell(0.1 + 0.9 * (k + done) / (1 + known.two))

        given = Given(values, by, variance, guides)
        flow = regressed(given, settings.radius, others, settings.threads, share, inner)
        out.append(flow)
    return out


def _brought(
    layers: Layers,
    other: Source,
    settings: Settings,
    facts: Facts,
    span: tuple[int, int],
    notes: Notes,
) -> Reached:
    """Another frame's rows, made ready in their own place and brought to where things are."""
    top, bottom = span
    reach = reach_of(layers, notes)
    first, last = max(top - reach, 0), min(bottom + reach, other.height)
    theirs = other.rows(first, last)
    known = noisy_of(theirs, facts, Notes(), settings.guides, threads=settings.threads)
    return brought(layers, theirs, known, other.step, first - top)


def _evened(window: Sequence[Strip], wholes: Sequence[F32], which: int, facts: Facts) -> Strip:
    """A strip with as much light as the raw one had, place by place.

    Neighbours are picked by how alike they look, which takes bright ones and dark ones unequally;
    over many pixels the raw picture's mean is right.
    """
    strip = window[which]
    radius = max(1, min(EVEN, min(facts.height, facts.width) // 6))
    above = wholes[which - 1][-LEAST_ROWS:].shape[0] if which else 0
    rows = slice(above, above + strip.y1 - strip.y0)

    def smooth(pictures: Sequence[F32]) -> F32:
        near = [pictures[which]]
        if which:
            near.insert(0, pictures[which - 1][-LEAST_ROWS:])
        if which + 1 < len(pictures):
            near.append(pictures[which + 1][:LEAST_ROWS])
        plane = np.concatenate([luminance(x) for x in near])[None]
        for _ in range(TURNS):
            plane = box_mean(plane, radius)
        return plane[0, rows]

    given = smooth(wholes)

    def evened(pictures: Sequence[F32]) -> F32:
        share = np.clip(given / np.maximum(smooth(pictures), 1e-9), 1 / MOST_EVENED, MOST_EVENED)
        return np.asarray(pictures[which] * share[..., None], np.float32)

    if strip.halves is None:
        halves, picture = None, evened([s.picture for s in window])
    else:
        a, b = (evened([s.halves[k] for s in window if s.halves is not None]) for k in range(2))
        halves, picture = (a, b), ((a + b) / 2).astype(np.float32)
    return Strip(strip.y0, strip.y1, strip.layers, picture, halves, strip.fireflies, strip.moved)
