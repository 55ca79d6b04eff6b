"""Many weak lights as one environment that gives the surfaces seen as much light in the mean."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Annotated, Any

from pydantic import BaseModel, Field

from mill_lane.core.errors import MillError
from mill_lane.core.progress import Progress, part, silent
from mill_lane.core.scene.model import Scene
from mill_lane.core.scene.surroundings import Environment
from mill_lane.core.trim.lights import lights_by_source, put_out, share_of, without_lights
from mill_lane.core.trim.model import Change, Choice, OpenScene, Proposal, Target, Trim, Values
from mill_lane.core.weigh.analysis import Analysis, LightRow

MOST_APART = 0.6  # of the mean irradiance, up to which a sky may stand for lamps
FEW = 4  # lights from which on one environment in their place is worth while
Indices = tuple[Annotated[int, Field(ge=0)], ...]
Radiance = tuple[
    Annotated[float, Field(ge=0)], Annotated[float, Field(ge=0)], Annotated[float, Field(ge=0)]
]


class Parameters(Values):
    """Which lights are weak, and which stay lamps."""

    share: Annotated[float, Field(gt=0, le=0.5, title="share of the light, each below")] = 0.02


class Sky(Values):
    """The lights that go, and the radiance that comes in their place, W/m²/sr by colour."""

    nodes: Indices = ()
    materials: Indices = ()
    zenith: Radiance
    horizon: Radiance
    ground: Radiance


class MergedLights(Trim):
    """Puts one gradient of light from all round in the place of many weak lights."""

    name = "merged_lights"
    title = "Weak lights as one sky"
    parameters_type = Parameters
    choice_type = Sky

    def opens_scene(self, parameters: BaseModel) -> bool:
        """Their light is rendered alone."""
        return True

    def propose(
        self,
        scene: OpenScene,
        analysis: Analysis,
        parameters: BaseModel,
        progress: Progress = silent,
    ) -> list[Proposal]:
        """Find weak lights, and the sky that lights what is seen as they do; see `Trim.propose`."""
        assert isinstance(parameters, Parameters)
        nodes, materials, rows = weak(analysis, parameters.share)
        if len(nodes) + len(materials) < FEW:
            return []
        base: dict[str, Any] = {
            "trim": self.name,
            "target": Target(kind="scene", name=f"{len(rows)} weak lights"),
            "before": len(rows),
            "after": 1,
            "memory_saved_bytes": 0,
        }
        found = scene()
        facts: dict[str, Any] = {"lights": len(rows), "share": share_of(rows)}
        why_not = kept(found.environment)
        if why_not:
            choice = Sky(zenith=(0, 0, 0), horizon=(0, 0, 0), ground=(0, 0, 0))
            nothing = choice.model_dump(mode="json")
            return [Proposal(**base, parameters=nothing, facts=facts, left_alone=why_not)]
        # The compiler is loaded only where it is needed.
        from mill_lane.core.trim.irradiance import matching_sky

        sky = matching_sky(found, analysis.camera, nodes, materials, part(progress, 0.1, 1.0))
        if sky is None:
            return []
        choice = Sky(
            nodes=tuple(sorted(nodes)),
            materials=tuple(sorted(materials)),
            zenith=sky.zenith,
            horizon=sky.horizon,
            ground=sky.ground,
        )
        facts |= {"irradiance": sky.irradiance, "apart": sky.apart, "frames": sky.frames}
        if sky.apart > MOST_APART:
            base["left_alone"] = (
                f"a sky of the same mean would light other places: {100 * sky.apart:.0f} % apart "
                "from place to place"
            )
        return [Proposal(**base, parameters=choice.model_dump(mode="json"), facts=facts)]

    def apply(
        self, scene: Scene, choices: Sequence[Choice], progress: Progress
    ) -> tuple[Scene, list[Change]]:
        """Put the chosen lights out and the sky up; see `Trim.apply`."""
        changes = []
        for choice in choices:
            sky: Sky = self.checked(choice)
            if any(i >= len(scene.nodes) for i in sky.nodes) or any(
                i >= len(scene.materials) for i in sky.materials
            ):
                raise MillError("Some of the lights are not there.", "Stage it again.")
            why_not = kept(scene.environment)
            if why_not:
                raise MillError(f"The weak lights cannot become a sky: {why_not}.", "Take it off.")
            scene = put_out(scene, sky.nodes, sky.materials)
            scene = replace(scene, environment=brighter(scene.environment, sky))
            count = len(sky.nodes) + len(sky.materials)
            changes.append(
                Change(
                    kind=self.name,
                    target=choice.target.name,
                    key=choice.target.key,
                    from_=count,
                    to=1,
                    facts={"horizon": sky.horizon},
                )
            )
        progress(1.0, "lights put together")
        return scene, changes

    def describe(self, change: Change) -> str:
        """Tell how many became one."""
        return f"{change.from_} lights → 1 sky"

    def explain(self, proposal: Proposal) -> str:
        """Tell their share, what light that is, and how unevenly the sky gives it."""
        f = proposal.facts
        return (
            f"together {100 * f['share']:.1f} % of the light; the same mean irradiance over what "
            f"is seen, {100 * f['apart']:.0f} % apart from place to place (measured, small)"
        )

    def summarise(self, changes: Sequence[Change]) -> str:
        """Tell how many lights went."""
        n = sum(c.from_ for c in changes)
        return f"{n} weak lights put together as one sky"

    def foresee(self, analysis: Analysis, choices: Sequence[Choice]) -> Analysis:
        """Predict that the lights are gone and the sky is there; see `Trim.foresee`."""
        nodes = {i for c in choices for i in self.checked(c).nodes}
        materials = {i for c in choices for i in self.checked(c).materials}
        environment = "gradient" if choices else analysis.environment
        after = without_lights(analysis, nodes, materials)
        return after.model_copy(update={"environment": environment})


def weak(analysis: Analysis, share: float) -> tuple[set[int], set[int], list[LightRow]]:
    """Nodes and materials of lights whose share of the light is below `share`, and their rows.

    Emissive surfaces of one material go together.
    """
    few = {}
    for key, rows in lights_by_source(analysis).items():
        measured = share_of(rows)
        if measured is not None and measured < share:
            few[key] = rows
    nodes = {node for node, material in few if material < 0}
    materials = {material for _, material in few if material >= 0}
    return nodes, materials, [row for rows in few.values() for row in rows]


def kept(environment: Environment | None) -> str:
    """Why an environment cannot be added to; empty where it can."""
    if environment is None or environment.added:
        return ""
    if environment.sun_elevation is not None:
        return "the scene's sky is a clear sky with a sun"
    if environment.pixels is not None or environment.picture is not None:
        return "the scene's sky is a picture"
    return "" if environment.key is None else "the scene's sky has a light of its own"


def brighter(environment: Environment | None, sky: Sky) -> Environment:
    """A gradient with the radiance of another added."""
    base = environment if environment is not None and not environment.added else Environment()
    sums = {
        name: tuple(a + b for a, b in zip(getattr(base, name), getattr(sky, name), strict=True))
        for name in ("zenith", "horizon", "ground")
    }
    return replace(base, added=False, **sums)  # type: ignore[arg-type]
