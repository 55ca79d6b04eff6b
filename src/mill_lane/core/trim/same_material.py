"""Materials that look the same under several names."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from pydantic import BaseModel

from mill_lane.core.errors import MillError
from mill_lane.core.progress import Progress, silent
from mill_lane.core.scene.alike import first_alike
from mill_lane.core.scene.model import Mesh, Scene
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
from mill_lane.core.weigh.analysis import Analysis


class SameMaterial(Trim):
    """Lets meshes share one material where several look the same."""

    name = "same_material"
    title = "Equal materials"
    parameters_type = Nothing
    choice_type = StandsFor
    exact = True

    def opens_scene(self, parameters: BaseModel) -> bool:
        """Materials are no rows of the analysis."""
        return True

    def propose(
        self,
        scene: OpenScene,
        analysis: Analysis,
        parameters: BaseModel,
        progress: Progress = silent,
    ) -> list[Proposal]:
        """Find materials that look like an earlier one; see `Trim.propose`."""
        found = scene()
        used = {p.material for _, m in found.instances for p in found.meshes[m].parts}
        return [
            Proposal(
                trim=self.name,
                target=Target(kind="material", index=i, name=found.materials[i].name),
                parameters={"of": first},
                before=found.materials[i].name,
                after=found.materials[first].name,
                memory_saved_bytes=0,
                facts={"same": found.materials[first].name},
            )
            for i, first in enumerate(first_alike(found))
            if first != i and i in used
        ]

    def apply(
        self, scene: Scene, choices: Sequence[Choice], progress: Progress
    ) -> tuple[Scene, list[Change]]:
        """Give meshes the first of each chosen material; see `Trim.apply`."""
        count = len(scene.materials)
        stands: dict[int, int] = {}
        for choice in choices:
            of: int = self.checked(choice).of
            index = choice.target.index
            if not (0 <= index < count and of < count and of != index):
                raise MillError(
                    f"The scene has no material “{choice.target.name}”.", "Stage it again."
                )
            stands[index] = of
        meshes = tuple(_dressed(m, stands) for m in scene.meshes)
        changes = [
            Change(
                kind=self.name,
                target=scene.materials[i].name,
                key=f"material:{i}",
                from_=scene.materials[i].name,
                to=scene.materials[of].name,
            )
            for i, of in sorted(stands.items())
        ]
        progress(1.0, "equal materials are one")
        return replace(scene, meshes=meshes), changes

    def describe(self, change: Change) -> str:
        """Tell which material stands for it."""
        return f"is {change.to}"

    def explain(self, proposal: Proposal) -> str:
        """Tell which material it looks like."""
        return f"every value the same as {proposal.facts['same']}"

    def summarise(self, changes: Sequence[Change]) -> str:
        """Tell how many materials went."""
        return f"{len(changes)} material{'s' * (len(changes) != 1)} that looked like another"


def _dressed(mesh: Mesh, stands: dict[int, int]) -> Mesh:
    if not any(p.material in stands for p in mesh.parts):
        return mesh
    parts = tuple(replace(p, material=stands.get(p.material, p.material)) for p in mesh.parts)
    return replace(mesh, parts=parts)
