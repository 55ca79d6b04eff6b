"""A noisy picture made ready: colour apart from what it lies on, halves, guides, variances.

Colours of surfaces are divided out before anything is smoothed and multiplied back afterwards, so
that textures and lettering stay as sharp as they are.
"""

from __future__ import annotations

from collections.abc import Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from mill_lane.core.denoise import fireflies
from mill_lane.core.denoise.fireflies import Calmed, calmed
from mill_lane.core.denoise.notes import Notes
from mill_lane.core.denoise.prefilter import RADIUS, box_mean, prefiltered
from mill_lane.core.errors import MillError

F32 = NDArray[np.float32]
OFFSET = 0.02  # added to albedos: what is divided by them
FAR = 1.5  # times the farthest thing, where the sky stands among depths
NEAR = 8.0  # how much sooner than at the farthest thing depths are told apart
POOL = 1  # pixels to either side over which variances are pooled
BRIGHTEST = 1e6  # beyond, a value is taken for a mistake
SURE = 1.0  # how much each guide counts, as a rule
GUIDES = ("albedo", "normal", "depth")
# Pixels beyond a strip that what is made here depends on.
MARGIN = RADIUS + 3 + fireflies.MARGIN


@dataclass(frozen=True)
class Facts:
    """What has to be known of the whole picture before a strip of it is worked on.

    far : the largest depth, in the scene's units.  single : whether most pixels have one sample
    alone, so that there are no two halves.
    """

    height: int
    width: int
    far: float
    single: bool = False


@dataclass(frozen=True, eq=False)
class Noisy:
    """What smoothing works with; planes come first.

    base : float32 (3, H, W), the albedo with an offset.  halves : two of (3, H, W), colour over
    base without bright dots.  variance : (3, H, W), of the mean of one half.  guides : (G, H, W),
    about 1 large.  two : whether the halves are two.
    """

    base: F32
    halves: tuple[F32, F32]
    variance: F32
    guides: F32
    calmed: tuple[Calmed, Calmed]
    two: bool

    @property
    def whole(self) -> F32:
        """The picture (H, W, 3) of both halves."""
        a, b = self.calmed[0].picture, self.calmed[1].picture
        return ((a + b) / 2).astype(np.float32) if self.two else a


def base_of(albedo: F32) -> F32:
    """What light is divided by: an albedo (H, W, 3) within its bounds, with an offset."""
    return (np.clip(np.nan_to_num(albedo), 0.0, 1.0) + OFFSET).astype(np.float32)


def check_sizes(layers: Mapping[str, F32]) -> None:
    """Refuse layers of different sizes.

    Raises
    ------
    MillError
        Naming the first that does not fit.
    """
    size = layers["beauty"].shape[:2]
    for name, layer in layers.items():
        if layer.shape[:2] != size:
            raise MillError(
                f"The layer “{name}” is {layer.shape[1]} x {layer.shape[0]}, the picture "
                f"{size[1]} x {size[0]}.",
                "Export all layers of one render together.",
            )


def farthest(depth: F32) -> float:
    """The largest depth that is one."""
    there = np.isfinite(depth) & (depth < BRIGHTEST) & (depth >= 0)
    return float(np.max(depth, where=there, initial=0.0))


def noisy_of(
    layers: Mapping[str, F32],
    facts: Facts,
    notes: Notes,
    counts: Mapping[str, float] | None = None,
    inner: slice = slice(None),
    threads: int = 1,
    reach: int = RADIUS,
) -> Noisy:
    """Make a picture, or a strip of one, ready for smoothing.

    Parameters
    ----------
    layers : mapping
        By name: "beauty" (H, W, 3), and what there is of "half_a", "half_b", "albedo", "normal",
        "depth", "variance", and the variances of guides.
    facts : Facts
    notes : Notes
        Told what is missing or mended, and what suffers for it.
    counts : mapping, optional
        How much guides count, 0 to 1 each; 0 leaves one out.
    inner : slice
        The rows whose mended pixels are counted; the others are margins.
    threads : int
    reach : int
        Pixels to either side that guides are freed of noise by.

    Raises
    ------
    MillError
        For layers of different sizes.
    """
    check_sizes(layers)
    layers = _with_two_samples(layers, facts, notes)
    size = layers["beauty"].shape[:2]

    def mend(name: str, said: str = "") -> F32:
        return _mended(layers[name], notes, said or name, inner)

    guides, spreads, groups, albedo = _guides(layers, facts, notes, counts or {}, inner)
    smooth = prefiltered(guides, spreads, groups, threads, reach)
    del guides, spreads
    # Behind glass the albedo is noisy itself: what is divided by has to be sure.
    if albedo is None:
        base = np.ones((3, *size), np.float32)
    elif groups[0]:
        base = smooth[:3] / np.float32((counts or {}).get("albedo", SURE)) + np.float32(OFFSET)
    else:
        base = _planes(albedo) + np.float32(OFFSET)
    two = "half_a" in layers and "half_b" in layers
    below = np.moveaxis(base, 0, 2)
    if two:
        halves = [mend(n) for n in ("half_a", "half_b")]
        with ThreadPoolExecutor(max(1, threads)) as pool:
            found = list(pool.map(lambda a, b: calmed(a, below, b), halves, halves[::-1]))
    else:
        found = [calmed(mend("beauty", "the picture"), below)] * 2
    a, b = ((_planes(f.picture) / base).astype(np.float32) for f in found)
    if two:
        variance = box_mean(np.square(a - b) / np.float32(2), POOL)
    elif "variance" in layers:
        variance = box_mean(_planes(mend("variance")) / base**2, POOL)
        notes.say("no halves: noise is not told apart from detail as surely")
    else:
        variance = guessed_variance(a)
        notes.say("no halves and no variance: the noise is guessed from the neighbours")
    return Noisy(
        base,
        (a, b),
        np.maximum(variance, 0).astype(np.float32),
        smooth,
        (found[0], found[1]),
        two,
    )


