"""Channels and bits that hold nothing: grey in three, a solid alpha, 16 bits that hold 8."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated

import numpy as np
from pydantic import BaseModel, Field

from mill_lane.core.formats.pictures import Pixels
from mill_lane.core.progress import Progress, silent
from mill_lane.core.scene.model import Image, Scene
from mill_lane.core.trim.model import (
    Change,
    Choice,
    OpenScene,
    Proposal,
    Target,
    Trim,
    Values,
)
from mill_lane.core.trim.pictures import (
    decoded,
    edit_pictures,
    form_of,
    held_bytes,
    kept_kind,
    with_pixels,
    with_rows,
)
from mill_lane.core.weigh.analysis import Analysis, TextureRow
from mill_lane.core.weigh.images import to_bytes


class Parameters(Values):
    """Nothing to be set: only what holds nothing is proposed."""


class Form(Values):
    """What a picture is to have of channels and bits."""

    channels: Annotated[int, Field(ge=1, le=4, title="channels")]
    bits: Annotated[int, Field(ge=8, le=16, title="bits")] = 8


def lean_form(row: TextureRow) -> tuple[int, int]:
    """Channels and bits that hold all that is used of a texture."""
    channels, bits = row.channels_used or row.channels, row.bits_used or row.bits
    if channels in (2, 4) and not row.alpha_needed:
        channels -= 1  # an alpha that no material goes by
    return channels, bits


class TextureChannels(Trim):
    """Stores no more channels and bits than are used."""

    name = "texture_channels"
    title = "Channels and bits"
    parameters_type = Parameters
    choice_type = Form
    exact = True

    def propose(
        self,
        scene: OpenScene,
        analysis: Analysis,
        parameters: BaseModel,
        progress: Progress = silent,
    ) -> list[Proposal]:
        """Find what is stored and not used; see `Trim.propose`."""
        out = []
        for row in analysis.textures:
            channels, bits = lean_form(row)
            if row.missing or not row.memory_bytes or row.channels_used is None:
                continue
            if (channels, bits) == (row.channels, row.bits):
                continue
            lean = row.model_copy(update={"channels": channels, "bits": bits})
            out.append(
                Proposal(
                    trim=self.name,
                    target=Target(kind="image", index=row.index, name=row.name),
                    parameters={"channels": channels, "bits": bits},
                    before=form_of(row),
                    after=form_of(lean),
                    memory_before_bytes=row.memory_bytes,
                    memory_saved_bytes=row.memory_bytes - held_bytes(lean),
                    facts={"why": row.why or "no material goes by its alpha"},
                )
            )
        return sorted(out, key=lambda p: (-p.memory_saved_bytes, p.target.index))

    def apply(
        self, scene: Scene, choices: Sequence[Choice], progress: Progress
    ) -> tuple[Scene, list[Change]]:
        """Store the chosen pictures anew; see `Trim.apply`."""

        def edit(index: int, image: Image, choice: Choice) -> Image | None:
            form: Form = self.checked(choice)
            pixels = decoded(image)
            lean = with_form(pixels, form.channels, form.bits)
            if lean.shape == pixels.shape and lean.dtype == pixels.dtype:
                return None
            return with_pixels(image, lean, kept_kind(image))

        return edit_pictures(scene, choices, edit, self.name, progress)

    def describe(self, change: Change) -> str:
        """Tell channels and bits before and after."""
        (_, _, c, b, _), (_, _, d, e, _) = change.from_, change.to
        channels = f"{c} → {d} channel{'s' * (d != 1)}" if c != d else ""
        return ", ".join(x for x in (channels, f"{b} → {e} bits" if b != e else "") if x)

    def explain(self, proposal: Proposal) -> str:
        """Tell what holds nothing."""
        return str(proposal.facts.get("why", ""))

    def summarise(self, changes: Sequence[Change]) -> str:
        """Tell how many textures lost channels or bits."""
        return f"{len(changes)} texture{'s' * (len(changes) != 1)} without idle channels or bits"

    def foresee(self, analysis: Analysis, choices: Sequence[Choice]) -> Analysis:
        """Predict what the chosen textures will hold; see `Trim.foresee`."""
        forms = {c.target.index: self.checked(c) for c in choices}
        rows = {}
        for t in analysis.textures:
            if t.index in forms:
                form = forms[t.index]
                lean = t.model_copy(
                    update={
                        "channels": min(t.channels, form.channels),
                        "bits": min(t.bits, form.bits),
                    }
                )
                rows[t.index] = lean.model_copy(update={"memory_bytes": held_bytes(lean)})
        return with_rows(analysis, rows)


def with_form(pixels: Pixels, channels: int, bits: int) -> Pixels:
    """A picture (H, W, C) with so many channels and bits, never with more than it has.

    One channel is the first of three, two are it and the alpha, three are without the alpha.
    """
    have = pixels.shape[2]
    if channels < have:
        wanted = {
            (4, 3): (0, 1, 2),
            (4, 2): (0, 3),
            (4, 1): (0,),
            (3, 1): (0,),
            (2, 1): (0,),
        }.get((have, channels))
        pixels = pixels if wanted is None else np.ascontiguousarray(pixels[..., list(wanted)])
    return to_bytes(pixels) if bits <= 8 else pixels
