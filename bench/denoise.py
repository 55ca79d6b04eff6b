"""How much noise the denoiser takes, in raw samples against references, in which time and memory.

Truth is told by two references with seeds of their own: the mean product of the differences to both
is the squared error without their noise.
"""

from __future__ import annotations

import itertools
import sys
import time
from dataclasses import dataclass, field
from statistics import median
from typing import Any

import numpy as np
from skimage.restoration import denoise_bilateral, denoise_nl_means

from bench.demo import full_demo
from bench.denoise_files import peak_of_4k
from bench.denoise_scenes import SCENES
from mill_lane.core.denoise.bringing import seen_next, shimmer
from mill_lane.core.denoise.denoise import Clean, denoise
from mill_lane.core.denoise.holding import error_against, told_by_blocks
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.image.compare import ssim
from mill_lane.core.image.srgb import from_linear
from mill_lane.core.recipe import Recipe
from mill_lane.core.render.load import Loaded, load
from mill_lane.core.render.session import Session

# `reference` is the sum of both references' samples.
OPTIONS = {"reference": 4096, "scenes": 8, "threads": 2}
LAYERS = (
    "albedo",
    "normal",
    "depth",
    "position",
    "motion",
    "object",
    "half_buffers",
    "variance",
)
COUNTS, MIDDLE, JUDGES = (8, 32, 128), 32, 64
MODES = ("quality", "preview")
WIDE, HIGH = 640, 360
BLOCK = 64
MEGAPIXEL = 10**6
# Of the demo: bread and its labels, glass, flour dust in the light.
CROPS = {
    "lettering": ((260, 120, 388, 216), 1),
    "glass": ((100, 180, 228, 276), 80),
    "fog": ((330, 60, 458, 156), 150),
}
MOVING = ("lettering", "blurred")


@dataclass
class Found:
    """What was measured, scene by scene."""

    worth: dict[tuple[str, int], list[float]] = field(default_factory=dict)
    light: list[float] = field(default_factory=list)
    blocks: list[float] = field(default_factory=list)
    holds: list[float] = field(default_factory=list)
    shimmers: list[float] = field(default_factory=list)
    beaten: dict[str, int] = field(default_factory=lambda: {"nl_means": 0, "bilateral": 0})
    worse: int = 0
    lettering: float = 0.0
    seconds: dict[str, float] = field(default_factory=dict)


@dataclass
class Shots:
    """Renders of a crop of a scene."""

    loaded: Loaded
    region: Any
    frame: int
    threads: int

    def layers(self, samples: int, seed: int, step: int = 0) -> dict[str, Any]:
        recipe = Recipe(
            width=WIDE, height=HIGH, samples=samples, min_samples=samples, layers=LAYERS, seed=seed
        )
        session = Session(
            self.loaded,
            recipe,
            region=self.region,
            frame=self.frame + step,
            threads=self.threads,
            profiled=False,
        )
        while not session.done:
            session.step(10)
        return session.layers()


