"""Small, very bright surfaces, which make grain: enlarged at the same power, or dimmed."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import replace
from typing import Annotated

import numpy as np
from pydantic import BaseModel, Field

from mill_lane.core.progress import Progress, silent
from mill_lane.core.scene.edit import move_node, replace_material
from mill_lane.core.scene.model import F64, Scene
from mill_lane.core.scene.pose import local_matrix
from mill_lane.core.trim.lights import chosen_material
from mill_lane.core.trim.model import Change, Choice, OpenScene, Proposal, Target, Trim, Values
from mill_lane.core.weigh.analysis import Analysis, LightRow


class Sizing(Values):
    """How many times as wide the surfaces become, and what is left of their power."""

    enlarge: Annotated[float, Field(ge=1, le=20, title="times as wide")] = 3.0
    power: Annotated[float, Field(gt=0, le=1, title="of its power")] = 1.0


class StrongLights(Trim):
    """Spreads the power of tiny bright surfaces over more area."""

    name = "strong_lights"
    title = "Small strong lights"
    parameters_type = Sizing
    choice_type = Sizing

    def propose(
        self,
        scene: OpenScene,
        analysis: Analysis,
        parameters: BaseModel,
        progress: Progress = silent,
    ) -> list[Proposal]:
        """Find surfaces that are tiny as seen and far brighter than the picture.

        See `Trim.propose`; those of one material go together.
        """
        assert isinstance(parameters, Sizing)
        groups: dict[int, list[LightRow]] = defaultdict(list)
        for row in analysis.lights:
            if row.material >= 0:
                groups[row.material].append(row)
        out = []
        for material, rows in groups.items():
            strong = [x for x in rows if x.noisy]
            if not strong:
                continue
            others = len(rows) - len(strong)
            out.append(
                Proposal(
                    trim=self.name,
                    target=Target(kind="material", index=material, name=strong[0].name),
                    parameters=parameters.model_dump(),
                    before=strong[0].size_m,
                    after=strong[0].size_m * parameters.enlarge,
                    memory_saved_bytes=0,
                    facts={
                        "size_m": strong[0].size_m,
                        "radiance": strong[0].radiance,
                        "mean": analysis.visibility.mean if analysis.visibility else None,
                    },
                    left_alone=f"its material lights {others} larger surfaces too"
                    if others
                    else "",
                )
            )
        return sorted(out, key=lambda p: -p.facts["radiance"])

    def apply(
        self, scene: Scene, choices: Sequence[Choice], progress: Progress
    ) -> tuple[Scene, list[Change]]:
        """Enlarge or dim the surfaces of the chosen materials; see `Trim.apply`."""
        changes = []
        for choice in choices:
            index, sizing = chosen_material(scene, choice), self.checked(choice)
            # Power goes by radiance times area.
            k = sizing.power / sizing.enlarge**2
            m = scene.materials[index]
            r, g, b = m.emissive
            scene = replace_material(scene, index, replace(m, emissive=(r * k, g * k, b * k)))
            if sizing.enlarge != 1:
                scene = _enlarged(scene, index, sizing.enlarge)
            changes.append(
                Change(
                    kind=self.name,
                    target=choice.target.name,
                    key=choice.target.key,
                    from_=1.0,
                    to=sizing.enlarge,
                    facts={"power": sizing.power},
                )
            )
        progress(1.0, "lights changed")
        return scene, changes

    def describe(self, change: Change) -> str:
        """Tell how much wider it is, and what is left of its power."""
        if not isinstance(change.to, float | int):
            return ""
        if change.from_ and change.from_ != 1.0:  # a proposal: metres
            return f"{100 * change.from_:.1f} → {100 * change.to:.1f} cm"
        wide = f"{change.to:g} times as wide" if change.to != 1 else ""
        power = change.facts.get("power", 1.0)
        dim = f"{100 * power:.0f} % of its power" if power != 1 else ""
        return ", ".join(x for x in (wide, dim) if x)

    def explain(self, proposal: Proposal) -> str:
        """Tell how small and how bright it is."""
        f = proposal.facts
        times = f", {f['radiance'] / f['mean']:,.0f} times the picture's mean" if f["mean"] else ""
        return f"{100 * f['size_m']:.1f} cm wide{times}: paths that meet it by chance make grain"

    def summarise(self, changes: Sequence[Change]) -> str:
        """Tell how many lights were changed."""
        return f"{len(changes)} small strong light{'s' * (len(changes) != 1)} made larger or dimmer"


def _enlarged(scene: Scene, material: int, times: float) -> Scene:
    """The scene with every object that wears a material enlarged about its middle."""
    for node, mesh in scene.instances:
        parts = [p for p in scene.meshes[mesh].parts if p.material == material]
        if not parts:
            continue
        lo = np.min([p.bounds_min for p in parts], axis=0)
        hi = np.max([p.bounds_max for p in parts], axis=0)
        grow = about((lo + hi) / 2, times)
        scene = move_node(scene, node, local_matrix(scene.nodes[node], 0.0) @ grow)
    return scene


def about(middle: F64, times: float) -> F64:
    """The matrix (4, 4) that enlarges about a point."""
    out = np.diag([times, times, times, 1.0])
    out[:3, 3] = np.asarray(middle) * (1 - times)
    return out
