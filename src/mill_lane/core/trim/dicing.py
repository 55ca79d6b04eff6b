"""Subdivision surfaces as fine as they are seen: a level each, by the length of edges on screen."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from typing import Annotated

from pydantic import BaseModel, Field

from mill_lane.core.progress import Progress, silent
from mill_lane.core.scene.model import Mesh, Scene
from mill_lane.core.scene.subdivision import MOST_LEVELS
from mill_lane.core.subdivision.surface import at_level
from mill_lane.core.trim.meshes import chosen_mesh, with_meshes
from mill_lane.core.trim.model import Change, Choice, OpenScene, Proposal, Target, Trim, Values
from mill_lane.core.weigh.analysis import Analysis, MeshRow, part_bytes
from mill_lane.core.weigh.surfaces import diced_row

HEIGHT = 1080  # rows of the picture in whose pixels edges are measured
EDGES, CAPS = (1.0, 2.0, 4.0, 8.0), (2, 3, 4, 6)  # that are shown side by side


class Parameters(Values):
    """How long edges may be on screen where the camera comes nearest over the shot."""

    edge: Annotated[float, Field(ge=0.1, le=1000, title="edges on screen, px")] = 2.0
    cap: Annotated[int, Field(ge=0, le=MOST_LEVELS, title="level at most")] = 6
    finer: Annotated[bool, Field(title="also finer where edges are longer")] = False
    height: Annotated[int, Field(ge=1, le=16384)] = HEIGHT  # of the final picture


class Level(Values):
    """The level at which a surface is drawn.

    `copies` are meshes with the same vertices, and the level that each needs: where one is drawn as
    an instance of this one, its level counts here.
    """

    level: Annotated[int, Field(ge=0, le=MOST_LEVELS, title="level")]
    copies: tuple[tuple[int, Annotated[int, Field(ge=0, le=MOST_LEVELS)]], ...] = ()

    def among(self, drawn: Collection[int]) -> int:
        """The level, where only some meshes are drawn."""
        return max([self.level, *(level for mesh, level in self.copies if mesh not in drawn)])


class Dicing(Trim):
    """Draws subdivision surfaces at the level whose edges are short enough on screen."""

    name = "dicing"
    title = "Level of subdivision surfaces"
    parameters_type = Parameters
    choice_type = Level

    def propose(
        self,
        scene: OpenScene,
        analysis: Analysis,
        parameters: BaseModel,
        progress: Progress = silent,
    ) -> list[Proposal]:
        """Find surfaces that are drawn finer than they are seen; see `Trim.propose`."""
        assert isinstance(parameters, Parameters)
        out = []
        found = levels(analysis, parameters)
        needed = {row.index: level for row, level, _ in found}
        for row, level, edge in found:
            assert row.subdivision is not None, "no surface"
            copies = [
                (m.index, needed[m.index])
                for m in analysis.meshes
                if m.duplicate_of == row.index and needed.get(m.index, 0) > level
            ]
            # As it is, it may still be too coarse for a copy that is to be drawn as it.
            if level == row.subdivision.level and not (copies and parameters.finer):
                continue
            if level > row.subdivision.level and not parameters.finer:
                continue
            after = diced_row(row, level)
            out.append(
                Proposal(
                    trim=self.name,
                    target=Target(kind="mesh", index=row.index, name=row.name),
                    parameters=Level(level=level, copies=tuple(copies)).model_dump(mode="json"),
                    before=row.subdivision.level,
                    after=level,
                    memory_before_bytes=row.memory_bytes,
                    memory_saved_bytes=row.memory_bytes - after.memory_bytes,
                    triangles_saved=(row.triangles - after.triangles) * row.copies,
                    facts={
                        "edge_px": edge,
                        "nearest_m": row.nearest_m,
                        "nearest_frame": row.nearest_frame,
                        "triangles": after.triangles,
                    },
                )
            )
        return sorted(out, key=lambda p: (-p.memory_saved_bytes, p.target.index))

    def apply(
        self, scene: Scene, choices: Sequence[Choice], progress: Progress
    ) -> tuple[Scene, list[Change]]:
        """Draw the chosen surfaces at their levels; see `Trim.apply`.

        A mesh that is no surface stays as it is.
        """
        meshes, changes = list(scene.meshes), []
        drawn = {m for _, m in scene.instances}
        for k, choice in enumerate(choices):
            index = chosen_mesh(scene, choice)
            level = self.checked(choice).among(drawn)
            mesh = meshes[index]
            if mesh.subdivision is not None and mesh.subdivision.level != level:
                meshes[index] = at_level(mesh, level)
                before, after = (_held(m) for m in (mesh, meshes[index]))
                changes.append(
                    Change(
                        kind=self.name,
                        target=mesh.name,
                        key=choice.target.key,
                        from_=mesh.subdivision.level,
                        to=level,
                        memory_saved_bytes=before - after,
                        facts={"triangles": meshes[index].triangles},
                    )
                )
            progress((k + 1) / len(choices), f"levels: {k + 1} of {len(choices)} surfaces")
        return replace(scene, meshes=tuple(meshes)), changes

    def describe(self, change: Change) -> str:
        """Tell the levels and what it comes to."""
        return f"level {change.from_} → {change.to}, {change.facts['triangles']:,} triangles"

    def explain(self, proposal: Proposal) -> str:
        """Tell how long edges then are on screen, and where from."""
        f = proposal.facts
        frame = f" at frame {f['nearest_frame']}" if f.get("nearest_frame") is not None else ""
        return f"nearest {f['nearest_m']:.1f} m{frame}: edges of at most {f['edge_px']:.2g} px"

    def summarise(self, changes: Sequence[Change]) -> str:
        """Tell how many surfaces are drawn otherwise."""
        n = len(changes)
        return f"{n} subdivision surface{'s' * (n != 1)} set to the level that the shot needs"

    def foresee(self, analysis: Analysis, choices: Sequence[Choice]) -> Analysis:
        """Predict what the chosen surfaces will hold; see `Trim.foresee`."""
        drawn = {m.index for m in analysis.meshes if m.copies}
        chosen = {c.target.index: self.checked(c).among(drawn) for c in choices}
        rows = [diced_row(m, chosen[m.index]) if m.index in chosen else m for m in analysis.meshes]
        return with_meshes(analysis, rows)


def levels(analysis: Analysis, parameters: Parameters) -> list[tuple[MeshRow, int, float]]:
    """The level of each surface that comes near, and its longest edge there in pixels."""
    scale = parameters.height / HEIGHT
    out = []
    for row in analysis.meshes:
        surface = row.subdivision
        if surface is not None and surface.edges:
            short = (n for n in range(parameters.cap) if surface.edge(n) * scale <= parameters.edge)
            level = next(short, parameters.cap)
            out.append((row, level, surface.edge(level) * scale))
    return out


@dataclass(frozen=True)
class Outcome:
    """What all surfaces come to with edges so long on screen and levels capped."""

    edge: float
    cap: int
    triangles: int  # drawn, all copies
    memory_bytes: int
    capped: int  # surfaces whose edges stay longer than asked


def side_by_side(analysis: Analysis, height: int = HEIGHT) -> list[list[Outcome]]:
    """Triangles and bytes of all surfaces for a few lengths of edges (a row each) and caps; nothing
    where there is none.
    """
    if not analysis.has_surfaces:
        return []
    table = []
    for edge in EDGES:
        row = []
        for cap in CAPS:
            found = levels(analysis, Parameters(edge=edge, cap=cap, height=height))
            after = [diced_row(r, level) for r, level, _ in found]
            row.append(
                Outcome(
                    edge,
                    cap,
                    sum(r.triangles * r.copies for r in after),
                    sum(r.memory_bytes for r in after),
                    sum(longest > edge for _, _, longest in found),
                )
            )
        table.append(row)
    return table


def _held(mesh: Mesh) -> int:
    return sum(sum(part_bytes(p)) for p in mesh.parts)
