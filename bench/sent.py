"""Files as they are sent, made by a generator that knows what is in them: opened, counted, drawn,
handed back in four formats, and opened once more.

Counts and depths come from elsewhere: triangles of trimesh's shapes, and rays against them by plain
NumPy.  Part of `bench open`.
"""

from __future__ import annotations

import tempfile
import zipfile
from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
import trimesh
from pxr import Gf, Sdf, Usd, UsdGeom, UsdShade, UsdUtils, Vt
from scipy.ndimage import minimum_filter

from mill_lane.core.errors import MillError
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.formats.saving import save_scene
from mill_lane.core.image.compare import ssim
from mill_lane.core.image.srgb import view
from mill_lane.core.recipe import Recipe
from mill_lane.core.render.load import load
from mill_lane.core.render.picture_header import along_axis, axis_cosines
from mill_lane.core.render.session import Session
from mill_lane.core.scene.model import Node, Note, Scene
from mill_lane.core.scene.pose import world_matrices
from tests.usd_rules import complaints

WIDTH, HEIGHT, FINE, SAMPLES = 48, 36, 4, 64
CLOSE, ALIKE = 1e-3, 0.99
STAGES = (".usd", ".usda", ".usdc", ".usdz")
HOMES = (".glb", ".usda", ".usdz", ".zip")


@dataclass
class Thing:
    """A shape where it stands: vertices in metres with Y up, triangles, a colour."""

    name: str
    points: np.ndarray
    triangles: np.ndarray
    colour: tuple[float, float, float]


def things(rng: np.random.Generator) -> list[Thing]:
    """A floor and a few shapes of random size, place and colour on it."""
    made = [trimesh.creation.box((6, 0.1, 6))]
    for _ in range(int(rng.integers(2, 6))):
        shape = rng.integers(0, 4)
        size = float(rng.uniform(0.3, 0.9))
        one = (
            trimesh.creation.box((size, size, size)),
            trimesh.creation.icosphere(subdivisions=2, radius=size / 2),
            trimesh.creation.cylinder(size / 2, size, sections=40),
            trimesh.creation.torus(size / 2, size / 6),
        )[shape]
        one.apply_transform(trimesh.transformations.random_rotation_matrix(rng.random(3)))
        one.apply_translation([*rng.uniform(-2, 2, 1), 0.9, *rng.uniform(-2, 2, 1)])
        made.append(one)
    out = []
    for k, m in enumerate(made):
        r, g, b = (float(x) for x in rng.uniform(0.2, 0.8, 3))
        out.append(
            Thing(f"thing_{k}", np.asarray(m.vertices, float), np.asarray(m.faces), (r, g, b))
        )
    low = min(float(t.points[:, 1].min()) for t in out)
    for t in out:
        t.points[:, 1] -= low  # it stands on the ground, as files that say no axis are taken
    return out


def camera_matrix(rng: np.random.Generator) -> np.ndarray:
    """A camera from above that sees all of it."""
    angle = float(rng.uniform(0, 6.28))
    eye = np.array([6 * np.cos(angle), float(rng.uniform(3, 5)), 6 * np.sin(angle)])
    z = eye / np.linalg.norm(eye)
    x = np.cross([0, 1.0, 0], z)
    x /= np.linalg.norm(x)
    m = np.eye(4)
    m[:3, :3], m[:3, 3] = np.stack([x, np.cross(z, x), z], 1), eye
    return m


def soup(made: list[Thing]) -> np.ndarray:
    """All triangles, (T, 3, 3)."""
    return np.concatenate([t.points[t.triangles] for t in made])


# --- the kinds of files ---


def glb(made: list[Thing], camera: np.ndarray, path: Path) -> Path:
    scene = trimesh.Scene()
    for t in made:
        mesh = trimesh.Trimesh(t.points, t.triangles, process=False)
        material = trimesh.visual.material.PBRMaterial(
            name=t.name, baseColorFactor=[*t.colour, 1.0], metallicFactor=0.0, roughnessFactor=0.8
        )
        mesh.visual = trimesh.visual.TextureVisuals(material=material)
        scene.add_geometry(mesh, node_name=t.name)
    out = path.with_suffix(".glb")
    out.write_bytes(scene.export(file_type="glb"))
    return out


