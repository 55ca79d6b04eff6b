"""From a composed stage to a `Scene`:

meshes placed and shared, cameras, lights, movement frame by frame.
"""

from __future__ import annotations

from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.errors import MillError
from mill_lane.core.formats.choices import Choices
from mill_lane.core.formats.meshes.soup import damaged
from mill_lane.core.formats.sought import boundary
from mill_lane.core.formats.udim import expanded
from mill_lane.core.formats.units import Z_UP
from mill_lane.core.formats.usd import lights
from mill_lane.core.formats.usd.cages import surface_of, within_reason
from mill_lane.core.formats.usd.cameras import as_camera
from mill_lane.core.formats.usd.choosing import choose, variant_sets
from mill_lane.core.formats.usd.curves import NotDrawnError, curve_mesh
from mill_lane.core.formats.usd.domes import Domes, is_dome
from mill_lane.core.formats.usd.kept import flattened
from mill_lane.core.formats.usd.materials import Materials
from mill_lane.core.formats.usd.mesh import polygon_mesh
from mill_lane.core.formats.usd.opening import check_layers, open_stage, said
from mill_lane.core.formats.usd.originals import composes, originals
from mill_lane.core.formats.usd.placing import instead_of, moving, name_of, upright
from mill_lane.core.formats.usd.rays import sight_of
from mill_lane.core.formats.usd.scattered import place_scattered
from mill_lane.core.formats.usd.skinning import forget, pose_skins
from mill_lane.core.formats.usd.solids import KINDS, solid_mesh
from mill_lane.core.formats.usd.volumes import fog_of, is_fog_alone
from mill_lane.core.progress import Progress, silent
from mill_lane.core.scene.model import (
    Camera,
    Light,
    Mesh,
    Node,
    Note,
    Scene,
)
from mill_lane.core.scene.parts import part_of
from mill_lane.core.scene.surroundings import Medium
from mill_lane.core.scene.unused import without_unused

MOST_FRAMES = 5000
MOST_NODES = 2_000_000


def read_stage(path: Path, progress: Progress = silent, choices: Choices | None = None) -> Scene:
    """The scene of a usda or usdc file; everything that it refers to must lie in its folder.

    Raises MillError when it cannot be used.
    """
    return read_with_materials(path, progress, choices)[0]


def read_with_materials(
    path: Path,
    progress: Progress = silent,
    choices: Choices | None = None,
    keep: bool = True,
) -> tuple[Scene, Materials]:
    """The scene of a stage, and what stands behind its materials; see `read_stage`.

    Without `keep` nothing of the stage itself is kept with the scene.
    """
    stage, missing, told = open_stage(path)
    try:
        lost = [
            Note(
                "file_missing",
                "lost",
                f"The file “{name}” is missing: what it holds is left out.",
            )
            for name in dict.fromkeys(missing)
        ]
        lost += told
        wanted = choices or Choices()
        lost += choose(stage, wanted)
        reader = _Reader(stage, path, lost)
        scene = reader.scene(progress)
        check_layers(stage, path)  # clips of values are opened when they are read
        return reader.kept(scene, wanted) if keep else scene, reader.materials
    except MillError:
        raise
    except (RuntimeError, ValueError, TypeError, IndexError, KeyError, OverflowError) as e:
        raise damaged(path.name, said(e)) from e