class Truth:
    """Two references, and errors against them."""

    def __init__(self, shots: Shots, samples: int) -> None:
        self.first = shots.layers(samples // 2, 99)
        self.both = [self.first["beauty"], shots.layers(samples // 2, 98)["beauty"]]
        self.mean = (self.both[0].astype(float) + self.both[1]) / 2

    def errors(self, picture: Any) -> Any:
        """Relative squared errors (H, W)."""
        a, b = (picture.astype(float) - x for x in self.both)
        return (a * b / (self.mean**2 + 0.01)).mean(-1)

    def error(self, picture: Any) -> float:
        return float(self.errors(picture).mean())


def light_changes(clean: Clean, raw: Any) -> tuple[float, float]:
    """Of the whole and, at most, of a block of 64 x 64 pixels: relative."""
    blocks = []
    for y in range(0, raw.shape[0] - BLOCK + 1, BLOCK // 2):
        for x in range(0, raw.shape[1] - BLOCK + 1, BLOCK // 2):
            cut = np.s_[y : y + BLOCK, x : x + BLOCK]
            before = float(raw[cut].sum())
            blocks.append(abs(float(clean.picture[cut].sum()) / max(before, 1e-9) - 1))
    return abs(clean.light_change), max(blocks, default=0.0)


def theirs(layers: dict[str, Any]) -> dict[str, Any]:
    """scikit-image's filters on the same picture, as it is shown, told its noise."""
    shown = from_linear(layers["beauty"]).astype(np.float32)
    a, b = (from_linear(layers[n]) for n in ("half_a", "half_b"))
    sigma = float(np.sqrt(np.mean((a - b) ** 2) / 4))
    out = {
        "nl_means": denoise_nl_means(
            shown, patch_size=7, patch_distance=7, h=0.8 * sigma, sigma=sigma, channel_axis=2
        ),
        "bilateral": denoise_bilateral(shown, sigma_spatial=3, channel_axis=2),
    }
    return {k: ((x + 0.055) / 1.055).clip(0) ** 2.4 for k, x in out.items()}


def _shimmer(shots: Shots) -> float:
    """Shimmer with frames before and after over that without, both over the surfaces' colours."""
    frames = [shots.layers(MIDDLE, 20 + k, k) for k in range(4)]
    pair = range(1, 3)
    alone = [denoise(frames[k], threads=shots.threads).picture for k in pair]
    together = [
        denoise(
            frames[k], threads=shots.threads, beside=[(s, frames[k + s]) for s in (-1, 1)]
        ).picture
        for k in pair
    ]
    base = [np.clip(frames[k]["albedo"], 0, 1) + 0.02 for k in pair]
    motions = [frames[1]["motion"]]
    seen = [seen_next(frames[1], frames[2])]
    values = [
        shimmer([x / c for x, c in zip(pictures, base, strict=True)], motions, seen)
        for pictures in (together, alone)
    ]
    return values[0] / max(values[1], 1e-12)


def _one(name: str, shots: Shots, reference: int, found: Found) -> None:
    truth = Truth(shots, reference)
    for n in COUNTS:
        layers = shots.layers(n, 7)
        raw = truth.error(layers["beauty"])
        cleans = {mode: denoise(layers, mode, threads=shots.threads) for mode in MODES}
        for mode, clean in cleans.items():
            # Where nothing can be told any more, an error of a thousandth of the raw one stands.
            left = max(truth.error(clean.picture), raw / 1000)
            found.worth.setdefault((mode, n), []).append(raw / left)
            print(name, n, mode, round(raw / left, 1), file=sys.stderr, flush=True)
        whole, block = light_changes(cleans["quality"], layers["beauty"])
        found.light.append(whole)
        found.blocks.append(block)
        if n != MIDDLE:
            continue
        best = truth.error(cleans["quality"].picture)
        for other, picture in theirs(layers).items():
            found.beaten[other] += best < truth.error(picture)
        judges = [shots.layers(JUDGES, 30 + k) for k in range(2)]
        bright = sum(denoise(x, threads=shots.threads).picture for x in judges) / 2
        a, b = (x["beauty"] for x in judges)
        told = error_against(cleans["quality"].picture, a, b, bright, layers["albedo"])
        real = told_by_blocks(truth.errors(cleans["quality"].picture)).value
        apart = abs((max(told.value, 1e-9) / max(real, 1e-9)) ** 0.5 - 1)
        found.holds.append(apart)
        print(name, "error told", told, "measured", real, file=sys.stderr, flush=True)
        if name == "lettering":
            found.lettering = _lettering(cleans["quality"].picture, truth, shots.threads)
            found.seconds = _seconds(layers, shots.threads)
    most = denoise(truth.first, threads=shots.threads).picture
    against = [
        float(np.mean((x.astype(float) - truth.both[1]) ** 2)) for x in (most, truth.both[0])
    ]
    found.worse += against[0] > against[1]
    if name in MOVING:
        found.shimmers.append(_shimmer(shots))
        print(name, "shimmer", found.shimmers[-1], file=sys.stderr, flush=True)


def _lettering(clean: Any, truth: Truth, threads: int) -> float:
    """SSIM at few samples over that at many, against the other reference."""
    most = denoise(truth.first, threads=threads).picture
    shown = from_linear(truth.both[1])
    few, many = (ssim(from_linear(x), shown) for x in (clean, most))
    return few / many


def _seconds(layers: dict[str, Any], threads: int) -> dict[str, float]:
    """Of a megapixel made of the crop over and over."""
    height, width = layers["beauty"].shape[:2]
    times = int(np.ceil((MEGAPIXEL / (height * width)) ** 0.5))
    large = {k: np.tile(v, (times, times) + (1,) * (v.ndim - 2)) for k, v in layers.items()}
    out = {}
    for mode in MODES:
        start = time.perf_counter()
        denoise(large, mode, threads=threads)
        pixels = height * width * times * times
        out[mode] = (time.perf_counter() - start) / (pixels / MEGAPIXEL)
    return out


def run(reference: int, scenes: int, threads: int) -> dict[str, float]:
    demo = load(open_scene(full_demo()[0]), threads)
    jobs = [(name, Shots(demo, *crop, threads)) for name, crop in CROPS.items()]
    for name, make in itertools.islice(SCENES.items(), max(0, scenes - len(jobs))):
        jobs.append((name, Shots(load(make(), threads), (256, 132, 384, 228), 1, threads)))
    found = Found()
    for name, shots in jobs[:scenes]:
        _one(name, shots, reference, found)
    out: dict[str, float] = {}
    for key, mode in (("worth", "quality"), ("preview", "preview")):
        out |= {f"{key}_{n}": median(found.worth[mode, n]) for n in COUNTS}
        out[f"seconds_per_mp_{mode}"] = found.seconds.get(mode, float("nan"))
    return out | {
        "hold_error_median": median(found.holds),
        "holds_within_15_percent": sum(x <= 0.15 for x in found.holds),
        "light_change_max": max(found.light),
        "block_light_change_max": max(found.blocks),
        "shimmer_ratio": median(found.shimmers) if found.shimmers else float("nan"),
        "better_than_nl_means": found.beaten["nl_means"],
        "better_than_bilateral": found.beaten["bilateral"],
        "worse_at_most_samples": found.worse,
        "lettering_ssim_kept": found.lettering,
        "peak_bytes_4k": peak_of_4k(),
    }