def gltf_zip(made: list[Thing], camera: np.ndarray, path: Path) -> Path:
    scene = trimesh.Scene()
    for t in made:
        scene.add_geometry(trimesh.Trimesh(t.points, t.triangles, process=False), node_name=t.name)
    out = path.with_suffix(".zip")
    with zipfile.ZipFile(out, "w") as z:
        for name, data in scene.export(file_type="gltf").items():
            z.writestr(f"deep/down/{name}", data)
    return out


def obj_zip(made: list[Thing], camera: np.ndarray, path: Path) -> Path:
    lines, mtl, first = ["mtllib mats\\m.mtl"], [], 1
    for t in made:
        mtl.append(f"newmtl {t.name}\nKd {t.colour[0]} {t.colour[1]} {t.colour[2]}\nNs 20\n")
        lines += [f"o {t.name}", f"usemtl {t.name}", "s off"]
        lines += ["v {:.9g} {:.9g} {:.9g}".format(*p) for p in t.points]
        lines += ["f {} {} {}".format(*(f + first)) for f in t.triangles]
        first += len(t.points)
    out = path.with_suffix(".zip")
    with zipfile.ZipFile(out, "w") as z:
        z.writestr("Sent\\scene.obj", "\n".join(lines) + "\n")
        z.writestr("Sent\\mats\\m.mtl", "\n".join(mtl))
        z.writestr("__MACOSX/Sent/._scene.obj", b"\0")
    return out


def soup_file(ending: str) -> Callable[[list[Thing], np.ndarray, Path], Path]:
    def write(made: list[Thing], camera: np.ndarray, path: Path) -> Path:
        joined = trimesh.util.concatenate(
            [trimesh.Trimesh(t.points, t.triangles, process=False) for t in made]
        )
        if ending == "stl":  # stands on Z, in millimetres
            joined.apply_transform(np.diag([1000.0, 1000, 1000, 1]))
            joined.apply_transform(trimesh.transformations.rotation_matrix(np.pi / 2, [1, 0, 0]))
        out = path.with_suffix(f".{ending}")
        out.write_bytes(joined.export(file_type=ending))
        return out

    return write


def usd(ending: str, unit: float = 1.0, up: str = "Y", apart: bool = False) -> Any:
    """A stage in a unit and with an axis of its own; `apart` puts every thing into a file."""

    def write(made: list[Thing], camera: np.ndarray, path: Path) -> Path:
        folder = path.with_suffix("")
        folder.mkdir()
        root = folder / f"scene.{'usda' if ending == 'usdz' else ending}"
        stage = _stage(root, unit, up)
        UsdGeom.Xform.Define(stage, "/World")
        stage.SetDefaultPrim(stage.GetPrimAtPath("/World"))
        turn = np.array([[1, 0, 0], [0, 0, -1], [0, 1, 0.0]]) if up == "Z" else np.eye(3)
        for k, t in enumerate(made):
            where, at = stage, f"/World/{t.name}"
            if apart:
                part = folder / "parts" / f"{t.name}.usda"
                part.parent.mkdir(exist_ok=True)
                where, at = _stage(part, unit, up), f"/{t.name}"
            _put(where, at, t, t.points @ turn.T / unit)
            if apart:
                where.SetDefaultPrim(where.GetPrimAtPath(at))
                where.Save()
                prim = stage.DefinePrim(f"/World/{t.name}")
                name = f"./parts/{t.name}.usda"
                (prim.GetPayloads().AddPayload if k % 2 else prim.GetReferences().AddReference)(
                    name
                )
        lens = UsdGeom.Camera.Define(stage, "/World/cam")
        lens.CreateFocalLengthAttr(30.0)
        lens.CreateHorizontalApertureAttr(24.0 * 4 / 3)
        lens.CreateVerticalApertureAttr(24.0)
        placed = camera.copy()
        placed[:3, 3] /= unit
        to_stage = np.eye(4)
        to_stage[:3, :3] = turn
        matrix = to_stage @ placed
        lens.AddTransformOp().Set(Gf.Matrix4d(*matrix.T.reshape(-1).tolist()))
        stage.Save()
        if ending == "usdz":
            out = path.with_suffix(".usdz")
            UsdUtils.CreateNewUsdzPackage(Sdf.AssetPath(str(root)), str(out))
            return out
        if not apart:
            return root
        out = path.with_suffix(".zip")
        with zipfile.ZipFile(out, "w") as z:
            for file in (p for p in folder.rglob("*") if p.is_file()):
                z.write(file, file.relative_to(folder).as_posix())
        return out

    return write