@dataclass
class _Reader:
    stage: Any
    path: Path
    notes: list[Note] = field(default_factory=list)
    nodes: list[Node] = field(default_factory=list)
    meshes: list[Mesh] = field(default_factory=list)
    lights: list[Light] = field(default_factory=list)
    cameras: list[Camera] = field(default_factory=list)
    media: list[Medium] = field(default_factory=list)
    others: dict[str, int] = field(default_factory=dict)

    def __post_init__(self) -> None:
        from pxr import UsdGeom

        stage = self.stage
        self.materials = Materials(self.path.parent, self.notes)
        self.domes = Domes(self.path.parent, self.notes)
        self.sight = sight_of(stage)
        # Meshes by place in the stage and bound materials.
        self.numbers: dict[tuple[str, str], int] = {}
        start, end = stage.GetStartTimeCode(), stage.GetEndTimeCode()
        moving = (
            stage.HasAuthoredTimeCodeRange() and np.isfinite([start, end]).all() and end >= start
        )
        self.frames = (
            (round(start), min(round(end), round(start) + MOST_FRAMES)) if moving else (1, 1)
        )
        self.first = float(self.frames[0]) if moving else 0.0
        self.rate = float(stage.GetTimeCodesPerSecond()) or 24.0
        scale = float(UsdGeom.GetStageMetersPerUnit(stage)) or 1.0
        up = "z" if UsdGeom.GetStageUpAxis(stage) == UsdGeom.Tokens.z else "y"
        turn, self.declared = Z_UP if up == "z" else np.eye(4), (scale, up)
        self.base = np.diag([scale, scale, scale, 1.0]) @ turn
        self.caches = {self.first: UsdGeom.XformCache(self.first)}

    def scene(self, progress: Progress = silent) -> Scene:
        from pxr import Usd

        drawn = Usd.TraverseInstanceProxies(
            Usd.PrimIsActive & Usd.PrimIsDefined & Usd.PrimIsLoaded & ~Usd.PrimIsAbstract
        )
        posed = pose_skins(self.stage, self.first, self.notes)
        total = sum(1 for _ in Usd.PrimRange(self.stage.GetPseudoRoot(), drawn))
        walk = iter(Usd.PrimRange(self.stage.GetPseudoRoot(), drawn))
        for done, prim in enumerate(walk):
            progress(done / total, f"reading the stage: {done:,} of {total:,}")
            if not self._take(prim, drawn):
                walk.PruneChildren()
        if not self.meshes:
            raise MillError(
                f"{self.path.name} holds no mesh that is visible.",
                "Check that the objects are included in the export.",
                "Nothing was imported.",
            )
        self.notes += [
            Note(
                "not_drawn", "lost", f"{n:,} of the kind {kind} are not drawn: {instead_of(kind)}."
            )
            for kind, n in self.others.items()
        ]
        self.meshes = within_reason(self.meshes, self.notes)
        forget(self.stage, posed)
        read = Scene(
            self.path.stem,
            tuple(self.nodes),
            tuple(self.meshes),
            tuple(self.materials.all),
            tuple(self.materials.textures),
            tuple(self.materials.images),
            tuple(self.lights),
            tuple(self.cameras),
            tuple(self.media),
            environment=self.domes.sky,
            frame_rate=self.rate,
            frames=self.frames,
            notes=tuple(self.notes),
            declared=self.declared,
        )
        return without_unused(expanded(read))

    def _take(self, prim: Any, drawn: Any) -> bool:
        """Take in a prim; whether what is below it is to be looked at."""
        from pxr import UsdGeom, UsdLux

        image = UsdGeom.Imageable(prim)
        if image and (
            image.ComputeVisibility(self.first) == "invisible"
            or image.ComputePurpose() in ("guide", "proxy")
        ):
            return False
        if prim.IsA(UsdGeom.PointInstancer):
            place_scattered(self, prim, drawn)
            return False
        if prim.IsA(UsdGeom.Gprim):
            self._gprim(prim)
        elif prim.IsA(UsdGeom.Camera):
            self._camera(prim)
        elif is_dome(prim):
            self.domes.add(prim, self.first, self.at(prim, self.first))
        elif prim.HasAPI(UsdLux.LightAPI):
            self._light(prim)
        return True

    def _gprim(self, prim: Any) -> None:
        """Take in something with a shape."""
        from pxr import UsdGeom, UsdLux

        if self._fog(prim):
            return
        if prim.IsA(UsdGeom.BasisCurves):
            self._curves(prim)
        elif prim.IsA(UsdGeom.Mesh) or prim.GetTypeName() in KINDS:
            self.place(name_of(prim), self.drawn(prim), self._worlds(prim), prim=prim)
        elif prim.HasAPI(UsdLux.LightAPI):
            self._light(prim)
        else:
            self.others[prim.GetTypeName()] = self.others.get(prim.GetTypeName(), 0) + 1

    def kept(self, scene: Scene, choices: Choices) -> Scene:
        """The scene with the stage that it came from: as it was sent, or flattened."""
        folder = boundary(self.path.parent)
        sets = variant_sets(self.stage)
        if composes(self.stage):
            root, files = originals(self.stage, self.path, folder)
            if root:
                return replace(
                    scene,
                    stage=files[root],
                    stage_root=root,
                    stage_files=files,
                    stage_variants=choices.variants,
                    stage_left_out=choices.left_out,
                    variant_sets=sets,
                )
        stage, kept = flattened(self.stage, self.materials.pictures, self.materials.packed, folder)
        return replace(scene, stage=stage, stage_files=kept)

    # --- places ---

    def at(self, prim: Any, time: float) -> NDArray[np.float64]:
        """Object to world at a time, in metres with Y up, for columns; the library's matrices are
        for rows.
        """
        from pxr import UsdGeom

        cache = self.caches.get(time) or self.caches.setdefault(time, UsdGeom.XformCache(time))
        return self.base @ np.array(cache.GetLocalToWorldTransform(prim), float).T

    def _worlds(self, prim: Any) -> list[NDArray[np.float64]]:
        """The matrix of each frame; one alone where nothing above the prim moves."""
        from pxr import UsdGeom

        above, moves = prim, False
        while above and not above.IsPseudoRoot():
            xform = UsdGeom.Xformable(above)
            moves = moves or bool(xform and xform.TransformMightBeTimeVarying())
            above = above.GetParent()
        first, last = self.frames
        return [
            self.at(prim, float(t))
            for t in (range(first, last + 1) if moves and last > first else [self.first])
        ]

    def place(
        self,
        name: str,
        mesh: int,
        worlds: list[NDArray[np.float64]],
        prim: Any = None,
        at: str = "",
        **more: int,
    ) -> None:
        if mesh < 0 and not more:
            return
        if len(self.nodes) >= MOST_NODES:
            raise MillError(
                f"{self.path.name} places over {MOST_NODES:,} objects.", "Export fewer instances."
            )
        path = at or (str(prim.GetPath()) if prim is not None else "")
        unseen = self.sight.unseen_by(prim) if prim is not None and mesh >= 0 else ()
        node = Node(
            name,
            matrix=worlds[0],
            mesh=mesh,
            unseen_by=unseen,
            path=path,
            **more,  # type: ignore[arg-type]
        )
        if len(worlds) > 1 and any(not np.array_equal(w, worlds[0]) for w in worlds):
            node = replace(node, matrix=None, **moving(worlds, self.rate))
        self.nodes.append(node)

    # --- things ---

    def _mesh(self, prim: Any) -> int:
        """The number of a prim's mesh, shared by all instances of one prototype; -1 where it has no
        triangle.
        """
        from pxr import UsdShade

        own = prim.GetPrimInPrototype() if prim.IsInstanceProxy() else prim
        subsets = UsdShade.MaterialBindingAPI(prim).GetMaterialBindSubsets()
        bound = [self.materials.bound(s.GetPrim()) for s in subsets] + [self.materials.bound(prim)]
        key = (str(own.GetPath()), str(bound))
        if key in self.numbers:
            return self.numbers[key]
        subsets = self._faces(prim)
        mesh = surface_of(prim, self.first, subsets, bound)
        mesh = mesh or polygon_mesh(prim, self.first, subsets, bound)
        self.numbers[key] = len(self.meshes) if mesh is not None else -1
        if mesh is not None:
            self.meshes.append(mesh)
        return self.numbers[key]

    def _faces(self, prim: Any) -> list[NDArray[np.int64]]:
        """The polygons of each material subset of a mesh."""
        from pxr import UsdShade

        subsets = UsdShade.MaterialBindingAPI(prim).GetMaterialBindSubsets()
        return [np.array(s.GetIndicesAttr().Get(self.first) or [], np.int64) for s in subsets]

    def _solid_number(self, prim: Any) -> int:
        """The number of the mesh of a sphere, cube and so on; -1 where it has no extent."""
        own = prim.GetPrimInPrototype() if prim.IsInstanceProxy() else prim
        material = self.materials.bound(prim)
        key = (str(own.GetPath()), str(material))
        if key not in self.numbers:
            geometry = solid_mesh(prim, self.first)
            self.numbers[key] = len(self.meshes) if geometry is not None else -1
            if geometry is not None:
                self.meshes.append(Mesh(prim.GetName(), (part_of(geometry, material),)))
        return self.numbers[key]

    def drawn(self, prim: Any) -> int:
        """The number of the mesh that is drawn for a prim: its own, or of what it says it is."""
        from pxr import UsdGeom

        return self._mesh(prim) if prim.IsA(UsdGeom.Mesh) else self._solid_number(prim)

    def _curves(self, prim: Any) -> None:
        """Draw curves as tubes, or tell why they cannot be."""
        own = prim.GetPrimInPrototype() if prim.IsInstanceProxy() else prim
        material = self.materials.bound(prim)
        key = (str(own.GetPath()), str(material))
        if key not in self.numbers:
            try:
                geometry = curve_mesh(prim, self.first)
            except NotDrawnError as e:
                text = f"The curves “{prim.GetName()}” are not drawn: {e}."
                self.notes.append(Note("curves_left_out", "lost", text))
                self.numbers[key] = -1
            else:
                self.numbers[key] = len(self.meshes)
                self.meshes.append(Mesh(prim.GetName(), (part_of(geometry, material),)))
        self.place(name_of(prim), self.numbers[key], self._worlds(prim), prim=prim)

    def _fog(self, prim: Any) -> bool:
        """Take in fog that fills a prim; whether that is all there is of it."""
        from pxr import UsdVol

        fog = fog_of(prim, self.first, self.at(prim, self.first), self.notes)
        if fog is None:
            return False
        self.media.append(fog)
        return bool(prim.IsA(UsdVol.Volume)) or is_fog_alone(prim)

    def _camera(self, prim: Any) -> None:
        unit = float(np.linalg.norm(self.base[:3, 0]))
        self.cameras.append(as_camera(prim, self.first, unit))
        self.place(
            prim.GetName(),
            -1,
            [upright(w) for w in self._worlds(prim)],
            prim=prim,
            camera=len(self.cameras) - 1,
        )

    def _light(self, prim: Any) -> None:
        name, worlds = prim.GetName(), self._worlds(prim)
        light = lights.as_light(prim, self.first)
        if light is not None:
            self.lights.append(light)
            self.place(
                name, -1, [upright(w) for w in worlds], prim=prim, light=len(self.lights) - 1
            )
            return
        surface = lights.as_surface(prim, self.first)
        if surface is None:
            self.notes.append(
                Note(
                    "light_not_read",
                    "lost",
                    f"The light “{name}” is of a kind that is not read ({prim.GetTypeName()}).",
                )
            )
            return
        geometry, material = surface
        # Its own size is in the stage's unit, and the node's matrix brings that to metres; radiance
        # has no unit of length.
        number = self.materials.add(f"light {prim.GetPath()}", material)
        self.meshes.append(Mesh(name, (part_of(geometry, number),)))
        self.place(name, len(self.meshes) - 1, worlds, prim=prim)
