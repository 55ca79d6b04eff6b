"""Writing OBJ with its MTL:

every placed mesh in the world's own space, as it stands in the first frame.

The format knows no copies, cameras, lights, animation or fog.  A texture's transform is written
into the places on the texture, since few programs read its options.
"""

from __future__ import annotations

import math
from collections.abc import Iterable
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.formats.pictures_out import write_channel, write_pictures
from mill_lane.core.image.srgb import from_linear
from mill_lane.core.names import plain
from mill_lane.core.progress import Progress, silent
from mill_lane.core.scene.model import Geometry, Material, Note, Scene, TextureUse
from mill_lane.core.scene.pose import world_matrices

ROWS = 65536  # that are turned into text at a time


def write_obj(scene: Scene, path: Path, progress: Progress = silent) -> list[Note]:
    """Write an OBJ, its MTL and a folder of textures beside it; metres, Y up.

    Parameters
    ----------
    scene : Scene
    path : Path
    progress : callable
        Told how far it is, from 0 to 1, and may stop it.

    Returns
    -------
    list of Note
        What the format cannot hold.

    Raises
    ------
    OSError
        When the disk is full.
    """
    folder = path.with_name(f"{path.stem}-textures")
    files = write_pictures(scene, folder) if scene.images else {}
    names = [f"{plain(m.name, 'material')}_{i}" for i, m in enumerate(scene.materials)]
    library = path.with_suffix(".mtl")
    lines = [
        _material(scene, m, n, files, folder) for m, n in zip(scene.materials, names, strict=True)
    ]
    library.write_text("\n".join(lines) + "\n", "utf-8")
    matrices = world_matrices(scene, 0.0)
    vertex = place = 1
    temporary = path.with_name(path.name + ".part")
    with temporary.open("w", encoding="utf-8", newline="\n") as f:
        f.write(f"# Metres, Y up.\nmtllib {library.name}\n")
        instances = scene.instances
        for done, (node, mesh) in enumerate(instances):
            f.write(f"o {plain(scene.nodes[node].name, 'object')}_{done}\n")
            for part in scene.meshes[mesh].parts:
                if not part.triangles:
                    continue
                g = placed(part.load(), matrices[node])
                use = _first_use(scene.materials[part.material]) if part.material >= 0 else None
                if g.colors is not None:
                    both = np.concatenate([g.positions, from_linear(g.colors[:, :3])], 1)
                    f.writelines(_rows("v %.9g %.9g %.9g %.5g %.5g %.5g\n", both))
                else:
                    f.writelines(_rows("v %.9g %.9g %.9g\n", g.positions))
                f.writelines(_rows("vn %.6g %.6g %.6g\n", g.normals))
                if part.material >= 0:
                    f.write(f"usemtl {names[part.material]}\n")
                corners = g.triangles.astype(np.int64)
                if g.uvs is not None:
                    f.writelines(_rows("vt %.9g %.9g\n", laid_out(g.uvs, use)))
                    index = np.stack(
                        [corners + vertex, corners + place, corners + vertex], 2
                    ).reshape(-1, 9)
                    f.writelines(_rows("f %d/%d/%d %d/%d/%d %d/%d/%d\n", index))
                    place += len(g.uvs)
                else:
                    index = np.stack([corners + vertex, corners + vertex], 2).reshape(-1, 6)
                    f.writelines(_rows("f %d//%d %d//%d %d//%d\n", index))
                vertex += len(g.positions)
            progress(
                (done + 1) / len(instances), f"writing: {done + 1} of {len(instances)} objects"
            )
    temporary.replace(path)
    return _lost(scene)


def placed(g: Geometry, matrix: NDArray[np.float64]) -> Geometry:
    """A mesh where its matrix puts it; a mirroring turns its triangles round."""
    linear = matrix[:3, :3]
    turn = float(np.linalg.det(linear))
    normals = g.normals @ np.linalg.pinv(linear) if turn else g.normals
    normals = normals / np.maximum(np.linalg.norm(normals, axis=1, keepdims=True), 1e-30)
    return Geometry(
        (g.positions @ linear.T + matrix[:3, 3]).astype(np.float32),
        normals.astype(np.float32),
        g.uvs,
        g.triangles[:, ::-1] if turn < 0 else g.triangles,
        colors=g.colors,
    )


def _first_use(m: Material) -> TextureUse | None:
    return next((use for _, use in m.uses()), None)


