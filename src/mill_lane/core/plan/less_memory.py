"""Rungs: what a run goes on with when memory fails, from what costs least.

What tiles need is the same for small ones: a thread keeps one path, not a tile.  And layers are
always written one after another.  So neither is a rung here.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

from mill_lane.core.plan.parts import MOST_PARTS, REST_SIDE, images_of, in_parts
from mill_lane.core.plan.way import Way
from mill_lane.core.registry import Registry
from mill_lane.core.weigh.rules.sizes import shrunk


@dataclass(frozen=True)
class Rung:
    """A way to take less memory.

    Attributes
    ----------
    name : str
    title : str
        What it does, for people.
    picture, time : str
        What it costs in the picture, and in time.
    step : callable
        The next way by it; None where it has nothing to give.
    """

    name: str
    title: str
    picture: str
    time: str
    step: Callable[[Way], Way | None]


LEAST_IN_FLIGHT = 16_384  # paths
LEAST_SIDE = 64  # pixels of a texture
LEAST_STRIP = 16  # rows of pixels
MOST_STRIPS = 16
LENT_SHARE = 0.5  # of what is free of the computer's memory
THE_SAME = "the same"


def _fewer_in_flight(way: Way) -> Way | None:
    paths = way.device.samples_in_flight // 2
    if not way.device.batches or paths < LEAST_IN_FLIGHT:
        return None
    return replace(way, device=way.device.model_copy(update={"samples_in_flight": paths}))


def _denoise_later(way: Way) -> Way | None:
    if way.recipe.denoise != "with":
        return None
    return replace(way, recipe=way.recipe.model_copy(update={"denoise": "later"}))


def _fewer_layers(way: Way) -> Way | None:
    bare = way.recipe.model_copy(update={"layers": ()})
    if set(bare.kept_layers) == set(way.recipe.kept_layers):
        return None
    return replace(way, recipe=bare.model_copy(update={"layers": bare.kept_layers}))


def _smaller_textures(way: Way) -> Way | None:
    sizes = dict(way.means.sizes)
    for t in way.analysis.textures:
        far = t.nearest_m is None or not t.in_view or t.nearest_m > way.far_m
        side = max(t.width, t.height)
        if t.index in sizes:
            side = max(shrunk(t, sizes[t.index])[0])
        if far and t.memory_bytes and not t.missing and side > LEAST_SIDE:
            sizes[t.index] = side // 2
    return way.with_means(sizes=sizes) if sizes != way.means.sizes else None


def _lend(way: Way) -> Way | None:
    if not way.device.simulated or way.cpu is None or way.device.lent_bytes:
        return None
    lent = int(LENT_SHARE * way.cpu.free_bytes)
    return replace(way, device=way.device.model_copy(update={"lent_bytes": lent}))


def _processor(way: Way) -> Way | None:
    return replace(way, device=way.cpu) if way.device.simulated and way.cpu is not None else None


def _strips(way: Way) -> Way | None:
    strips = 2 * way.means.strips
    if strips > MOST_STRIPS or way.recipe.height // strips < LEAST_STRIP:
        return None
    later = _denoise_later(way) or way  # it takes all of the frame together
    return later.with_means(strips=strips)


def _parts(way: Way) -> Way | None:
    """As few parts as make it fit, or the most."""
    if way.means.parts:
        return None
    saved = {
        t.index: t.memory_bytes - shrunk(t, REST_SIDE)[1]
        for t in way.analysis.textures
        if t.memory_bytes and not t.missing
    }
    images, tried = images_of(way.analysis), None
    for count in range(2, MOST_PARTS + 1):
        parts = in_parts(images, saved, count)
        if len(parts) < count:
            break
        tried = way.with_means(parts=tuple(tuple(sorted(p)) for p in parts))
        if tried.fits:
            break
    return tried


RUNGS = Registry(
    "rung",
    Rung(
        "fewer_in_flight",
        "half as many samples in flight at once, as often as it helps",
        THE_SAME,
        "longer: a card is busy less well",
        _fewer_in_flight,
    ),
    Rung(
        "denoise_later",
        "denoise once all is rendered, not with each frame",
        THE_SAME,
        "about as long, at the end",
        _denoise_later,
    ),
    Rung(
        "fewer_layers",
        "keep the picture and what denoising needs, no other layers",
        "the same, fewer layers beside it",
        "no longer",
        _fewer_layers,
    ),
    Rung(
        "smaller_textures",
        "textures one step smaller beyond a distance, as often as it helps",
        "what is far away gets softer",
        "no longer",
        _smaller_textures,
    ),
    Rung(
        "strips",
        "the frame in strips, one after another",
        "the same; with a noise threshold samples differ at seams",
        "no longer but for writing",
        _strips,
    ),
    Rung(
        "lent_memory",
        "lend the card half of the computer's free memory",
        THE_SAME,
        "longer: a card reads it over its bus",
        _lend,
    ),
    Rung(
        "processor",
        "the processor instead of the card",
        THE_SAME,
        "that of the processor",
        _processor,
    ),
    Rung(
        "parts",
        "the scene in parts, rendered one by one and added up",
        f"light off things in other parts has textures of {REST_SIDE} px",
        "longer: textures and the camera's rays for each part",
        _parts,
    ),
)


def with_less(way: Way, allowed: Sequence[str], failed: bool = False) -> tuple[Way, Rung] | None:
    """Take the next rung that gives something; None where there is none.

    Parameters
    ----------
    way : Way
    allowed : sequence of str
        Names of the rungs that may be taken, in their order.
    failed : bool
        Whether memory failed against the prediction: then what is held counts as well, beside the
        most that is needed for a moment.

    Returns
    -------
    tuple of Way and Rung, or None
        The way needs less memory, or has more.
    """
    for name in allowed:
        changed = RUNGS[name].step(way)
        if changed is None:
            continue
        if changed.over < way.over or (failed and changed.held < way.held):
            return changed, RUNGS[name]
    return None


def made_to_fit(way: Way, allowed: Sequence[str]) -> tuple[Way, list[Rung]]:
    """Take rungs until it fits, or none is left; each is told once."""
    taken: list[Rung] = []
    while not way.fits and (found := with_less(way, allowed)) is not None:
        way = found[0]
        if found[1] not in taken:
            taken.append(found[1])
    return way, taken


def foretold(way: Way, order: Sequence[str]) -> list[tuple[Rung, int | None]]:
    """What each rung would leave to hold, one taken after another; None where it gives nothing."""
    out: list[tuple[Rung, int | None]] = []
    for name in order:
        found = with_less(way, (name,))
        out.append((RUNGS[name], found[0].ledger.whole if found else None))
        way = found[0] if found else way
    return out
