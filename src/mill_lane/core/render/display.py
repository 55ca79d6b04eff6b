"""What can be looked at of a film: its pictures, and what is made of them for looking only.

A picture that is made of others is one more entry in `MADE`; the look that runs and every trial
whose file has what it is made of show it.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from operator import itemgetter

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.image.maps import Show
from mill_lane.core.registry import Registry
from mill_lane.core.render.layers import BEAUTY, LAYERS

F32 = NDArray[np.float32]
LEAST_ALBEDO = 0.02  # below which a surface gives back too little to tell what falls on it


@dataclass(frozen=True)
class Display:
    """Something to look at.

    Attributes
    ----------
    name : str
        By which it is found in addresses.
    title : str
        What it is called on a page.
    show : Show
        How it is drawn.
    layers : tuple of str
        Those of a recipe that keep what it is made of, beside the picture itself.
    pictures : tuple of str
        What it is made of.
    make : callable
        From those pictures by name, float32 (H, W) or (H, W, C), to what is drawn, the same kind.
    """

    name: str
    title: str
    show: Show
    layers: tuple[str, ...]
    pictures: tuple[str, ...]
    make: Callable[[Mapping[str, F32]], F32]


def _without_colour(of: Mapping[str, F32]) -> F32:
    light = of["direct_diffuse"] + of["indirect_diffuse"]
    return np.divide(light, np.maximum(of["albedo"], LEAST_ALBEDO), dtype=np.float32)


MADE = Registry(
    "picture for looking",
    Display(
        "diffuse_light",
        "diffuse light, no colours",
        Show("light"),
        ("components", "albedo"),
        ("direct_diffuse", "indirect_diffuse", "albedo"),
        _without_colour,
    ),
    Display("stops", "stops from mid-grey", Show("stops"), (), ("beauty",), itemgetter("beauty")),
)


def displays() -> dict[str, Display]:
    """All of them by name: the picture, those of the layers, then those that are made."""
    own = {
        p.name: Display(
            p.name,
            p.title,
            p.show,
            () if layer is BEAUTY else (layer.name,),
            (p.name,),
            itemgetter(p.name),
        )
        for layer in (BEAUTY, *LAYERS)
        for p in layer.pictures
        if p.show is not None
    }
    return own | {d.name: d for d in MADE}
