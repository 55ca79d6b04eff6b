"""Textures made smaller: by the distance rule, or by what the shot can show."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field

from mill_lane.core.errors import MillError
from mill_lane.core.progress import Progress
from mill_lane.core.scene.model import Scene
from mill_lane.core.trim.model import Change, Choice, OpenScene, Proposal, Target, Trim
from mill_lane.core.trim.shrink import shrink
from mill_lane.core.weigh.analysis import Analysis
from mill_lane.core.weigh.rules import RULES, usual_rule
from mill_lane.core.weigh.rules.sizes import shrunk


class Parameters(BaseModel):
    """How large textures may be: a rule of `rules.RULES`, and the height of the final picture."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    rule: str = ""  # empty: the usual one, by what is known of the shot
    height: Annotated[int, Field(ge=1, le=16384)] = 1080


class Limit(BaseModel):
    """What is chosen for a texture: its longest side, pixels."""

    model_config = ConfigDict(frozen=True, extra="forbid")

    limit: Annotated[int, Field(ge=1, le=65536)]


class TextureSize(Trim):
    """Halves pictures until they are no larger than they need to be."""

    name = "texture_size"
    title = "Texture size"
    parameters_type = Parameters

    def propose(
        self, scene: OpenScene, analysis: Analysis, parameters: BaseModel
    ) -> list[Proposal]:
        """Find textures larger than a rule asks; see `Trim.propose`."""
        assert isinstance(parameters, Parameters)
        rule = parameters.rule or usual_rule(analysis)
        if rule not in RULES:
            raise MillError(f"There is no rule “{rule}”.", f"Choose from {', '.join(RULES.names)}.")
        out = []
        for found in RULES[rule].limits(analysis, parameters.height):
            row = found.row
            size, held = shrunk(row, found.limit)
            out.append(
                Proposal(
                    trim=self.name,
                    target=Target(kind="image", index=row.index, name=row.name),
                    parameters={"limit": max(size)},
                    before=[row.width, row.height],
                    after=list(size),
                    memory_before_bytes=row.memory_bytes,
                    memory_saved_bytes=row.memory_bytes - held,
                    facts={"rule": rule, **found.facts},
                )
            )
        return sorted(out, key=lambda p: (-p.memory_saved_bytes, p.target.index))

    def apply(
        self, scene: Scene, choices: Sequence[Choice], progress: Progress
    ) -> tuple[Scene, list[Change]]:
        """Halve the chosen pictures; see `Trim.apply`."""
        sizes = {}
        for choice in choices:
            if not 0 <= choice.target.index < len(scene.images):
                raise MillError(
                    f"The scene has no texture “{choice.target.name}”.", "Stage it again."
                )
            sizes[choice.target.index] = _limit(choice)
        trimmed, shrinks = shrink(scene, sizes, progress)
        changes = [
            Change(
                kind=self.name,
                target=s.name,
                key=f"image:{s.image}",
                from_=list(s.old),
                to=list(s.new),
                memory_saved_bytes=s.old_bytes - s.new_bytes,
                file_saved_bytes=s.old_file_bytes - s.new_file_bytes,
            )
            for s in shrinks
        ]
        return trimmed, changes

    def describe(self, change: Change) -> str:
        """Tell the sizes before and after."""
        (w, h), (x, y) = change.from_, change.to
        return f"{w} × {h} → {x} × {y} px"

    def summarise(self, changes: Sequence[Change]) -> str:
        """Tell how many textures were made smaller."""
        return f"{len(changes)} texture{'s' * (len(changes) != 1)} made smaller"

    def memory_after(self, analysis: Analysis, choices: Sequence[Choice]) -> Mapping[int, int]:
        """Predict what the chosen textures will hold; see `Trim.memory_after`."""
        limits = {c.target.index: _limit(c) for c in choices}
        rows = [t for t in analysis.textures if t.index in limits]
        return {t.index: shrunk(t, limits[t.index])[1] for t in rows}


def _limit(choice: Choice) -> int:
    try:
        return Limit.model_validate(choice.parameters).limit
    except ValueError as e:
        raise MillError(
            f"“{choice.target.name}” is staged without a size.", "Stage it again."
        ) from e
