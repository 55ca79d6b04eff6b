"""Fog that no ray of the camera goes through."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from pydantic import BaseModel

from mill_lane.core.errors import MillError
from mill_lane.core.progress import Progress, silent
from mill_lane.core.scene.model import Scene
from mill_lane.core.trim.model import Change, Choice, Nothing, OpenScene, Proposal, Target, Trim
from mill_lane.core.weigh.analysis import Analysis


class Fog(Trim):
    """Leaves out fog that nobody sees."""

    name = "fog"
    title = "Fog"
    parameters_type = Nothing
    choice_type = Nothing

    def propose(
        self,
        scene: OpenScene,
        analysis: Analysis,
        parameters: BaseModel,
        progress: Progress = silent,
    ) -> list[Proposal]:
        """Find fog that is not seen; see `Trim.propose`."""
        return [
            Proposal(
                trim=self.name,
                target=Target(kind="medium", index=i, name=fog.name),
                parameters={},
                before=round(fog.thickness, 3),
                after=0,
                memory_saved_bytes=0,
                facts={"seen": fog.seen, "thickness": fog.thickness, "size_m": fog.size_m},
            )
            for i, fog in enumerate(analysis.fogs)
            if fog.seen == 0
        ]

    def apply(
        self, scene: Scene, choices: Sequence[Choice], progress: Progress
    ) -> tuple[Scene, list[Change]]:
        """Take the chosen fog out; see `Trim.apply`."""
        gone = {c.target.index for c in choices}
        for choice in choices:
            if not 0 <= choice.target.index < len(scene.media):
                raise MillError(
                    f"The scene has no fog “{choice.target.name}”.",
                    "Stage it again.",
                )
        changes = [
            Change(kind=self.name, target=scene.media[i].name, key=f"medium:{i}", from_="fog")
            for i in sorted(gone)
        ]
        progress(1.0, "fog left out")
        kept = tuple(m for i, m in enumerate(scene.media) if i not in gone)
        return replace(scene, media=kept), changes

    def describe(self, change: Change) -> str:
        """Tell that it is gone."""
        return "left out"

    def explain(self, proposal: Proposal) -> str:
        """Tell that no ray meets it."""
        size = proposal.facts["size_m"]
        return f"{size:.1f} m across, and no ray of the camera goes through it"

    def summarise(self, changes: Sequence[Change]) -> str:
        """Tell how many went."""
        return f"{len(changes)} fog{'s' * (len(changes) != 1)} left out"

    def foresee(self, analysis: Analysis, choices: Sequence[Choice]) -> Analysis:
        """Predict that the chosen fog is gone; see `Trim.foresee`."""
        gone = {c.target.index for c in choices}
        fogs = [f for i, f in enumerate(analysis.fogs) if i not in gone]
        return analysis.model_copy(update={"fogs": fogs, "media": len(fogs)})
