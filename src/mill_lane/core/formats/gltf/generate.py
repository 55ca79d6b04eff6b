"""The glTF JSON of a scene that was made by code, and the sources of its bytes in order."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import asdict
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.formats.gltf.materials import write_material
from mill_lane.core.formats.textures import grey_png
from mill_lane.core.scene.model import Channel, Geometry, Image, Light, Node, Part, Scene

Source = tuple[int, Callable[[], "bytes | NDArray[Any]"]]
WRAPS = {"repeat": 10497, "mirror": 33648, "clamp": 33071}


class _Builder:
    """Collects views and accessors while the JSON is put together."""

    def __init__(self) -> None:
        self.sources: list[Source] = []
        self.views: list[dict[str, Any]] = []
        self.accessors: list[dict[str, Any]] = []
        self.at = 0

    def view(self, length: int, make: Callable[[], bytes | NDArray[Any]], target: int = 0) -> int:
        self.views.append(
            {"buffer": 0, "byteOffset": self.at, "byteLength": length}
            | ({"target": target} if target else {})
        )
        self.sources.append((length, make))
        self.at += length + -length % 4
        return len(self.views) - 1

    def accessor(self, view: int, kind: str, component: int, count: int, **more: Any) -> int:
        self.accessors.append(
            {"bufferView": view, "componentType": component, "count": count, "type": kind} | more
        )
        return len(self.accessors) - 1

    def floats(self, values: NDArray[Any], kind: str, **more: Any) -> int:
        data = np.ascontiguousarray(values, "<f4")
        return self.accessor(self.view(data.nbytes, lambda: data), kind, 5126, len(data), **more)


def generate(scene: Scene) -> tuple[dict[str, Any], list[Source]]:
    """The JSON root (without buffers) and the (length, bytes) sources of the binary part, each
    padded to 4.
    """
    b = _Builder()
    used: set[str] = set()
    root: dict[str, Any] = {"asset": {"version": "2.0", "generator": "Mill Lane"}, "scene": 0}
    settings: dict[str, Any] = {"frame_rate": scene.frame_rate, "frames": list(scene.frames)}
    if scene.media:
        settings["media"] = [asdict(m) for m in scene.media]
    if scene.environment is not None:
        # A picture has no place in JSON: only gradients and clear skies are kept in the file.
        settings["environment"] = {
            k: v for k, v in asdict(scene.environment).items() if k != "pixels"
        }
    roots = [i for i, n in enumerate(scene.nodes) if n.parent < 0]
    root["scenes"] = [{"name": scene.name, "nodes": roots, "extras": {"mill_lane": settings}}]
    root["nodes"] = [_node(scene, i, n, used) for i, n in enumerate(scene.nodes)]
    root["meshes"] = [
        {"name": m.name, "primitives": [_primitive(b, p, _bumpy(scene, p)) for p in m.parts]}
        | ({"extras": {"mill_lane_subdivision": list(m.subdivision)}} if m.subdivision else {})
        for m in scene.meshes
    ]
    root["materials"] = [write_material(m, used) for m in scene.materials]
    root["images"] = [_image(b, image) for image in scene.images]
    root["samplers"] = []
    root["textures"] = []
    for t in scene.textures:
        sampler = {
            "magFilter": 9729,
            "minFilter": 9987,
            "wrapS": WRAPS[t.wrap_u],
            "wrapT": WRAPS[t.wrap_v],
        }
        if sampler not in root["samplers"]:
            root["samplers"].append(sampler)
        root["textures"].append(
            {"name": t.name, "source": t.image, "sampler": root["samplers"].index(sampler)}
        )
    root["cameras"] = [
        {
            "name": c.name,
            "type": "perspective",
            "perspective": {"yfov": c.yfov, "znear": 0.01, "aspectRatio": c.aspect or 16 / 9},
        }
        for c in scene.cameras
    ]
    animated = [(i, c) for i, n in enumerate(scene.nodes) for c in n.channels]
    if animated:
        samplers = [_sampler(b, c) for _, c in animated]
        channels = [
            {"sampler": k, "target": {"node": i, "path": c.path}}
            for k, (i, c) in enumerate(animated)
        ]
        root["animations"] = [{"name": "move", "samplers": samplers, "channels": channels}]
    if scene.lights:
        used.add("KHR_lights_punctual")
        root["extensions"] = {"KHR_lights_punctual": {"lights": [_light(x) for x in scene.lights]}}
    root["accessors"], root["bufferViews"] = b.accessors, b.views
    if used:
        root["extensionsUsed"] = sorted(used)
    return {k: v for k, v in root.items() if v != []}, b.sources


def _node(scene: Scene, index: int, n: Node, used: set[str]) -> dict[str, Any]:
    out: dict[str, Any] = {"name": n.name}
    children = [i for i, other in enumerate(scene.nodes) if other.parent == index]
    if children:
        out["children"] = children
    if n.matrix is not None:
        out["matrix"] = n.matrix.T.reshape(-1).tolist()
    else:
        for name, value, rest in (
            ("translation", n.translation, (0, 0, 0)),
            ("rotation", n.rotation, (0, 0, 0, 1)),
            ("scale", n.scale, (1, 1, 1)),
        ):
            if tuple(value) != rest:
                out[name] = [float(x) for x in value]
    if n.mesh >= 0:
        out["mesh"] = n.mesh
    if n.camera >= 0:
        out["camera"] = n.camera
    if n.light >= 0:
        out["extensions"] = {"KHR_lights_punctual": {"light": n.light}}
    return out


def _bumpy(scene: Scene, p: Part) -> bool:
    return p.has_uvs and p.material >= 0 and scene.materials[p.material].normal_texture is not None


def tangents(g: Geometry) -> NDArray[np.float32]:
    """Tangents along rising U with the sign of the bitangent, float32 (V, 4) (glTF 2.0, section
    3.7.2.1).

    Our renderer works them out at each hit; other programs differ unless the file says them.
    """
    assert g.uvs is not None
    p, uv = g.positions.astype(float)[g.triangles], g.uvs.astype(float)[g.triangles]
    e1, e2, d1, d2 = p[:, 1] - p[:, 0], p[:, 2] - p[:, 0], uv[:, 1] - uv[:, 0], uv[:, 2] - uv[:, 0]
    det = d1[:, 0] * d2[:, 1] - d2[:, 0] * d1[:, 1]
    sign = np.where(det < 0, -1.0, 1.0)
    along = (e1 * d2[:, 1:] - e2 * d1[:, 1:]) * sign[:, None]
    total, hand = np.zeros((len(g.positions), 3)), np.zeros(len(g.positions))
    for k in range(3):
        np.add.at(total, g.triangles[:, k], along)
        np.add.at(hand, g.triangles[:, k], sign)
    n = g.normals.astype(float)
    total -= n * (total * n).sum(1, keepdims=True)
    # Where a vertex has no layout of its own, any direction across the normal will do.
    spare = np.cross(n, np.where(np.abs(n[:, :1]) < 0.9, [[1.0, 0, 0]], [[0, 1.0, 0]]))
    flat = np.linalg.norm(total, axis=1) < 1e-12
    total[flat] = spare[flat]
    total /= np.linalg.norm(total, axis=1, keepdims=True)
    # V runs down the picture, so a layout that is not mirrored has a bitangent against n x t.
    w = np.where(hand < 0, 1.0, -1.0)
    return np.concatenate([total, w[:, None]], 1).astype(np.float32)


def _primitive(b: _Builder, p: Part, bumpy: bool) -> dict[str, Any]:
    n, t = p.vertices, p.triangles
    wide = n > 65535

    def indices() -> NDArray[Any]:
        return p.load().triangles.astype("<u4" if wide else "<u2")

    def uvs() -> NDArray[Any]:
        found = p.load().uvs
        assert found is not None
        return found

    attributes = {
        "POSITION": b.accessor(
            b.view(12 * n, lambda: p.load().positions, 34962),
            "VEC3",
            5126,
            n,
            min=list(p.bounds_min),
            max=list(p.bounds_max),
        ),
        "NORMAL": b.accessor(b.view(12 * n, lambda: p.load().normals, 34962), "VEC3", 5126, n),
    }
    if p.has_uvs:
        attributes["TEXCOORD_0"] = b.accessor(b.view(8 * n, uvs, 34962), "VEC2", 5126, n)
    if bumpy:
        view = b.view(16 * n, lambda: tangents(p.load()), 34962)
        attributes["TANGENT"] = b.accessor(view, "VEC4", 5126, n)
    view = b.view((12 if wide else 6) * t, indices, 34963)
    out: dict[str, Any] = {"attributes": attributes}
    out["indices"] = b.accessor(view, "SCALAR", 5125 if wide else 5123, 3 * t)
    if p.material >= 0:
        out["material"] = p.material
    return out


def _image(b: _Builder, image: Image) -> dict[str, Any]:
    if image.missing:
        grey = grey_png()
        extras = {"mill_lane_missing": image.name}
        return {
            "name": image.name,
            "mimeType": "image/png",
            "bufferView": b.view(len(grey), lambda: grey),
            "extras": extras,
        }
    return {
        "name": image.name,
        "mimeType": image.mime,
        "bufferView": b.view(image.file_bytes, image.read),
    }


def _sampler(b: _Builder, c: Channel) -> dict[str, Any]:
    first, last = float(np.float32(c.times[0])), float(np.float32(c.times[-1]))
    return {
        "input": b.floats(c.times[:, None], "SCALAR", min=[first], max=[last]),
        "output": b.floats(c.values, "VEC4" if c.path == "rotation" else "VEC3"),
        "interpolation": c.interpolation,
    }


def _light(x: Light) -> dict[str, Any]:
    out: dict[str, Any] = {
        "name": x.name,
        "type": x.kind,
        "color": list(x.color),
        "intensity": x.intensity,
    }
    if math.isfinite(x.range):
        out["range"] = x.range
    if x.kind == "spot":
        out["spot"] = {"innerConeAngle": x.inner_cone, "outerConeAngle": x.outer_cone}
    return out
