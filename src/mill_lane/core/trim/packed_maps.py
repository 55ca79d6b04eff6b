"""Maps of which one channel each is used, packed into one picture as glTF allows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Annotated, Any

import numpy as np
from pydantic import BaseModel, Field

from mill_lane.core.errors import MillError
from mill_lane.core.formats.pictures import Pixels
from mill_lane.core.progress import Progress, silent
from mill_lane.core.render.sizes import image_bytes
from mill_lane.core.scene.edit import replace_images
from mill_lane.core.scene.model import Scene
from mill_lane.core.trim.model import (
    Change,
    Choice,
    Nothing,
    OpenScene,
    Proposal,
    Target,
    Trim,
    Values,
)
from mill_lane.core.trim.pictures import decoded, form_of, held_bytes, with_pixels, with_rows
from mill_lane.core.trim.texture_channels import lean_form
from mill_lane.core.weigh.analysis import Analysis, TextureRow

# The channel that each map is read from: glTF 2.0 (sections 3.9.2 and 3.9.3), its extensions
# KHR_materials_clearcoat and KHR_materials_transmission.  Beside roughness stands metalness, in
# blue.
RED = ("occlusion", "transmission", "clearcoat")
GREEN = ("clearcoat roughness",)
GREEN_AND_BLUE = ("roughness",)


class Partner(Values):
    """The picture whose red goes into the target's, whose green (and blue) stay."""

    red: Annotated[int, Field(ge=0)]


class PackedMaps(Trim):
    """Puts the red of one map into another that is read from green."""

    name = "packed_maps"
    title = "Maps packed together"
    parameters_type = Nothing
    choice_type = Partner
    exact = True

    def opens_scene(self, parameters: BaseModel) -> bool:
        """Maps are packed that one material wears."""
        return True

    def propose(
        self,
        scene: OpenScene,
        analysis: Analysis,
        parameters: BaseModel,
        progress: Progress = silent,
    ) -> list[Proposal]:
        """Find maps that fit into one picture and take less so; see `Trim.propose`."""
        rows = {t.index: t for t in analysis.textures}
        found = scene()
        taken: set[int] = set()
        out = []
        for m in found.materials:
            worn = {role: found.textures[use.texture].image for role, use in m.uses()}
            greens = [worn[r] for r in (*GREEN_AND_BLUE, *GREEN) if r in worn]
            reds = [worn[r] for r in RED if r in worn]
            for green in greens:
                for red in reds:
                    if {red, green} & taken or not fits(rows.get(red), rows.get(green)):
                        continue
                    proposal = self._one(rows[red], rows[green], m.name)
                    if proposal is not None:
                        taken |= {red, green}
                        out.append(proposal)
        return sorted(out, key=lambda p: (-p.memory_saved_bytes, p.target.index))

    def _one(self, red: TextureRow, green: TextureRow, material: str) -> Proposal | None:
        """The proposal for two maps; None where fewer channels hold each, which takes less."""
        if any(lean_form(row)[0] != 3 for row in (red, green)):
            return None
        together = held_bytes(packed_row(green))
        before = red.memory_bytes + green.memory_bytes
        return Proposal(
            trim=self.name,
            target=Target(kind="image", index=green.index, name=green.name),
            parameters={"red": red.index},
            before=[red.name, green.name],
            after=green.name,
            memory_before_bytes=before,
            memory_saved_bytes=before - together,
            facts={"red": red.name, "material": material},
        )

    def apply(
        self, scene: Scene, choices: Sequence[Choice], progress: Progress
    ) -> tuple[Scene, list[Change]]:
        """Pack the chosen maps; see `Trim.apply`.

        Maps that are no longer of one size stay apart.
        """
        changes = []
        for k, choice in enumerate(choices):
            green, red = choice.target.index, self.checked(choice).red
            if max(green, red) >= len(scene.images) or green == red:
                text = f"The scene has no texture “{choice.target.name}”."
                raise MillError(text, "Stage it again.")
            pair = scene.images[red], scene.images[green]
            if any(x.missing for x in pair) or form_of(pair[0])[:2] != form_of(pair[1])[:2]:
                continue
            pixels = packed(decoded(pair[0]), decoded(pair[1]))
            made = with_pixels(pair[1], pixels, "image/png")
            textures = tuple(
                replace(t, image=green) if t.image == red else t for t in scene.textures
            )
            scene = replace(replace_images(scene, {green: made}), textures=textures)
            changes.append(
                Change(
                    kind=self.name,
                    target=pair[1].name,
                    key=choice.target.key,
                    from_=[x.name for x in pair],
                    to=made.name,
                    memory_saved_bytes=sum(image_bytes(x) for x in pair) - image_bytes(made),
                    file_saved_bytes=sum(x.file_bytes for x in pair) - made.file_bytes,
                )
            )
            progress((k + 1) / len(choices), f"maps: {k + 1} of {len(choices)}")
        return scene, changes

    def describe(self, change: Change) -> str:
        """Tell which picture takes the other in."""
        return f"takes in the red of {change.from_[0]}"

    def explain(self, proposal: Proposal) -> str:
        """Tell which material wears both."""
        return f"{proposal.facts['material']} wears both, each for other channels"

    def summarise(self, changes: Sequence[Change]) -> str:
        """Tell how many pictures went."""
        return f"{len(changes)} map{'s' * (len(changes) != 1)} packed into another"

    def foresee(self, analysis: Analysis, choices: Sequence[Choice]) -> Analysis:
        """Predict what the chosen maps will hold; see `Trim.foresee`."""
        rows = {t.index: t for t in analysis.textures}
        changed: dict[int, TextureRow] = {}
        for choice in choices:
            green, red = rows.get(choice.target.index), rows.get(self.checked(choice).red)
            if green is not None and red is not None and fits(red, green):
                made = packed_row(green)
                changed[green.index] = made.model_copy(update={"memory_bytes": held_bytes(made)})
                changed[red.index] = red.model_copy(update={"memory_bytes": 0, "file_bytes": 0})
        return with_rows(analysis, changed)


def fits(red: TextureRow | None, green: TextureRow | None) -> bool:
    """Whether a map that is read from red alone fits into one that is not."""
    if red is None or green is None or red.index == green.index or red.missing or green.missing:
        return False
    own = {True: set(RED), False: {*GREEN, *GREEN_AND_BLUE}}
    roles = all(
        set(row.role.split(", ")) <= own[first] for row, first in ((red, True), (green, False))
    )
    same = (red.width, red.height, red.bits) == (green.width, green.height, green.bits)
    return roles and same and bool(green.memory_bytes)


def packed_row(green: TextureRow) -> TextureRow:
    """The row of a map that took another in: three channels, all used."""
    three: dict[str, Any] = {"channels": 3, "channels_used": 3, "constant": None, "same_as": None}
    return green.model_copy(update=three)


def packed(red: Pixels, green: Pixels) -> Pixels:
    """The red of one picture (H, W, C) with the green and blue of another; a grey one is the same
    in all.
    """
    wide = np.uint16 in (red.dtype, green.dtype)

    def of(pixels: Pixels, channel: int) -> Any:
        plane = pixels[..., channel if pixels.shape[2] > 2 else 0]
        return plane.astype(np.uint16) * 257 if wide and pixels.dtype == np.uint8 else plane

    return np.ascontiguousarray(np.stack([of(red, 0), of(green, 1), of(green, 2)], 2))