def laid_out(uvs: NDArray[np.float32], use: TextureUse | None) -> NDArray[np.float64]:
    """Places on the texture with its transform (KHR_texture_transform), V turned to run up."""
    u, v = uvs[:, 0].astype(float), uvs[:, 1].astype(float)
    if use is not None:
        c, s = math.cos(use.rotation), math.sin(use.rotation)
        x, y = use.scale
        u, v = x * c * u + y * s * v + use.offset[0], -x * s * u + y * c * v + use.offset[1]
    return np.stack([u, 1.0 - v], 1)


def _rows(line: str, values: NDArray[np.floating | np.integer]) -> Iterable[str]:
    for at in range(0, len(values), ROWS):
        block = values[at : at + ROWS]
        yield (line * len(block)) % tuple(block.reshape(-1).tolist())


def _material(scene: Scene, m: Material, name: str, files: dict[int, str], folder: Path) -> str:
    def picture(use: TextureUse | None) -> str:
        found = files.get(scene.textures[use.texture].image) if use is not None else None
        return f"{folder.name}/{found}" if found else ""

    rough, metal, maps = m.roughness, m.metallic, []
    if m.roughness_texture is not None and picture(m.roughness_texture):
        # A picture for each, with the factor in it.  Beside it stands its mean, for programs that
        # read no pictures of these.
        image = scene.images[scene.textures[m.roughness_texture.texture].image]
        file = Path(files[scene.textures[m.roughness_texture.texture].image]).stem
        for key, channel, factor in (("Pr", 1, m.roughness), ("Pm", 2, m.metallic)):
            own = f"{file}_{key}_{round(factor * 255)}.png"
            mean = write_channel(image, channel, factor, folder / own)
            maps.append(f"map_{key} {folder.name}/{own}")
            rough, metal = (mean, metal) if key == "Pr" else (rough, mean)

    r, g, b, alpha = m.base_color
    # A shine's exponent from the roughness: alpha = r^2 = sqrt(2 / (n + 2)) (Walter et al. 2007,
    # section 5.2).
    exponent = min(2.0 / max(rough, 0.03) ** 4 - 2.0, 10000.0)
    lines = [
        f"newmtl {name}",
        f"Kd {r:.6g} {g:.6g} {b:.6g}",
        f"Ke {m.emissive[0]:.6g} {m.emissive[1]:.6g} {m.emissive[2]:.6g}",
        f"Ns {max(exponent, 0.0):.6g}",
        f"Ni {m.ior:.6g}",
        f"d {alpha if m.alpha_mode == 'BLEND' else 1.0:.6g}",
        f"illum {7 if m.transmission > 0 else 2}",
        *([f"Tf {r:.6g} {g:.6g} {b:.6g}"] if m.transmission > 0 else []),
        f"Pr {rough:.6g}",
        f"Pm {metal:.6g}",
        f"Pc {m.clearcoat:.6g}",
        f"Pcr {m.clearcoat_roughness:.6g}",
    ]
    base = picture(m.base_texture)
    if base:
        lines.append(f"map_Kd {base}")
        if m.alpha_mode != "OPAQUE":
            lines.append(f"map_d {base}")
    for key, use in (("map_Ke", m.emissive_texture), ("norm", m.normal_texture)):
        if picture(use):
            lines.append(f"{key} {picture(use)}")
    return "\n".join(lines + maps) + "\n"


def _lost(scene: Scene) -> list[Note]:
    out = []
    copies = len(scene.instances) - len({m for _, m in scene.instances})
    if copies:
        out.append(
            Note(
                "copies_written_out",
                "look",
                f"OBJ knows no copies: {copies} are written out in full.",
            )
        )
    parts = [p for mesh in scene.meshes for p in mesh.parts]
    kinds = [
        ("cameras", any(not c.added for c in scene.cameras)),
        ("lights", bool(scene.lights)),
        ("fog", bool(scene.media)),
        ("animation", any(n.channels for n in scene.nodes)),
        ("the movement of skins and morph targets", any(p.load_at for p in parts)),
        ("how much light glass lets through", any(m.transmission > 0 for m in scene.materials)),
        ("sheen", any(max(m.sheen_color) > 0 for m in scene.materials)),
        ("tinted reflections", any(m.specular_color != (1.0, 1.0, 1.0) for m in scene.materials)),
        ("the grain of brushed metal", any(m.anisotropy > 0 for m in scene.materials)),
        ("cut-outs with an edge", any(m.alpha_mode == "MASK" for m in scene.materials)),
        ("a second set of UVs", any(p.has_second_uvs for p in parts)),
    ]
    missing = [name for name, there in kinds if there]
    if missing:
        out.append(Note("not_in_format", "lost", f"OBJ cannot hold {', '.join(missing)}."))
    return out