def _stage(path: Path, unit: float, up: str) -> Any:
    stage = Usd.Stage.CreateNew(str(path))
    UsdGeom.SetStageMetersPerUnit(stage, unit)
    UsdGeom.SetStageUpAxis(stage, up)
    return stage


def _put(stage: Any, at: str, t: Thing, points: np.ndarray) -> None:
    mesh = UsdGeom.Mesh.Define(stage, at)
    mesh.CreatePointsAttr(Vt.Vec3fArray.FromNumpy(points.astype(np.float32)))
    mesh.CreateFaceVertexCountsAttr([3] * len(t.triangles))
    mesh.CreateFaceVertexIndicesAttr(t.triangles.reshape(-1).tolist())
    mesh.CreateSubdivisionSchemeAttr(UsdGeom.Tokens.none)
    material = UsdShade.Material.Define(stage, f"{at}/paint")
    shader = UsdShade.Shader.Define(stage, f"{at}/paint/surface")
    shader.CreateIdAttr("UsdPreviewSurface")
    shader.CreateInput("diffuseColor", Sdf.ValueTypeNames.Color3f).Set(Gf.Vec3f(*t.colour))
    material.CreateSurfaceOutput().ConnectToSource(shader.ConnectableAPI(), "surface")
    UsdShade.MaterialBindingAPI.Apply(mesh.GetPrim()).Bind(material)


KINDS: dict[str, Callable[[list[Thing], np.ndarray, Path], Path]] = {
    "GLB": glb,
    "glTF in a deep ZIP": gltf_zip,
    "OBJ in a ZIP with backslashes": obj_zip,
    "PLY": soup_file("ply"),
    "STL": soup_file("stl"),
    "USD, text": usd("usda"),
    "USD, crate, centimetres, Z up": usd("usdc", 0.01, "Z"),
    "USDZ": usd("usdz", 0.01),
    "USD in a ZIP, in parts": usd("usda", 0.01, "Z", apart=True),
    "USD in a ZIP, crate": usd("usdc", 1.0, "Y", apart=True),
}


# --- what is done with each ---


def rays(scene: Scene) -> tuple[np.ndarray, np.ndarray]:
    """Origins and directions of `FINE` x `FINE` rays a pixel, (H, W, F, 3)."""
    node = scene.camera_node(None)
    camera = scene.cameras[scene.nodes[node].camera]
    m = world_matrices(scene, 0.0)[node]
    half = np.tan(camera.yfov / 2)
    sub = (np.arange(FINE) + 0.5) / FINE
    u = (np.arange(WIDTH)[:, None] + sub).reshape(-1) / WIDTH * 2 - 1
    v = 1 - (np.arange(HEIGHT)[:, None] + sub).reshape(-1) / HEIGHT * 2
    d = np.empty((HEIGHT * FINE, WIDTH * FINE, 3))
    d[..., 0], d[..., 1], d[..., 2] = u * half * WIDTH / HEIGHT, v[:, None] * half, -1
    d = d @ (m[:3, :3] / np.linalg.norm(m[:3, :3], axis=0)).T
    return m[:3, 3], d


