"""Meshes with fewer triangles, as far as it stays within an error on screen."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Annotated, Any

import numpy as np
from pydantic import BaseModel, Field

from mill_lane.core.formats.meshes.soup import whole
from mill_lane.core.progress import Progress, silent
from mill_lane.core.render.in_order import in_order
from mill_lane.core.scene.model import Geometry, Mesh, Part, Scene
from mill_lane.core.scene.parts import part_of
from mill_lane.core.scene.pose import world_matrices
from mill_lane.core.trim.deviation import Deviation, Reference, coarser, deviation, reference_of
from mill_lane.core.trim.meshes import chosen_mesh, with_copies, with_meshes
from mill_lane.core.trim.model import Change, Choice, OpenScene, Proposal, Target, Trim, Values
from mill_lane.core.trim.simplify import Collapsed, Joined, collapse, dressed, joined, thinned
from mill_lane.core.weigh.analysis import Analysis, MeshRow, part_bytes
from mill_lane.core.weigh.frames import camera_track

WORTH = 0.2  # of its triangles that a mesh has to lose
FEWEST = 800  # triangles below which nobody would thin a mesh
ON_BORDERS = 0.75  # of the vertices, from where on there is nothing to collapse
NEAREST = 1e-3  # metres that a camera may come near
LEAST_LEFT = 4  # triangles
MENDED, MORE = 4, 1.4  # times that more triangles are tried where the whole measure says so
THREADS = 2  # meshes that are tried at once: one is thinned while another is measured
# For the fewest triangles within an error: so many tries at most, the first with an eighth of them;
# while searching fewer points are asked, so that the error has to keep a little below.
TRIES, FIRST_TRY, SEARCHED, WITHIN, NEAR_ENOUGH = 4, 8, 1600, 0.9, 0.5


class Parameters(Values):
    """How far the surface may move on screen, or how many triangles are to stay."""

    pixels: Annotated[float, Field(gt=0, le=100, title="error on screen, px")] = 0.5
    ratio: Annotated[float | None, Field(gt=0, lt=1, title="or a share of its triangles")] = None
    height: Annotated[int, Field(ge=1, le=16384)] = 1080  # of the final picture


class Count(Values):
    """How many triangles are left of a mesh."""

    triangles: Annotated[int, Field(ge=LEAST_LEFT, le=10**9, title="triangles left")]


@dataclass(frozen=True)
class Sight:
    """How a mesh is seen where it is nearest: metres a pixel, and how much its copies are scaled.

    One pixel is `pixel / scale` in the mesh's own unit.
    """

    pixel: float
    scale: float

    def pixels(self, distance: float) -> float:
        """A distance in the mesh's own unit, in pixels on screen."""
        return distance * self.scale / self.pixel

    def metres(self, distance: float) -> float:
        """A distance in the mesh's own unit, in metres."""
        return distance * self.scale


