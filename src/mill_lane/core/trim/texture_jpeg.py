"""Pictures as JPEG: smaller files, and 8 bits held where there were 16."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated

from pydantic import BaseModel, Field

from mill_lane.core.progress import Progress, silent
from mill_lane.core.scene.model import Image, Scene
from mill_lane.core.trim.model import Change, Choice, OpenScene, Proposal, Target, Trim, Values
from mill_lane.core.trim.pictures import (
    decoded,
    edit_pictures,
    form_of,
    held_bytes,
    with_pixels,
    with_rows,
)
from mill_lane.core.trim.texture_channels import with_form
from mill_lane.core.weigh.analysis import Analysis, TextureRow
from mill_lane.core.weigh.images import JPEG_QUALITY, as_jpeg

# Common practice: everything to JPEG but normal and displacement maps, whose errors are seen as
# dents in smooth shading.
DIRECTIONS = ("normal", "displacement", "anisotropy")
WORTH = 0.9  # of the file that a JPEG may take to be worth it


class Parameters(Values):
    """How good the JPEG is."""

    quality: Annotated[int, Field(ge=30, le=100, title="quality")] = JPEG_QUALITY


def kept_lossless(row: TextureRow) -> str:
    """Why a texture cannot be a JPEG; empty where it can."""
    if any(role in DIRECTIONS for role in row.role.split(", ")):
        return "holds directions, in which a JPEG's errors show"
    if row.alpha_needed and row.channels_used in (2, 4):
        return "its alpha is needed, and a JPEG has none"
    return ""


def as_jpeg_row(row: TextureRow) -> TextureRow:
    """The row of a texture that became a JPEG."""
    channels = 3 if row.channels > 2 else 1
    jpeg = row.model_copy(update={"channels": channels, "bits": 8, "mime": "image/jpeg"})
    return jpeg.model_copy(update={"memory_bytes": held_bytes(jpeg)})


class TextureJpeg(Trim):
    """Writes pictures as JPEG."""

    name = "texture_jpeg"
    title = "JPEG"
    parameters_type = Parameters
    choice_type = Parameters

    def propose(
        self,
        scene: OpenScene,
        analysis: Analysis,
        parameters: BaseModel,
        progress: Progress = silent,
    ) -> list[Proposal]:
        """Find pictures whose files a JPEG makes smaller; see `Trim.propose`."""
        assert isinstance(parameters, Parameters)
        out = []
        for row in analysis.textures:
            if row.missing or row.jpeg_bytes is None or row.mime != "image/png":
                continue
            smaller = row.file_bytes - row.jpeg_bytes
            if row.jpeg_bytes > WORTH * row.file_bytes or row.constant is not None:
                continue
            why_not = kept_lossless(row)
            jpeg = as_jpeg_row(row)
            out.append(
                Proposal(
                    trim=self.name,
                    target=Target(kind="image", index=row.index, name=row.name),
                    parameters={"quality": parameters.quality},
                    before=form_of(row),
                    after=form_of(jpeg),
                    memory_before_bytes=row.memory_bytes,
                    memory_saved_bytes=0 if why_not else row.memory_bytes - jpeg.memory_bytes,
                    file_saved_bytes=0 if why_not else smaller,
                    facts={"file": [row.file_bytes, row.jpeg_bytes]},
                    left_alone=why_not,
                )
            )
        return sorted(out, key=lambda p: (-p.memory_saved_bytes, -p.file_saved_bytes))

    def apply(
        self, scene: Scene, choices: Sequence[Choice], progress: Progress
    ) -> tuple[Scene, list[Change]]:
        """Encode the chosen pictures anew; see `Trim.apply`.

        One whose file would not become smaller stays as it is.
        """

        def edit(index: int, image: Image, choice: Choice) -> Image | None:
            quality: int = self.checked(choice).quality
            if image.mime == "image/jpeg":
                return None
            pixels = with_form(decoded(image), 3 if image.channels > 2 else 1, 8)
            data = as_jpeg(pixels, quality)
            if len(data) >= image.file_bytes:
                return None
            return with_pixels(image, pixels, "image/jpeg", data)

        return edit_pictures(scene, choices, edit, self.name, progress)

    def describe(self, change: Change) -> str:
        """Tell the kinds of file."""
        before, after = change.from_[4].upper(), change.to[4].upper()
        deep = f", {change.from_[3]} → {change.to[3]} bits" if change.from_[3] > 8 else ""
        return f"{before} → {after}{deep}"

    def explain(self, proposal: Proposal) -> str:
        """Tell the files' sizes: the new one is reckoned from a sample of the picture."""
        old, new = proposal.facts["file"]
        return f"file {old / 1e6:.1f} MB, about {new / 1e6:.1f} MB as JPEG"

    def summarise(self, changes: Sequence[Change]) -> str:
        """Tell how many textures became JPEG."""
        return f"{len(changes)} texture{'s' * (len(changes) != 1)} as JPEG"

    def foresee(self, analysis: Analysis, choices: Sequence[Choice]) -> Analysis:
        """Predict what the chosen textures will hold; see `Trim.foresee`."""
        chosen = {c.target.index for c in choices}
        rows = {}
        for t in analysis.textures:
            if t.index in chosen and t.mime != "image/jpeg":
                size = t.file_bytes if t.jpeg_bytes is None else t.jpeg_bytes
                rows[t.index] = as_jpeg_row(t).model_copy(update={"file_bytes": size})
        return with_rows(analysis, rows)
