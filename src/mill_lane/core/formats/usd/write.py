"""Writing USD:

meshes once, placed by instanceable references; UsdPreviewSurface; cameras, UsdLux lights, keyed
motion.

Metres, Y up.  Where something above an object moves, its place is written for every frame of the
range.
"""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.formats.meshes.soup import whole
from mill_lane.core.formats.pictures_out import write_pictures
from mill_lane.core.formats.usd.geometry_out import put_geometry
from mill_lane.core.formats.usd.losses import lost_in_usd
from mill_lane.core.formats.usd.overlay import flat, overlay
from mill_lane.core.formats.usd.rays import put_rays
from mill_lane.core.formats.usd.restage import restage
from mill_lane.core.names import plain
from mill_lane.core.progress import Progress, silent
from mill_lane.core.scene.defaults import NO_MATERIAL, without_defaults
from mill_lane.core.scene.model import Light, Material, Note, Part, Scene, TextureUse
from mill_lane.core.scene.pose import world_matrices

SMALL = 0.01  # metres: the radius given to lights without size
APERTURE = 24.0
GREY = 0.5028864580325687  # linear light of code 188, in which missing pictures are drawn


def write_usd(
    scene: Scene, path: Path, progress: Progress = silent, flattened: bool = False
) -> list[Note]:
    """Write a scene as USD, with a folder of textures beside it.

    Parameters
    ----------
    scene : Scene
    path : Path
        .usda or .usdc; for .usdz see `package.write_usdz`.
    progress : callable
        Told how far it is, from 0 to 1, and may stop it.
    flattened : bool
        Whether a stage that was sent in layers goes out as one.

    Returns
    -------
    list of Note
        What the format cannot hold.
    """
    if scene.stage is not None and scene.stage_root:
        return (flat if flattened else overlay)(scene, path, progress)
    if scene.stage is not None:
        return restage(scene, path, progress)
    return _Writer(without_defaults(scene), path, progress).write()