class Decimate(Trim):
    """Collapses edges of meshes that are finer than the picture."""

    name = "decimate"
    title = "Fewer triangles"
    parameters_type = Parameters
    choice_type = Count

    def opens_scene(self, parameters: BaseModel) -> bool:
        """Meshes are thinned and measured."""
        return True

    def propose(
        self,
        scene: OpenScene,
        analysis: Analysis,
        parameters: BaseModel,
        progress: Progress = silent,
    ) -> list[Proposal]:
        """Thin every mesh worth it, and measure how far it then lies off; see `Trim.propose`."""
        assert isinstance(parameters, Parameters)
        found = scene()
        sights = sights_of(found, analysis, parameters.height)
        wanted = []
        for rows in with_copies(analysis):
            # A copy goes the way of the mesh that it is a copy of.
            seen = [m for m in rows if m.seen != "never" and m.index in sights]
            if rows[0].triangles >= FEWEST and seen:
                near = min(seen, key=lambda m: sights[m.index].pixel / sights[m.index].scale)
                wanted.append((rows[0], near))

        def one(k: int) -> Proposal | None:
            row, near = wanted[k]
            return self._one(found.meshes[row.index], row, near, sights, parameters)

        out = []
        for k, made in enumerate(in_order(one, len(wanted), THREADS)):
            out += [made] if made is not None else []
            progress((k + 1) / len(wanted), f"triangles: {k + 1} of {len(wanted)} meshes")
        return sorted(out, key=lambda p: (-p.memory_saved_bytes, p.target.index))

    def _one(
        self,
        mesh: Mesh,
        row: MeshRow,
        closest: MeshRow,
        sights: dict[int, Sight],
        parameters: Parameters,
    ) -> Proposal | None:
        """The proposal for a mesh, by the copy of it that is seen the closest."""
        sight = sights[closest.index]
        why_not = kept(row.deforms, row.subdivision)
        base: dict[str, Any] = {
            "trim": self.name,
            "target": Target(kind="mesh", index=row.index, name=row.name),
            "before": row.triangles,
            "memory_before_bytes": row.memory_bytes,
        }
        facts: dict[str, Any] = {
            "nearest_m": closest.nearest_m,
            "nearest_frame": closest.nearest_frame,
        }
        if not why_not:
            parts = [p.load() for p in mesh.parts]
            mesh_of = joined(parts)
            if mesh_of.locked.mean() > ON_BORDERS:
                share = 100 * float(mesh_of.locked.mean())
                why_not = f"{share:.0f} % of its vertices lie on seams and borders, which stay"
        if why_not:
            nothing = {"triangles": row.triangles}
            return Proposal(
                **base,
                parameters=nothing,
                after=row.triangles,
                memory_saved_bytes=0,
                facts=facts,
                left_alone=why_not,
            )
        left = fewest_within(parts, mesh_of, sight, parameters)
        if left is None or left.triangles > (1 - WORTH) * row.triangles:
            return None
        after = thinned_row(row, left.triangles)
        return Proposal(
            **base,
            parameters={"triangles": left.triangles},
            after=left.triangles,
            memory_saved_bytes=row.memory_bytes - after.memory_bytes,
            triangles_saved=(row.triangles - left.triangles) * row.copies,
            facts=facts | told(left.deviation, sight),
        )

    def apply(
        self, scene: Scene, choices: Sequence[Choice], progress: Progress
    ) -> tuple[Scene, list[Change]]:
        """Thin the chosen meshes, and measure how far they lie off; see `Trim.apply`.

        Meshes that deform, or that are cages of subdivision surfaces, stay as they are.
        """
        meshes, changes = list(scene.meshes), []
        for k, choice in enumerate(choices):
            index, count = chosen_mesh(scene, choice), self.checked(choice).triangles
            mesh = meshes[index]
            before = sum(sum(part_bytes(p)) for p in mesh.parts)
            if count < mesh.triangles and not kept(moves(mesh), mesh.subdivision):
                parts = [p.load() for p in mesh.parts]
                made = thinned(parts, joined(parts), count)
                if not any(len(g.triangles) for g in made):
                    continue
                meshes[index] = with_geometries(mesh, made)
                reference = reference_of(whole(mesh.parts))
                off = deviation(reference, whole(meshes[index].parts))
                after = sum(sum(part_bytes(p)) for p in meshes[index].parts)
                changes.append(
                    Change(
                        kind=self.name,
                        target=mesh.name,
                        key=choice.target.key,
                        from_=mesh.triangles,
                        to=meshes[index].triangles,
                        memory_saved_bytes=before - after,
                        facts={"most": off.most, "mean": off.mean, "turned": off.turned},
                    )
                )
            progress((k + 1) / len(choices), f"triangles: {k + 1} of {len(choices)} meshes")
        return replace(scene, meshes=tuple(meshes)), changes

    def describe(self, change: Change) -> str:
        """Tell the triangles before and after."""
        return f"{change.from_:,} → {change.to:,} triangles"

    def explain(self, proposal: Proposal) -> str:
        """Tell how near it comes, and how far the thinned surface lies off."""
        f = proposal.facts
        frame = f" at frame {f['nearest_frame']}" if f.get("nearest_frame") is not None else ""
        near = "" if f.get("nearest_m") is None else f"nearest {f['nearest_m']:.1f} m{frame}"
        if "most_px" not in f:
            return near
        off = f"at most {f['most_px']:.2f} px off ({1000 * f['most_m']:.2g} mm, measured)"
        turned = f"normals turned by {f['turned']:.1f}°" if f["turned"] >= 0.05 else ""
        return ", ".join(x for x in (near, off, turned) if x)

    def summarise(self, changes: Sequence[Change]) -> str:
        """Tell how many meshes were thinned, and how much."""
        n = len(changes)
        lost = sum(c.from_ - c.to for c in changes)
        return f"{n} mesh{'es' * (n != 1)} thinned by {lost:,} triangles"

    def foresee(self, analysis: Analysis, choices: Sequence[Choice]) -> Analysis:
        """Predict what the chosen meshes will hold; see `Trim.foresee`."""
        counts = {c.target.index: self.checked(c).triangles for c in choices}
        rows = [
            thinned_row(m, counts[m.index])
            if m.index in counts and not kept(m.deforms, m.subdivision)
            else m
            for m in analysis.meshes
        ]
        return with_meshes(analysis, rows)


def kept(deforms: bool, cage: object) -> str:
    """Why a mesh cannot be thinned; empty where it can."""
    if deforms:
        return "its vertices move among themselves"
    if cage is not None:
        return "it is the cage of a subdivision surface: choose a lower level instead"
    return ""


def moves(mesh: Mesh) -> bool:
    """Whether vertices of a mesh move among themselves."""
    return any(p.load_at is not None for p in mesh.parts)


def thinned_row(row: MeshRow, triangles: int) -> MeshRow:
    """The row of a mesh with so many triangles: as many vertices a triangle as before."""
    if triangles >= row.triangles:
        return row
    k = triangles / row.triangles
    changes: dict[str, Any] = {
        "triangles": triangles,
        "vertices": round(row.vertices * k),
        "uv_vertices": round(row.uv_vertices * k),
        "geometry_bytes": round(row.geometry_bytes * k),
        "acceleration_bytes": round(row.acceleration_bytes * k),
        "duplicate_of": None,
        "edge_px": None if row.edge_px is None else row.edge_px / k**0.5,
        "triangles_per_px": None if row.triangles_per_px is None else row.triangles_per_px * k,
    }
    return row.model_copy(update=changes)


