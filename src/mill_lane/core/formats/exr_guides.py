"""Layers of EXR files from elsewhere: guides found by the names that are usual for them.

OpenEXR's own documentation has a layer's name before a dot, and Z for depth; N for normals and the
other words are common practice.
"""

from __future__ import annotations

import re
from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.errors import MillError

F32 = NDArray[np.float32]
# By guide: what its layer may be called, in order, and the channels in theirs.
WORDS = {
    "albedo": ("albedo", "diffuse_?albedo", "base_?colou?r"),
    "normal": ("normals?", "n", "world_?normals?", "shading_?normals?"),
    "depth": ("depth", "z"),
    "motion": ("motion", "motion_?vectors?", "velocity", "vectors?", "speed"),
}
TRIPLES = (("R", "G", "B"), ("X", "Y", "Z"), ("r", "g", "b"), ("x", "y", "z"))
PAIRS = (("X", "Y"), ("R", "G"), ("x", "y"), ("r", "g"))
SINGLES = ("Z", "V", "R", "z", "Y", "")


def guides_in(
    planes: Mapping[str, F32], wanted_from: Mapping[str, str] | None = None
) -> dict[str, tuple[F32, tuple[str, ...]]]:
    """Guides of a file whose layers are called otherwise than ours.

    Parameters
    ----------
    planes : mapping
        All channels by name, float32 (H, W).
    wanted_from : mapping, optional
        The layer, or for depths the channel, that a guide is to be read from, by guide.

    Returns
    -------
    dict
        By guide: the layer, (H, W, 3), of motion (H, W, 2), of depth (H, W), and the channels that
        it is made of.

    Raises
    ------
    MillError
        Where a layer that is wanted is not there.
    """
    prefixes = {name.rpartition(".")[0] for name in planes} | {""}
    out: dict[str, tuple[F32, tuple[str, ...]]] = {}
    for guide, layer in (wanted_from or {}).items():
        named = (layer,) if layer in planes and guide == "depth" else None
        made = named or _channels(planes, layer, guide)
        if made is None:
            raise MillError(
                f"There is no layer “{layer}” that could tell the {guide}.",
                f"There are {', '.join(sorted(p for p in prefixes if p)) or 'none'}.",
            )
        out[guide] = (_stacked(planes, made), made)
    for guide, words in WORDS.items():
        if guide in out:
            continue
        for word in words:
            wanted = re.compile(rf"(?:.*[._ /-])?{word}", re.IGNORECASE)
            layers = sorted((p for p in prefixes if wanted.fullmatch(p)), key=len)
            found = next(filter(None, (_channels(planes, p, guide) for p in layers)), None)
            if found is None and guide == "depth":
                bare = (n for n in planes if "." not in n)
                single = next((n for n in bare if wanted.fullmatch(n)), None)
                found = (single,) if single else None
            if found is not None:
                out[guide] = (_stacked(planes, found), found)
                break
    return out


def _stacked(planes: Mapping[str, F32], names: tuple[str, ...]) -> F32:
    stack = [planes[n] for n in names]
    return np.stack(stack, -1) if len(stack) > 1 else stack[0]


def _channels(planes: Mapping[str, F32], prefix: str, guide: str) -> tuple[str, ...] | None:
    """The channels of a layer that are a guide's; None where they are not there."""
    singles: list[tuple[str, ...]] = [(c,) for c in SINGLES if c]
    by_guide: dict[str, list[tuple[str, ...]]] = {"depth": singles, "motion": list(PAIRS)}
    choices = by_guide.get(guide, list(TRIPLES))
    for letters in choices:
        names = tuple(f"{prefix}.{c}" for c in letters)
        if all(n in planes for n in names):
            return names
    return None
