"""Lights that give next to nothing, left out."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Annotated

from pydantic import BaseModel, Field

from mill_lane.core.progress import Progress, silent
from mill_lane.core.scene.model import Scene
from mill_lane.core.trim.lights import (
    chosen_light,
    chosen_material,
    lights_by_source,
    put_out,
    share_of,
    without_lights,
)
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
from mill_lane.core.weigh.analysis import Analysis


class Parameters(Values):
    """Below which share of the picture's light a lamp is weak."""

    share: Annotated[float, Field(gt=0, le=0.2, title="share of the light")] = 0.001


class WeakLights(Trim):
    """Leaves out lights that give next to nothing."""

    name = "weak_lights"
    title = "Weak lights"
    parameters_type = Parameters
    choice_type = Nothing

    def propose(
        self,
        scene: OpenScene,
        analysis: Analysis,
        parameters: BaseModel,
        progress: Progress = silent,
    ) -> list[Proposal]:
        """Find lights with a small share of the light in the picture; see `Trim.propose`.

        Emissive surfaces of one material go together.
        """
        assert isinstance(parameters, Parameters)
        out = []
        for (node, material), rows in lights_by_source(analysis).items():
            share = share_of(rows)
            if share is None or share >= parameters.share:
                continue
            kind, index = ("light", node) if material < 0 else ("material", material)
            target = Target.model_validate({"kind": kind, "index": index, "name": rows[0].name})
            out.append(
                Proposal(
                    trim=self.name,
                    target=target,
                    parameters={},
                    before=share,
                    after=0.0,
                    memory_saved_bytes=0,
                    facts={"share": share, "lights": len(rows), "power": rows[0].power},
                )
            )
        return sorted(out, key=lambda p: (p.facts["share"], p.target.key))

    def apply(
        self, scene: Scene, choices: Sequence[Choice], progress: Progress
    ) -> tuple[Scene, list[Change]]:
        """Put the chosen lights out; see `Trim.apply`."""
        changes = []
        for k, choice in enumerate(choices):
            target = choice.target
            if target.kind == "material":
                scene = put_out(scene, [], [chosen_material(scene, choice)])
            else:
                scene = put_out(scene, [chosen_light(scene, choice)], [])
            changes.append(
                Change(kind=self.name, target=target.name, key=target.key, from_="on", to="off")
            )
            progress((k + 1) / len(choices), f"lights: {k + 1} of {len(choices)}")
        return scene, changes

    def describe(self, change: Change) -> str:
        """Tell that it is out."""
        return "put out"

    def explain(self, proposal: Proposal) -> str:
        """Tell its share."""
        several = proposal.facts["lights"]
        who = f"{several} surfaces of one material give" if several > 1 else "gives"
        return f"{who} {100 * proposal.facts['share']:.3f} % of the light in the picture"

    def summarise(self, changes: Sequence[Change]) -> str:
        """Tell how many lights went."""
        return f"{len(changes)} weak light{'s' * (len(changes) != 1)} put out"

    def foresee(self, analysis: Analysis, choices: Sequence[Choice]) -> Analysis:
        """Predict that the chosen lights are gone; see `Trim.foresee`."""
        nodes = {c.target.index for c in choices if c.target.kind == "light"}
        materials = {c.target.index for c in choices if c.target.kind == "material"}
        return without_lights(analysis, nodes, materials)
