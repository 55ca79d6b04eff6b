"""The same picture stored more than once."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from pydantic import BaseModel

from mill_lane.core.errors import MillError
from mill_lane.core.progress import Progress, silent
from mill_lane.core.render.sizes import SRGB_ROLES, image_bytes
from mill_lane.core.scene.model import Scene
from mill_lane.core.trim.model import (
    Change,
    Choice,
    Nothing,
    OpenScene,
    Proposal,
    StandsFor,
    Target,
    Trim,
)
from mill_lane.core.trim.pictures import chosen_images, with_rows
from mill_lane.core.weigh.analysis import Analysis, TextureRow


class SamePicture(Trim):
    """Lets textures share one picture."""

    name = "same_picture"
    title = "Equal pictures"
    parameters_type = Nothing
    choice_type = StandsFor
    exact = True

    def propose(
        self,
        scene: OpenScene,
        analysis: Analysis,
        parameters: BaseModel,
        progress: Progress = silent,
    ) -> list[Proposal]:
        """Find pictures that are stored again; see `Trim.propose`."""
        rows = {t.index: t for t in analysis.textures}
        out = []
        for row in analysis.textures:
            if row.same_as is None or row.same_as not in rows:
                continue
            first = rows[row.same_as]
            why_not = ""
            if is_colour(row) != is_colour(first):
                why_not = "one is colour and the other data: their smaller levels differ"
            saved = 0 if why_not else row.memory_bytes
            out.append(
                Proposal(
                    trim=self.name,
                    target=Target(kind="image", index=row.index, name=row.name),
                    parameters={"of": first.index},
                    before=row.name,
                    after=first.name,
                    memory_before_bytes=row.memory_bytes,
                    memory_saved_bytes=saved,
                    file_saved_bytes=0 if why_not else row.file_bytes,
                    facts={"same": first.name},
                    left_alone=why_not,
                )
            )
        return sorted(out, key=lambda p: -p.memory_saved_bytes)

    def apply(
        self, scene: Scene, choices: Sequence[Choice], progress: Progress
    ) -> tuple[Scene, list[Change]]:
        """Let the textures of the chosen pictures show the first one; see `Trim.apply`."""
        shown = {}
        for index, choice in chosen_images(scene, choices).items():
            of: int = self.checked(choice).of
            if of >= len(scene.images) or of == index:
                raise MillError(
                    f"“{choice.target.name}” is staged to show a picture that is not there.",
                    "Stage it again.",
                )
            shown[index] = of
        textures = tuple(replace(t, image=shown.get(t.image, t.image)) for t in scene.textures)
        changes = [
            Change(
                kind=self.name,
                target=scene.images[i].name,
                key=f"image:{i}",
                from_=scene.images[i].name,
                to=scene.images[of].name,
                memory_saved_bytes=image_bytes(scene.images[i]),
                file_saved_bytes=scene.images[i].file_bytes,
            )
            for i, of in sorted(shown.items())
        ]
        progress(1.0, "equal pictures are one")
        return replace(scene, textures=textures), changes

    def describe(self, change: Change) -> str:
        """Tell which picture is shown instead."""
        return f"shows {change.to}"

    def explain(self, proposal: Proposal) -> str:
        """Tell which picture it is the same as."""
        return f"pixel for pixel the same as {proposal.facts['same']}"

    def summarise(self, changes: Sequence[Change]) -> str:
        """Tell how many pictures went."""
        return f"{len(changes)} picture{'s' * (len(changes) != 1)} stored once instead of again"

    def foresee(self, analysis: Analysis, choices: Sequence[Choice]) -> Analysis:
        """Predict that the chosen pictures hold nothing; see `Trim.foresee`."""
        chosen = {c.target.index for c in choices}
        gone = {"memory_bytes": 0, "file_bytes": 0, "same_as": None}
        rows = {t.index: t.model_copy(update=gone) for t in analysis.textures if t.index in chosen}
        return with_rows(analysis, rows)


def is_colour(row: TextureRow) -> bool:
    """Whether a picture is averaged as colour: see `render.sizes.SRGB_ROLES`."""
    return any(role in SRGB_ROLES for role in row.role.split(", "))