def told(off: Deviation, sight: Sight) -> dict[str, float]:
    """A deviation as facts: at most in metres and pixels, the mean in pixels, degrees."""
    return {
        "most_m": sight.metres(off.most),
        "most_px": sight.pixels(off.most),
        "mean_px": sight.pixels(off.mean),
        "turned": off.turned,
    }


def with_geometries(mesh: Mesh, made: Sequence[Geometry]) -> Mesh:
    """The mesh with other vertices; parts of which nothing is left go."""
    parts: list[Part] = []
    for part, g in zip(mesh.parts, made, strict=True):
        if len(g.triangles):
            fresh = part_of(g, part.material)
            parts.append(replace(fresh, source=part.source))
    return replace(mesh, parts=tuple(parts))


def sights_of(scene: Scene, analysis: Analysis, height: int) -> dict[int, Sight]:
    """How each mesh is seen where it is nearest, in a picture of that height, by its number.

    That of a copy is told in the unit of the mesh that it is a copy of.
    """
    known = analysis.camera if analysis.camera in scene.camera_names else None
    track = camera_track(scene, [scene.frames[0]], 16 / 9, known)
    matrices = world_matrices(scene, 0.0)
    scales: dict[int, float] = {}
    for node, mesh in scene.instances:
        values = np.linalg.svd(matrices[node][:3, :3], compute_uv=False)
        scales[mesh] = max(scales.get(mesh, 0.0), float(values[0]))
    return {
        row.index: Sight(
            track.pixel(max(row.nearest_m, NEAREST), height),
            scales[row.index] * row.duplicate_scale,
        )
        for row in analysis.meshes
        if row.nearest_m is not None and scales.get(row.index, 0.0) > 0
    }


@dataclass(frozen=True)
class Left:
    """So many triangles are left, which lie so far off."""

    triangles: int
    deviation: Deviation


def fewest_within(
    parts: Sequence[Geometry], mesh: Joined, sight: Sight, parameters: Parameters
) -> Left | None:
    """About the fewest triangles with which a mesh stays within the error, by trying.

    Parameters
    ----------
    parts : sequence of Geometry
    mesh : Joined
        The same, put together.
    sight : Sight
    parameters : Parameters

    Returns
    -------
    Left or None
        None where nothing can go.

    Notes
    -----
    On a smooth surface the error goes by the square of an edge's length, that is by one over the
    number of triangles, which tells where to try next.
    """
    reference = reference_of(together(parts))
    count = len(mesh.triangles)
    if parameters.ratio is not None:
        best: Collapsed | None = collapse(mesh, round(count * parameters.ratio))
    else:
        best = searched(mesh, coarser(reference, SEARCHED), sight, parameters.pixels * WITHIN)
    if best is None or len(best.triangles) > (1 - WORTH) * count:
        return None
    for _ in range(MENDED):
        found = _measured(parts, mesh, best, reference)
        asked = parameters.pixels if parameters.ratio is None else math.inf
        if found is None or sight.pixels(found.deviation.most) <= asked:
            return found
        # Where fewer points were asked, the farthest was not among them.
        best = collapse(mesh, round(len(best.triangles) * MORE))
        if len(best.triangles) > (1 - WORTH) * count:
            return None
    return None


def _measured(
    parts: Sequence[Geometry], mesh: Joined, left: Collapsed, reference: Reference
) -> Left | None:
    """What is left of a mesh, with how far it lies off; None where nothing is."""
    made = [g for g in dressed(parts, mesh, left, reference.tree) if len(g.triangles)]
    triangles = sum(len(g.triangles) for g in made)
    return Left(triangles, deviation(reference, together(made))) if made else None


def searched(mesh: Joined, reference: Reference, sight: Sight, pixels: float) -> Collapsed | None:
    """The mesh with about the fewest triangles within an error in pixels; None where none go."""
    target, good, bad = len(mesh.triangles) // FIRST_TRY, len(mesh.triangles), LEAST_LEFT
    best: Collapsed | None = None
    for _ in range(TRIES):
        found = collapse(mesh, target)
        left = len(found.triangles)
        error = sight.pixels(deviation(reference, found.bare()).most) if left else math.inf
        if error <= pixels:
            best, good = found, left
        else:
            bad = max(bad, left)
        held = left > 1.1 * target  # by borders
        enough = error <= pixels and (held or error >= NEAR_ENOUGH * pixels)
        if enough or good <= 1.4 * bad:
            break
        guess = left * error / pixels * 1.1
        target = round(min(max(guess, 1.2 * bad, left / 16), 0.8 * good))
    return best


def together(parts: Sequence[Geometry]) -> Geometry:
    """Parts as one geometry: places, normals, triangles."""
    return whole([part_of(g, -1) for g in parts if len(g.triangles)])