class _Writer:
    def __init__(self, scene: Scene, path: Path, progress: Progress) -> None:
        self.scene, self.path, self.progress = scene, path, progress
        self.files: dict[int, str] = {}
        self.materials: list[Any] = []
        self._bare: Any = None

    def write(self) -> list[Note]:
        from pxr import Usd, UsdGeom

        folder = self.path.with_name(f"{self.path.stem}-textures")
        if self.scene.images:
            self.files = {
                i: f"./{folder.name}/{name}"
                for i, name in write_pictures(self.scene, folder).items()
            }
        self.path.unlink(missing_ok=True)
        stage = self.stage = Usd.Stage.CreateNew(str(self.path))
        UsdGeom.SetStageUpAxis(stage, UsdGeom.Tokens.y)
        UsdGeom.SetStageMetersPerUnit(stage, 1.0)
        stage.SetTimeCodesPerSecond(self.scene.frame_rate)
        first, last = self.scene.frames
        stage.SetStartTimeCode(first)
        stage.SetEndTimeCode(last)
        stage.SetDefaultPrim(UsdGeom.Xform.Define(stage, "/World").GetPrim())
        UsdGeom.Scope.Define(stage, "/World/Materials")
        self.materials = [self._material(i, m) for i, m in enumerate(self.scene.materials)]
        used = sorted({mesh for _, mesh in self.scene.instances})
        for done, mesh in enumerate(used):
            stage.CreateClassPrim(f"/Meshes_{mesh}")
            parts = [p for p in self.scene.meshes[mesh].parts if p.triangles]
            if parts:
                self._mesh(
                    f"/Meshes_{mesh}/m_{_identifier(self.scene.meshes[mesh].name, 'mesh')}", parts
                )
            self.progress(
                0.9 * (done + 1) / len(used), f"writing: {done + 1} of {len(used)} meshes"
            )
        self._places()
        stage.GetRootLayer().Save()
        self.progress(1.0, "written")
        return lost_in_usd(self.scene)

    def _places(self) -> None:
        from pxr import UsdGeom

        scene = self.scene
        first, last = scene.frames
        moving = {i for i, n in enumerate(scene.nodes) if n.channels}
        times = list(range(first, last + 1)) if moving and last > first else [first]
        worlds = [world_matrices(scene, scene.seconds(t)) for t in times]
        unseen: dict[str, tuple[str, ...]] = {}
        for i, node in enumerate(scene.nodes):
            if node.mesh < 0 and node.camera < 0 and node.light < 0:
                continue
            path = f"/World/{_identifier(node.name, 'thing')}_{i}"
            path = (
                path
                if not path.rsplit("/", maxsplit=1)[-1][0].isdigit()
                else f"/World/n_{_identifier(node.name, 'thing')}_{i}"
            )
            prim: Any
            if node.mesh >= 0:
                prim = UsdGeom.Xform.Define(self.stage, path)
                prim.GetPrim().GetReferences().AddInternalReference(f"/Meshes_{node.mesh}")
                prim.GetPrim().SetInstanceable(True)
            elif node.camera >= 0:
                prim = self._camera(path, node.camera)
            else:
                prim = self._light(path, scene.lights[node.light])
            if node.unseen_by:
                unseen[path] = node.unseen_by
            places = [w[i] for w in worlds]
            op = prim.MakeMatrixXform()
            if all(np.array_equal(p, places[0]) for p in places):
                op.Set(_matrix(places[0]))
            else:
                for t, p in zip(times, places, strict=True):
                    op.Set(_matrix(p), float(t))
        put_rays(self.stage, unseen)

    def _mesh(self, path: str, parts: list[Part]) -> None:
        """All parts as one mesh; each is a subset of its faces where there are several."""
        from pxr import UsdGeom, UsdShade, Vt

        mesh = UsdGeom.Mesh.Define(self.stage, path)
        put_geometry(mesh, whole(parts))
        first = 0
        for k, part in enumerate(parts):
            prim = mesh.GetPrim()
            if len(parts) > 1:
                faces = Vt.IntArray.FromNumpy(
                    np.arange(first, first + part.triangles, dtype=np.int32)
                )
                first += part.triangles
                binding = UsdShade.MaterialBindingAPI.Apply(prim)
                prim = binding.CreateMaterialBindSubset(
                    f"part_{k}", faces, UsdGeom.Tokens.face
                ).GetPrim()
            # What wears nothing here is drawn otherwise elsewhere: it wears what it is drawn as.
            worn = self.materials[part.material] if part.material >= 0 else self._unworn()
            UsdShade.MaterialBindingAPI.Apply(prim).Bind(worn)
        mesh.CreateDoubleSidedAttr(
            any(self.scene.materials[p.material].double_sided for p in parts if p.material >= 0)
        )

    # --- materials ---
    def _unworn(self) -> Any:
        if self._bare is None:
            self._bare = self._material(len(self.materials), NO_MATERIAL)
        return self._bare

    def _material(self, index: int, m: Material) -> Any:
        from pxr import Sdf, UsdShade

        kinds = Sdf.ValueTypeNames
        path = f"/World/Materials/m{index}_{_identifier(m.name, 'material')}"
        material = UsdShade.Material.Define(self.stage, path)
        shader = UsdShade.Shader.Define(self.stage, f"{path}/surface")
        shader.CreateIdAttr("UsdPreviewSurface")
        material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
        r, g, b, alpha = m.base_color
        grey = self._missing(m.base_texture)
        put = shader.CreateInput
        put("diffuseColor", kinds.Color3f).Set((r * grey, g * grey, b * grey))
        put("emissiveColor", kinds.Color3f).Set(m.emissive)
        put("metallic", kinds.Float).Set(m.metallic)
        put("roughness", kinds.Float).Set(m.roughness)
        put("ior", kinds.Float).Set(m.ior)
        put("clearcoat", kinds.Float).Set(m.clearcoat)
        put("clearcoatRoughness", kinds.Float).Set(m.clearcoat_roughness)
        put("opacity", kinds.Float).Set(alpha if m.alpha_mode == "BLEND" else 1.0)
        if m.alpha_mode == "MASK":
            put("opacityThreshold", kinds.Float).Set(m.alpha_cutoff)
        self._plug(
            path,
            shader,
            "base",
            m.base_texture,
            (("diffuseColor", "rgb", kinds.Color3f),),
            (r, g, b, 1.0),
        )
        if m.alpha_mode != "OPAQUE" and m.base_texture is not None:
            self._plug(
                path,
                shader,
                "base",
                m.base_texture,
                (("opacity", "a", kinds.Float),),
                (r, g, b, 1.0),
            )
        self._plug(
            path,
            shader,
            "glow",
            m.emissive_texture,
            (("emissiveColor", "rgb", kinds.Color3f),),
            (*m.emissive, 1.0),
        )
        both = (("roughness", "g", kinds.Float), ("metallic", "b", kinds.Float))
        self._plug(
            path,
            shader,
            "rough",
            m.roughness_texture,
            both,
            (1.0, m.roughness, m.metallic, 1.0),
            raw=True,
        )
        self._plug(
            path,
            shader,
            "normal",
            m.normal_texture,
            (("normal", "rgb", kinds.Normal3f),),
            (2.0, 2.0, 2.0, 1.0),
            raw=True,
        )
        return material

    def _missing(self, use: TextureUse | None) -> float:
        """What a picture that is not there is drawn as: grey, or 1 where there is one or none."""
        if use is None or not self.scene.images[self.scene.textures[use.texture].image].missing:
            return 1.0
        return GREY

    def _plug(
        self,
        path: str,
        shader: Any,
        name: str,
        use: TextureUse | None,
        inputs: Any,
        scale: tuple[float, ...],
        raw: bool = False,
    ) -> None:
        """Connect a picture to inputs of the surface; `scale` multiplies its channels."""
        from pxr import Sdf, UsdShade

        kinds = Sdf.ValueTypeNames
        file = self.files.get(self.scene.textures[use.texture].image) if use is not None else None
        if use is None or file is None:
            return
        texture = UsdShade.Shader.Define(self.stage, f"{path}/{name}")
        if not texture.GetIdAttr().Get():
            texture.CreateIdAttr("UsdUVTexture")
            texture.CreateInput("file", kinds.Asset).Set(file)
            own = self.scene.textures[use.texture]
            texture.CreateInput("wrapS", kinds.Token).Set(own.wrap_u)
            texture.CreateInput("wrapT", kinds.Token).Set(own.wrap_v)
            texture.CreateInput("sourceColorSpace", kinds.Token).Set("raw" if raw else "sRGB")
            texture.CreateInput("scale", kinds.Float4).Set(tuple(float(x) for x in scale))
            if name == "normal":
                texture.CreateInput("bias", kinds.Float4).Set((-1.0, -1.0, -1.0, 0.0))
            source = UsdShade.Shader.Define(self.stage, f"{path}/places")
            source.CreateIdAttr("UsdPrimvarReader_float2")
            source.CreateInput("varname", kinds.String).Set("st")
            if (use.offset, use.rotation, use.scale) != ((0.0, 0.0), 0.0, (1.0, 1.0)):
                source = self._mover(f"{path}/{name}_laid", source, use)
            texture.CreateInput("st", kinds.Float2).ConnectToSource(
                source.ConnectableAPI(), "result"
            )
        for key, channel, kind in inputs:
            texture.CreateOutput(channel, kinds.Float3 if channel == "rgb" else kinds.Float)
            shader.CreateInput(key, kind).ConnectToSource(texture.ConnectableAPI(), channel)

    def _mover(self, path: str, source: Any, use: TextureUse) -> Any:
        """A transform whose V runs up, for one whose V runs down:

        p' = f(f(p) through `use`) with f(p) = (u, 1 - v).
        """
        from pxr import Sdf, UsdShade

        kinds = Sdf.ValueTypeNames
        mover = UsdShade.Shader.Define(self.stage, path)
        mover.CreateIdAttr("UsdTransform2d")
        c, s = math.cos(use.rotation), math.sin(use.rotation)
        mover.CreateInput("rotation", kinds.Float).Set(math.degrees(use.rotation))
        mover.CreateInput("scale", kinds.Float2).Set((use.scale[0], use.scale[1]))
        moved = (use.offset[0] + s * use.scale[1], 1.0 - use.offset[1] - c * use.scale[1])
        mover.CreateInput("translation", kinds.Float2).Set(moved)
        mover.CreateInput("in", kinds.Float2).ConnectToSource(source.ConnectableAPI(), "result")
        return mover

    # --- cameras and lights ---
    def _camera(self, path: str, index: int) -> Any:
        from pxr import UsdGeom

        camera, own = UsdGeom.Camera.Define(self.stage, path), self.scene.cameras[index]
        camera.CreateVerticalApertureAttr(APERTURE)
        camera.CreateHorizontalApertureAttr(APERTURE * (own.aspect or 16 / 9))
        if own.half_height is not None:
            # Of an orthographic camera apertures are tenths of the unit, which is the metre here.
            camera.CreateProjectionAttr(UsdGeom.Tokens.orthographic)
            camera.CreateVerticalApertureAttr(own.half_height * 20)
            camera.CreateHorizontalApertureAttr(own.half_height * 20 * (own.aspect or 16 / 9))
        else:
            camera.CreateFocalLengthAttr(APERTURE / 2 / math.tan(own.yfov / 2))
        if own.f_stop > 0:
            camera.CreateFStopAttr(own.f_stop)
        if own.focus_distance > 0:
            camera.CreateFocusDistanceAttr(own.focus_distance)
        return camera

    def _light(self, path: str, light: Light) -> Any:
        from pxr import UsdLux

        out: Any
        if light.kind == "directional":
            out = UsdLux.DistantLight.Define(self.stage, path)
            out.CreateAngleAttr(0.0)
            out.CreateIntensityAttr(light.intensity)
        else:
            out = UsdLux.SphereLight.Define(self.stage, path)
            out.CreateRadiusAttr(SMALL)
            out.CreateTreatAsPointAttr(True)
            # Divided by its area, a sphere gives a quarter of its brightness as candela.
            out.CreateNormalizeAttr(True)
            out.CreateIntensityAttr(4.0 * light.intensity)
            if light.kind == "spot":
                cone = UsdLux.ShapingAPI.Apply(out.GetPrim())
                cone.CreateShapingConeAngleAttr(math.degrees(light.outer_cone))
                cone.CreateShapingConeSoftnessAttr(
                    1.0 - light.inner_cone / max(light.outer_cone, 1e-9)
                )
        out.CreateColorAttr(light.color)
        return out


def _identifier(name: str, spare: str) -> str:
    """A name as prims may have it: letters, digits and _."""
    return plain(name, spare).replace("-", "_")


def _matrix(m: NDArray[np.float64]) -> Any:
    """The library's matrices are for rows."""
    from pxr import Gf

    return Gf.Matrix4d(*m.T.reshape(-1).tolist())