def depths(scene: Scene, triangles: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Depth along the axis of each pixel's mean, and whether all rays round it hit one triangle."""
    origin, d = rays(scene)
    flat = d.reshape(-1, 3)
    best, hit = np.full(len(flat), np.inf), np.full(len(flat), -1)
    a, e1, e2 = triangles[:, 0], *(triangles[:, k] - triangles[:, 0] for k in (1, 2))
    for k in range(len(triangles)):
        p = np.cross(flat, e2[k])
        det = p @ e1[k]
        with np.errstate(divide="ignore", invalid="ignore"):
            s = origin - a[k]
            u = (p @ s) / det
            q = np.cross(s, e1[k])
            v = (flat @ q) / det
            t = float(e2[k] @ q) / det
        good = (np.abs(det) > 1e-12) & (u >= 0) & (v >= 0) & (u + v <= 1) & (t > 1e-6) & (t < best)
        best[good], hit[good] = t[good], k
    shape = (HEIGHT, FINE, WIDTH, FINE)
    per_pixel = hit.reshape(shape).transpose(0, 2, 1, 3).reshape(HEIGHT, WIDTH, -1)
    same = (per_pixel == per_pixel[..., :1]).all(-1) & (per_pixel[..., 0] >= 0)
    mean = best.reshape(shape).transpose(0, 2, 1, 3).reshape(HEIGHT, WIDTH, -1).mean(-1)
    # What a pixel shows reaches into its neighbours: only amid one triangle is it that alone.
    return mean, minimum_filter(same, 3)


def drawn(scene: Scene) -> Session:
    recipe = Recipe(
        width=WIDTH, height=HEIGHT, samples=SAMPLES, min_samples=1, layers=("depth",), seed=3
    )
    session = Session(load(scene, 2), recipe, threads=2, frame=scene.frames[0])
    while not session.done:
        session.step(10)
    return session


def picture(session: Session) -> np.ndarray:
    return view(session.film.light / session.film.samples[..., None])[..., :3] / 255.0


def seen_as(scene: Scene, other: Scene) -> Scene:
    """A scene through the camera of another, where its format holds none."""
    node = other.camera_node(None)
    matrix = world_matrices(other, 0.0)[node]
    nodes = tuple(n for n in scene.nodes if n.camera < 0)
    lens = other.cameras[other.nodes[node].camera]
    return replace(scene, nodes=(*nodes, Node("seen", matrix=matrix, camera=0)), cameras=(lens,))


def against_the_rules(home: Path, path: Path) -> dict[str, int]:
    """Errors of a stage by the validators of usd-core that what was sent did not have."""
    if home.suffix not in STAGES:
        return {}
    before = complaints(path) if path.suffix in STAGES else Counter[str]()
    return dict(complaints(home) - before)


def lost(notes: list[Note]) -> bool:
    return any(n.level == "lost" for n in notes)


def sent(files: int, seed: int) -> dict[str, Any]:
    """Do all of it with so many files; `seed` sets what is in them."""
    out: dict[str, Any] = dict.fromkeys(
        ("files", "opened", "counted", "drawn", "handed_back", "losses_untold", "rules_broken"), 0
    )
    trouble: list[str] = []
    kinds = list(KINDS.items())
    for k in range(files):
        name, write = kinds[k % len(kinds)]
        rng = np.random.default_rng((seed, k))
        with tempfile.TemporaryDirectory() as held:
            made, camera = things(rng), camera_matrix(rng)
            path = write(made, camera, Path(held) / f"file{k}")
            out["files"] += 1
            try:
                _one(out, trouble, f"{k}: {name}", path, made, Path(held))
            except MillError as e:
                trouble.append(f"{k}: {name}: {e.message}")
    return out | {"trouble": trouble}


def _one(
    out: dict[str, Any], trouble: list[str], name: str, path: Path, made: list[Thing], held: Path
) -> None:
    scene = open_scene(path)
    out["opened"] += 1
    triangles = soup(made)
    count = sum(scene.meshes[m].triangles for _, m in scene.instances)
    if count == len(triangles):
        out["counted"] += 1
    else:
        trouble.append(f"{name}: {count} triangles, {len(triangles)} in it")
    session = drawn(scene)
    truth, sure = depths(scene, triangles)
    measured = dict(session.each_layer())["depth"]
    measured = along_axis(measured, axis_cosines(scene, session.recipe, (0, 0, WIDTH, HEIGHT)))
    off = np.abs(measured[sure] - truth[sure]) / truth[sure]
    if sure.sum() > 40 and float(np.quantile(off, 0.999)) < CLOSE:
        out["drawn"] += 1
    else:
        trouble.append(f"{name}: depths off by {float(np.quantile(off, 0.999)):.2g}")
    before = picture(session)
    whole = True
    for ending in HOMES:
        home = held / f"home{ending}"
        told = save_scene(scene, home)
        broken = against_the_rules(home, path)
        if broken:
            out["rules_broken"] += 1
            trouble.append(f"{name} as {ending}: {broken}")
        again = seen_as(open_scene(home), scene)
        if again.environment is None or again.environment.added:
            again = replace(again, environment=scene.environment)
        alike = ssim(before, picture(drawn(again)))
        if alike < ALIKE:
            whole = False
            if not lost(told):
                out["losses_untold"] += 1
                trouble.append(f"{name} as {ending}: SSIM {alike:.4f}, nothing told")
    out["handed_back"] += whole
