"""The memory ledger:

bytes by kind, in the order in which they are taken, and the step at which a device fills up.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from mill_lane.core.denoise.sizes import denoise_bytes
from mill_lane.core.devices.model import Device
from mill_lane.core.recipe import Recipe
from mill_lane.core.render.layers import BEAUTY, LAYERS
from mill_lane.core.render.sizes import (
    KEY_HEIGHT,
    KEY_WIDTH,
    STATISTICS_BYTES,
    brightness_bytes,
    film_bytes,
    sky_bytes,
)
from mill_lane.core.render.slots import counters_size, path_size
from mill_lane.core.weigh.analysis import Analysis

Kind = Literal[
    "geometry", "acceleration", "textures", "environment", "film", "in_flight", "denoise"
]
KINDS: tuple[Kind, ...] = (
    "geometry",
    "acceleration",
    "textures",
    "environment",
    "film",
    "in_flight",
    "denoise",
)

# What the application maps from files that it keeps (`render.shelf`), where it renders itself.
MAPPED_KINDS: tuple[Kind, ...] = ("acceleration", "textures")

# A path of a simulated card between kernels: ray 32, throughput and light 24, random state 16, hit
# 40, pixel 8.
PATH_BYTES = 120
# What a placement takes besides the meshes' arrays: its matrices, its node in the file and in the
# model.  Measured, by renders of 2,500 to 40,000 copies of one mesh: 0.3 to 0.7 kB.
PLACEMENT_BYTES = 600
# Stacks of threads, buffers of libraries: 4 MB on a scene of two triangles at any size, measured.
FIXED_BYTES = 4 * 10**6
# What building a hierarchy takes a triangle beside what it leaves: 41 to 55 bytes, measured on
# balls of 65,000 to a million triangles.
BUILDING_BYTES = 50
# What a mesh takes a vertex while it is read: position, normal, UV, triangles, the file's bytes.
READ_BYTES = 72
# What evaluating a subdivision surface takes a triangle of its level, one surface at a time: 480 to
# 515 bytes, measured on surfaces of 50,000 to 800,000 triangles.
DICING_BYTES = 515
# Libraries and compiled kernels of a process that renders, before it has read a scene: measured
# on Linux, 295 to 306 MB.
PROCESS_BYTES = 306_000_000
SMALL_BLOCK = 1 << 20  # bytes below which the C library keeps what is given back for the next


@dataclass(frozen=True)
class Step:
    """One thing that is put into memory."""

    kind: Kind
    name: str
    bytes: int


@dataclass(frozen=True)
class Ledger:
    """What a render takes, step by step, in the order in which it is taken.

    `process` is what the process holds beside that, whatever it renders.
    """

    steps: tuple[Step, ...]
    process: int = 0

    @property
    def total(self) -> int:
        """Bytes of all steps: what is measured as the peak of a render."""
        return sum(s.bytes for s in self.steps)

    @property
    def whole(self) -> int:
        """The same with the process itself: what has to find room."""
        return self.total + self.process

    @property
    def least(self) -> int:
        """What has to find room where nothing that is mapped from files has been read."""
        return self.whole - self.mapped

    @property
    def mapped(self) -> int:
        """Bytes of what may be mapped from files: as much of it is in memory as was read, and the
        system can let go of that.  The measured peak lies between the total without them and with.
        """
        return sum(s.bytes for s in self.steps if s.kind in MAPPED_KINDS)

    def by_kind(self) -> dict[Kind, int]:
        """Bytes of each kind, all kinds named."""
        out: dict[Kind, int] = defaultdict(int)
        for s in self.steps:
            out[s.kind] += s.bytes
        return {k: out[k] for k in KINDS}

    def as_json(self) -> dict[str, int]:
        """Bytes by kind, and their sum."""
        by_kind = {str(k): n for k, n in self.by_kind().items()}
        return by_kind | {"total": self.total, "process": self.process}


@dataclass(frozen=True)
class Verdict:
    """Whether a ledger fits a device, and if not, where it would fail."""

    needed: int
    free: int
    failing: Step | None
    number: int  # of the failing step among those of its kind, from 1
    of: int

    @property
    def fits(self) -> bool:
        """Whether every step fits."""
        return self.failing is None

    @property
    def headroom(self) -> int:
        """Bytes left over; below zero, bytes too many."""
        return self.free - self.needed

    def sentence(self) -> str:
        """Where it would fail, in words."""
        if self.failing is None:
            return "Everything finds room."
        where = {
            "geometry": "reading meshes",
            "acceleration": "building the acceleration structure",
            "textures": "loading textures",
            "environment": "setting up the environment",
            "film": "making room for the picture's layers",
            "in_flight": "starting the samples",
            "denoise": "starting the denoiser",
        }[self.failing.kind]
        count = f", number {self.number} of {self.of}: {self.failing.name}" if self.of > 1 else ""
        return f"It would fail while {where}{count}."


def texture_steps(analysis: Analysis) -> list[Step]:
    """Textures in loading order, largest first."""
    pairs = [(t.memory_bytes, t.index, t.name) for t in analysis.textures if t.memory_bytes > 0]
    return [Step("textures", name, n) for n, _, name in sorted(pairs, key=lambda x: (-x[0], x[1]))]


def draw_up(
    analysis: Analysis,
    recipe: Recipe,
    device: Device,
    size: tuple[int, int] | None = None,
) -> Ledger:
    """Draw up the ledger of a render on a device.

    Parameters
    ----------
    analysis : Analysis
    recipe : Recipe
    device : Device
    size : tuple of int, optional
        Width and height of a crop, pixels; the whole picture where it is not given.

    Returns
    -------
    Ledger
        For the CPU the arrays that the renderer allocates; for a device that keeps paths in flight
        the same, with these in the place of the paths of each thread.
    """
    width, height = size or (recipe.width, recipe.height)
    steps = [Step("geometry", m.name, m.geometry_bytes) for m in analysis.meshes]
    steps.append(Step("geometry", "instances", PLACEMENT_BYTES * analysis.instances))
    steps += [Step("acceleration", m.name, m.acceleration_bytes) for m in analysis.meshes]
    steps += texture_steps(analysis)
    sky_width, sky_height = recipe.environment_size
    if sky_width:
        steps.append(
            Step(
                "environment",
                "sky picture",
                sky_bytes(sky_width, sky_height, recipe.environment_changed),
            )
        )
    elif analysis.sky_picture is not None:
        name, columns, rows = analysis.sky_picture
        steps.append(Step("environment", name, sky_bytes(columns, rows, turned=True)))
    elif analysis.environment != "none":
        small = sky_bytes(KEY_WIDTH, KEY_HEIGHT) if analysis.environment == "added" else 4096
        steps.append(Step("environment", "sky", small))
    glowing = [t for t in analysis.textures if t.role == "emission" and t.memory_bytes > 0]
    if glowing:
        maps = sum(brightness_bytes(t.width, t.height) for t in glowing)
        steps.append(Step("environment", "where emissive pictures are bright", maps))
    light_count = len(analysis.lights) + (analysis.environment != "none" or sky_width > 0)
    steps += [
        Step("film", name, n)
        for name, n in film_steps(width, height, recipe.kept_layers, light_count)
    ]
    if device.batches:
        steps.append(
            Step(
                "in_flight",
                f"{device.samples_in_flight:,} paths",
                device.samples_in_flight * PATH_BYTES,
            )
        )
    else:
        each = 8 * (
            path_size(light_count)
            + counters_size(analysis.instances, len(analysis.meshes), light_count)
        )
        steps.append(
            Step("in_flight", f"{device.render_threads} threads", device.render_threads * each)
        )
        steps.append(Step("in_flight", "threads and what they need at once", FIXED_BYTES))
        steps = _with_loading(steps, analysis, device.render_threads)
    if recipe.denoise == "with":
        # The film and the paths are let go before: only what goes beyond them is taken.
        before = sum(s.bytes for s in steps if s.kind in ("film", "in_flight"))
        more = denoise_bytes(width, height) - before
        if more > 0:
            steps.append(Step("denoise", "taking the noise out", more))
    return Ledger(tuple(steps), 0 if device.simulated else PROCESS_BYTES)


def _with_loading(steps: list[Step], analysis: Analysis, threads: int) -> list[Step]:
    """The steps, with what loading takes for a moment beyond all that is held in the end.

    Small pictures leave room for less than decoding and building need.
    """
    held = {kind: sum(s.bytes for s in steps if s.kind == kind) for kind in KINDS}
    # A mesh as it was read stands beside what is built of it.
    built = [BUILDING_BYTES * m.triangles + READ_BYTES * m.vertices for m in analysis.meshes]
    building = held["geometry"] + held["acceleration"] + sum(sorted(built)[-threads:])
    # Then all are joined: small ones are copied before they are given back.
    small = [m.acceleration_bytes for m in analysis.meshes if m.acceleration_bytes < SMALL_BLOCK]
    building = max(building, held["geometry"] + held["acceleration"] + sum(small))
    before = 0  # of meshes, when one that is a surface is evaluated
    for m in analysis.meshes:
        if m.subdivision is not None:
            building = max(building, before + DICING_BYTES * m.triangles)
        before += m.memory_bytes
    taken = held["geometry"] + held["acceleration"]
    rows = [t for t in analysis.textures if t.memory_bytes > 0]
    rows.sort(key=lambda t: (-t.memory_bytes, t.index))
    # A chain is 4/3 of its picture, which is held twice while it is decoded, then once while the
    # chain is filled from it.
    chains = [t.memory_bytes for t in rows]
    decoding = 0
    for i, t in enumerate(rows):
        beside = sum(chains[i + 1 : i + threads]) * 3 // 2
        picture = chains[i] * 3 // 4
        most = max(2 * picture, chains[i] + picture)
        decoding = max(decoding, taken + most + t.file_bytes + beside)
        taken += chains[i]
    more = max(building, decoding) - sum(held.values())
    if more <= 0:
        return steps
    what: tuple[Kind, str] = ("textures", "decoding, for a moment")
    if building > decoding:
        what = ("acceleration", "building, for a moment")
    last = max(i for i, s in enumerate(steps) if s.kind in ("geometry", what[0]))
    return [*steps[: last + 1], Step(*what, more), *steps[last + 1 :]]


def film_steps(
    width: int, height: int, layers: Sequence[str], light_count: int
) -> list[tuple[str, int]]:
    """List what the picture takes.

    Parameters
    ----------
    width, height : int
        Pixels.
    layers : sequence of str
    light_count : int
        Lights that the layer for each light holds.

    Returns
    -------
    list of (str, int)
        The sums, and the larger of what the noise is measured with and what writing takes; bytes.
    """
    pixels = width * height
    steps = [(name, n) for name, n in film_bytes(width, height, layers, light_count).items() if n]
    # Every layer is copied channel by channel, and one more is held while it is made, beside the
    # number of samples it is divided by; the writer packs rows as it goes.
    writing = (
        16 + BEAUTY.written_bytes() + sum(LAYERS[n].written_bytes(light_count) for n in layers)
    )
    return [*steps, ("measuring the noise, or writing", max(STATISTICS_BYTES, writing) * pixels)]


def judge(ledger: Ledger, free: int) -> Verdict:
    """Walk through the steps until `free` bytes are taken, the process itself before them."""
    taken = ledger.process
    for step in ledger.steps:
        taken += step.bytes
        if taken > free:
            alike = [s for s in ledger.steps if s.kind == step.kind]
            return Verdict(ledger.whole, free, step, alike.index(step) + 1, len(alike))
    return Verdict(ledger.whole, free, None, 0, 0)
