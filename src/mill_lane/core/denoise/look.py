"""What an EXR has for a denoiser, before it is worked: guides by name, what is missing."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from mill_lane.core.denoise.sizes import denoise_bytes
from mill_lane.core.formats.exr import layers_of
from mill_lane.core.formats.exr_guides import WORDS, guides_in
from mill_lane.core.formats.exr_rows import ExrRows
from mill_lane.core.render.layers import exr_names

READ = tuple(WORDS)  # what may be read from layers of other names
SUFFERS = {
    "albedo": "no albedo: textures and lettering get softer",
    "normal": "no normals: edges between surfaces of one colour get softer",
    "depth": "no depth: edges against what is far behind get softer",
    "motion": "no motion: frames before and after count where nothing moves",
    "halves": "no halves of the samples: noise is guessed, and lost detail cannot be told",
}


@dataclass(frozen=True)
class FileLook:
    """An EXR: its size, its layers, where each guide is read from, what suffers for what is not
    there, and the bytes that denoising it is predicted to need.
    """

    width: int
    height: int
    layers: tuple[str, ...]
    read: Mapping[str, str] = field(default_factory=dict)
    missing: tuple[str, ...] = ()
    memory: int = 0


def look_into(path: Path, guides_from: Mapping[str, str] | None = None) -> FileLook:
    """Look into an EXR; of its pixels only the first row is read.

    Parameters
    ----------
    path : Path
    guides_from : mapping, optional
        Layers that guides are to be read from; see `exr_guides.guides_in`.

    Raises
    ------
    MillError
        For what cannot be read, has no picture, or lacks a layer that is named.
    """
    with ExrRows(path) as rows:
        planes = rows.planes(0, 1)
        width, height = rows.width, rows.height
    own = layers_of(planes, path.name, exr_names())
    found = guides_in(planes, guides_from)
    read = {}
    for name in READ:
        if name in own and name not in (guides_from or {}):
            read[name] = "of that name"
        elif name in found:
            read[name] = ", ".join(found[name][1])
    halves = "half_a" in own and "half_b" in own
    missing = [SUFFERS[name] for name in READ if name not in read]
    prefixes = {name.rpartition(".")[0] for name in planes} - {""}
    singles = {name for name in planes if "." not in name} - {"R", "G", "B", "A"}
    return FileLook(
        width,
        height,
        tuple(sorted(prefixes | singles)),
        read,
        tuple(missing if halves else [*missing, SUFFERS["halves"]]),
        denoise_bytes(width, height),
    )
