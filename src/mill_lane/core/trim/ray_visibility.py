"""Which rays see an object: stacked transparent cards are kept for the camera alone."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import replace
from fnmatch import fnmatchcase
from typing import Annotated

from pydantic import BaseModel, Field

from mill_lane.core.errors import MillError
from mill_lane.core.progress import Progress, silent
from mill_lane.core.scene.model import RAYS, Scene
from mill_lane.core.trim.model import Change, Choice, OpenScene, Proposal, Target, Trim, Values
from mill_lane.core.weigh.analysis import Analysis

WORDS = {
    "camera": "the camera",
    "reflection": "reflections",
    "transmission": "rays through glass",
    "shadow": "shadow rays",
    "indirect": "indirect light",
}


class Parameters(Values):
    """From how many transparent layers on objects are proposed, and which by name."""

    layers: Annotated[float, Field(ge=1, le=1000, title="layers along a ray, from")] = 2.0
    names: Annotated[str, Field(max_length=400, title="or by name (* stands for anything)")] = ""


class Sight(Values):
    """Copies of a mesh, by their number among all placed objects, and the rays that see them."""

    objects: list[Annotated[int, Field(ge=0)]]
    camera: Annotated[bool, Field(title="camera")] = True
    reflection: Annotated[bool, Field(title="reflections")] = False
    transmission: Annotated[bool, Field(title="through glass")] = False
    shadow: Annotated[bool, Field(title="shadows")] = False
    indirect: Annotated[bool, Field(title="indirect light")] = False

    @property
    def unseen_by(self) -> tuple[str, ...]:
        """The kinds of rays that do not see them."""
        return tuple(r for r in RAYS if not getattr(self, r))


class RayVisibility(Trim):
    """Keeps objects from kinds of rays."""

    name = "ray_visibility"
    title = "Rays that see it"
    parameters_type = Parameters
    choice_type = Sight

    def opens_scene(self, parameters: BaseModel) -> bool:
        """Objects are found by name, and by what they are kept from already."""
        return True

    def propose(
        self,
        scene: OpenScene,
        analysis: Analysis,
        parameters: BaseModel,
        progress: Progress = silent,
    ) -> list[Proposal]:
        """Find cards that stand one behind another as the camera sees them; see `Trim.propose`.

        "Camera only" is common practice for them: a ray that goes on behind each of many layers
        costs as much as so many rays, and shadow rays have to look at all.
        """
        assert isinstance(parameters, Parameters)
        found = scene()
        stacked = dict(analysis.visibility.stacked) if analysis.visibility else {}
        patterns = [x.strip() for x in parameters.names.split(",") if x.strip()]
        groups: dict[int, list[int]] = defaultdict(list)
        wanted = Sight(objects=[]).unseen_by
        for i, (node, mesh) in enumerate(found.instances):
            own = found.nodes[node]
            named = any(fnmatchcase(own.name, x) for x in patterns)
            if (named or stacked.get(i, 0.0) >= parameters.layers) and own.unseen_by != wanted:
                groups[mesh].append(i)
        rows = {m.index: m for m in analysis.meshes}
        out = [
            Proposal(
                trim=self.name,
                target=Target(kind="mesh", index=mesh, name=rows[mesh].name),
                parameters={"objects": objects},
                before=seen_by(found, objects),
                after=["camera"],
                memory_before_bytes=rows[mesh].memory_bytes,
                memory_saved_bytes=0,
                facts={
                    "layers": max(stacked.get(i, 0.0) for i in objects),
                    "objects": len(objects),
                    "copies": rows[mesh].copies,
                },
            )
            for mesh, objects in groups.items()
            if mesh in rows
        ]
        return sorted(out, key=lambda p: (-p.facts["layers"], p.target.index))

    def apply(
        self, scene: Scene, choices: Sequence[Choice], progress: Progress
    ) -> tuple[Scene, list[Change]]:
        """Keep the chosen objects from rays; see `Trim.apply`."""
        nodes, instances, changes = list(scene.nodes), scene.instances, []
        for choice in choices:
            sight: Sight = self.checked(choice)
            if any(i >= len(instances) for i in sight.objects):
                raise MillError(
                    f"“{choice.target.name}” has copies that are not there.", "Stage it again."
                )
            before = {nodes[instances[i][0]].unseen_by for i in sight.objects}
            if before <= {sight.unseen_by}:
                continue
            for i in sight.objects:
                node = instances[i][0]
                nodes[node] = replace(nodes[node], unseen_by=sight.unseen_by)
            changes.append(
                Change(
                    kind=self.name,
                    target=choice.target.name,
                    key=choice.target.key,
                    from_=seen_by(scene, sight.objects),
                    to=[r for r in RAYS if r not in sight.unseen_by],
                    facts={"objects": len(sight.objects)},
                )
            )
        progress(1.0, "objects kept from rays")
        return replace(scene, nodes=tuple(nodes)), changes

    def describe(self, change: Change) -> str:
        """Tell which rays see it from now on."""
        seen = [WORDS[r] for r in change.to]
        if not seen:
            return "seen by no rays"
        return f"seen by {' and '.join(x for x in (', '.join(seen[:-1]), seen[-1]) if x)} alone"

    def explain(self, proposal: Proposal) -> str:
        """Tell how many layers stand one behind another."""
        f = proposal.facts
        some = f"{f['objects']:,} of {f['copies']:,} copies: "
        which = some if f["objects"] < f["copies"] else ""
        if not f["layers"]:
            return f"{which}named by you"
        return f"{which}{f['layers']:.1f} transparent layers along the rays that go through it"

    def summarise(self, changes: Sequence[Change]) -> str:
        """Tell how many objects are kept from rays."""
        n = sum(c.facts["objects"] for c in changes)
        return f"{n:,} object{'s' * (n != 1)} kept from some rays"


def seen_by(scene: Scene, objects: Sequence[int]) -> list[str]:
    """The kinds of rays that see any of some placed objects."""
    unseen = [set(scene.nodes[scene.instances[i][0]].unseen_by) for i in objects]
    return [r for r in RAYS if any(r not in rays for rays in unseen)]
