"""Domes of a stage: an even sky, or the picture that is on it, turned as the dome is.

UsdLux, "DomeLight": the picture is laid out as OpenEXR has it, its pole along the dome's own +Y;
DomeLight_1 says itself along which axis the pole is.  That a pole along +Z is +Y turned by 90
degrees about X is from memory of the reference implementation.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.errors import MillError
from mill_lane.core.formats.blob import within
from mill_lane.core.formats.sky_pictures import dome_picture
from mill_lane.core.formats.sought import boundary, sought
from mill_lane.core.formats.usd.lights import brightness
from mill_lane.core.scene.model import Note
from mill_lane.core.scene.surroundings import Environment, SkyPicture

LAID_OUT = ("automatic", "latlong")
Z_POLE = np.array([[1.0, 0, 0], [0, 0, -1], [0, 1, 0]])  # the pole's axes in the dome's, columns


def is_dome(prim: Any) -> bool:
    """Whether a prim is light from all round, of either edition of the schema."""
    from pxr import UsdLux

    return any(
        prim.IsA(kind)
        for kind in (UsdLux.DomeLight, getattr(UsdLux, "DomeLight_1", None))
        if kind is not None
    )


@dataclass
class Domes:
    """The sky of a stage, as its domes come in: even ones add up, of pictures one is drawn."""

    root: Path
    notes: list[Note]
    sky: Environment | None = None
    _even: NDArray[np.float64] = field(default_factory=lambda: np.zeros(3))

    def add(self, prim: Any, time: Any, world: NDArray[np.float64]) -> None:
        """Take in a dome; `world` is its matrix (4, 4), for columns, in metres with Y up."""
        light = np.array(brightness(prim, time))
        picture = self._picture(prim, time, world, light)
        before = self.sky or Environment()
        if picture is not None and before.picture is not None:
            text = f"“{picture.name}” is a second picture of the sky: only the first is drawn."
            self.notes.append(Note("sky_left_out", "lost", text))
        elif picture is not None:
            before = replace(before, picture=picture)
        elif self._named(prim, time):
            return  # lost, and told
        else:
            self._even += light
        if self._even.any() and before.picture is not None:
            text = "The scene has an even sky beside the picture of one: the picture is drawn."
            self.notes.append(Note("sky_left_out", "lost", text))
        r, g, b = (float(x) for x in self._even)
        self.sky = replace(before, zenith=(r, g, b), horizon=(r, g, b), ground=(r, g, b))

    @staticmethod
    def _named(prim: Any, time: Any) -> str:
        asset = prim.GetAttribute("inputs:texture:file").Get(time)
        return str(asset.path) if asset is not None else ""

    def _picture(
        self, prim: Any, time: Any, world: NDArray[np.float64], light: NDArray[np.float64]
    ) -> SkyPicture | None:
        name = self._named(prim, time)
        if not name:
            return None
        laid_out = str(prim.GetAttribute("inputs:texture:format").Get(time) or "automatic")
        attribute = prim.GetAttribute("inputs:texture:file")
        stack = attribute.GetPropertyStack()
        layer = Path(stack[0].layer.realPath).parent if stack else self.root
        try:
            found = sought(layer, name, self.root)
        except MillError as e:  # it lies outside: nothing is read from there
            self._lost(f"{e.message} No light comes from it.")
            return None
        self.notes += found.told(name)
        if not found.path.is_file():
            told = Path(name).name
            self._lost(f"The sky's picture “{told}” is missing: no light comes from it.")
            return None
        if laid_out not in LAID_OUT:
            told = f"is laid out as {laid_out}: it is not drawn"
            self._lost(f"The sky's picture “{name}” {told}.")
            return None
        try:
            picture = dome_picture(found.path, found.path.name)
        except MillError as e:
            self._lost(f"{e.message} No light comes from it.")
            return None
        turned = world[:3, :3] @ (Z_POLE if self._pole(prim, time) == "Z" else np.eye(3))
        size = abs(float(np.linalg.det(turned))) ** (1 / 3)
        if size <= 0 or not np.isfinite(size):
            self._lost(f"The dome of “{name}” has no extent: it is not drawn.")
            return None
        axes = np.linalg.inv(turned / size)
        r, g, b = (float(x) for x in light)
        return replace(
            picture,
            axes=tuple(float(x) for x in axes.reshape(-1)),
            tint=(r, g, b),
            file=within(boundary(self.root), found.path),
        )

    def _pole(self, prim: Any, time: Any) -> str:
        from pxr import UsdGeom

        said = str(prim.GetAttribute("poleAxis").Get(time) or "") if prim else ""
        if said == "scene":
            return str(UsdGeom.GetStageUpAxis(prim.GetStage()))
        return said or "Y"

    def _lost(self, text: str) -> None:
        self.notes.append(Note("sky_picture_left_out", "lost", text))