def one_sample(layers: Mapping[str, F32]) -> NDArray[np.bool_]:
    """Which pixels (H, W) have one sample alone: the second half is black there."""
    beauty, a, b = layers["beauty"], layers["half_a"], layers["half_b"]
    single = (b == 0).all(-1) & (a == beauty).all(-1) & (beauty > 0).any(-1)
    return np.asarray(single, np.bool_)


def _with_two_samples(layers: Mapping[str, F32], facts: Facts, notes: Notes) -> Mapping[str, F32]:
    """The layers, with the first half in the place of a second one that has no sample; without
    halves where most have but one.
    """
    if "half_a" not in layers or "half_b" not in layers:
        return layers
    if facts.single:
        notes.say("one sample a pixel: at least two passes are needed to tell noise from detail")
        return {k: v for k, v in layers.items() if k not in ("half_a", "half_b", "variance")}
    single = one_sample(layers)
    if not single.any():
        return layers
    half = np.where(single[..., None], layers["half_a"], layers["half_b"])
    return {**layers, "half_b": half.astype(np.float32)}


def _mended(layer: F32, notes: Notes, name: str, inner: slice) -> F32:
    """The layer with what is no number, too large or below 0 taken from the neighbours."""
    whole = np.asarray(layer, np.float32)
    bad = ~np.isfinite(whole) | (np.abs(whole) > BRIGHTEST)
    if name == "the picture" or name.startswith("half"):
        bad |= whole < 0
    if bad.any():
        pixels = np.asarray(np.atleast_3d(bad).any(-1))
        notes.count(name, int(pixels[inner].sum()))
        whole = _from_neighbours(whole, bad)
    return whole


def _from_neighbours(layer: F32, bad: NDArray[np.bool_]) -> F32:
    """Bad values replaced by the mean of the good ones around, 0 where there are none."""
    good = _planes(np.where(bad, 0.0, layer).astype(np.float32))
    count = np.moveaxis(box_mean(_planes((~bad).astype(np.float32)), 2), 0, 2).reshape(layer.shape)
    total = np.moveaxis(box_mean(good, 2), 0, 2).reshape(layer.shape)
    return np.where(bad, total / np.maximum(count, 1e-3), layer).astype(np.float32)


def guessed_variance(flow: F32) -> F32:
    """The variance of noise in a picture (3, H, W) by itself: that of a pixel against the means of
    its neighbours, over squares of 7 x 7 (Immerkær 1996, for each place).
    """
    kernel = np.array([[1, -2, 1], [-2, 4, -2], [1, -2, 1]], np.float32)
    rough = ndimage.convolve(flow, kernel[None], mode="reflect")
    return box_mean(rough**2 / 36, 3)


def _guides(
    layers: Mapping[str, F32],
    facts: Facts,
    notes: Notes,
    counts: Mapping[str, float],
    inner: slice,
) -> tuple[F32, F32, tuple[int, ...], F32 | None]:
    """Planes of guides, their variances, how many each has (the albedo first), and the albedo."""
    planes: list[F32] = []
    variances: list[F32] = []
    groups = [0, 0, 0]

    def take(which: int, values: F32, slope: F32 | float = 1.0) -> None:
        name = GUIDES[which]
        scale = np.float32(counts.get(name, SURE))
        if scale <= 0:
            return
        made = _planes(values) * scale
        planes.extend(made)
        spread = layers.get(f"{name}_variance")
        known = np.zeros_like(values) if spread is None else _mended(spread, notes, name, inner)
        variances.extend(_planes(known.reshape(values.shape) * slope**2) * scale**2)
        groups[which] = len(made)

    albedo = None
    if "albedo" in layers:
        albedo = np.clip(_mended(layers["albedo"], notes, "albedo", inner), 0.0, 1.0)
        take(0, albedo)
    else:
        notes.say("no albedo: textures and lettering get softer")
    if "normal" in layers:
        take(1, _mended(layers["normal"], notes, "normal", inner))
    else:
        notes.say("no normals: edges between surfaces of one colour get softer")
    if "depth" in layers:
        depth = np.asarray(layers["depth"], np.float32).reshape(layers["depth"].shape[:2])
        there = np.isfinite(depth) & (depth < BRIGHTEST) & (depth >= 0)
        far = facts.far or 1.0
        depth = np.where(there, depth, FAR * far).astype(np.float32)[..., None]
        # What is twice as far may change twice as fast.
        slope = (0.5 * NEAR / far / (1 + depth / far * NEAR)).astype(np.float32)
        take(2, (0.5 * np.log1p(depth / far * NEAR)).astype(np.float32), slope)
    if not planes:
        none = np.zeros((0, *layers["beauty"].shape[:2]), np.float32)
        return none, none, (0, 0, 0), albedo
    stack = [np.stack(x).astype(np.float32) for x in (planes, variances)]
    return stack[0], stack[1], (groups[0], groups[1], groups[2]), albedo


def _planes(layer: F32) -> F32:
    """A layer (H, W, C) with its channels first."""
    return np.ascontiguousarray(np.moveaxis(np.atleast_3d(layer), 2, 0), np.float32)
