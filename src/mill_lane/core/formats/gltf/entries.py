"""The glTF JSON of things of a scene, and the bytes that go with it."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import asdict, dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.formats.gltf.tangents import tangents
from mill_lane.core.scene.model import Camera, Channel, Light, Node, Part, Scene

ARRAY, INDICES = 34962, 34963  # targets of buffer views
FLOAT, SHORT, INT = 5126, 5123, 5125
WRAPS = {"repeat": 10497, "mirror": 33648, "clamp": 33071}
LENS = "mill_lane_lens"
METRES = (1.0, "y")  # what glTF says of every file
FAR = 1e6  # metres: how far an orthographic camera sees
Json = dict[str, Any]


@dataclass(frozen=True)
class Chunk:
    """Bytes of the binary part, made when they are written."""

    length: int
    make: Callable[[], bytes | NDArray[Any]]


class Builder:
    """Adds buffer views and accessors to the lists of a document.

    Parameters
    ----------
    views, accessors : list
        The lists; new entries are put at their ends.
    chunks : dict
        The bytes of each view, by its number.
    """

    def __init__(self, views: list[Json], accessors: list[Json], chunks: dict[int, Chunk]) -> None:
        self.views, self.accessors, self.chunks = views, accessors, chunks

    def view(self, chunk: Chunk, target: int = 0) -> int:
        """Add a view; returns its number."""
        self.views.append({"target": target} if target else {})
        self.chunks[len(self.views) - 1] = chunk
        return len(self.views) - 1

    def accessor(self, view: int, kind: str, component: int, count: int, **more: Any) -> int:
        """Add an accessor to a view; returns its number."""
        head = {"bufferView": view, "componentType": component, "count": count, "type": kind}
        self.accessors.append(head | more)
        return len(self.accessors) - 1

    def floats(self, values: NDArray[Any], kind: str, **more: Any) -> int:
        """Add the values of an array, (N, width) as float32; returns the accessor's number."""
        data = np.ascontiguousarray(values, "<f4")
        view = self.view(Chunk(data.nbytes, lambda: data))
        return self.accessor(view, kind, FLOAT, len(data), **more)

    def zeros(self, kind: str, count: int) -> int:
        """Add an accessor of zeros, which takes no bytes (section 3.6.2.3)."""
        self.accessors.append({"componentType": FLOAT, "count": count, "type": kind})
        return len(self.accessors) - 1


def transform_of(n: Node) -> Json:
    """Where a node stands: its matrix, or what of its parts is not as usual."""
    if n.matrix is not None:
        return {"matrix": n.matrix.T.reshape(-1).tolist()}
    usual = {"translation": (0, 0, 0), "rotation": (0, 0, 0, 1), "scale": (1, 1, 1)}
    return {
        name: [float(x) for x in getattr(n, name)]
        for name, rest in usual.items()
        if tuple(getattr(n, name)) != rest
    }


def geometry_of(b: Builder, p: Part, with_tangents: bool) -> Json:
    """The attributes and indices of a part."""
    n, t = p.vertices, p.triangles
    wide = n > 65535

    def indices() -> NDArray[Any]:
        return p.load().triangles.astype("<u4" if wide else "<u2")

    positions = b.view(Chunk(12 * n, lambda: p.load().positions), ARRAY)
    bounds = {"min": list(p.bounds_min), "max": list(p.bounds_max)}
    normals = b.view(Chunk(12 * n, lambda: p.load().normals), ARRAY)
    attributes = {
        "POSITION": b.accessor(positions, "VEC3", FLOAT, n, **bounds),
        "NORMAL": b.accessor(normals, "VEC3", FLOAT, n),
    }
    if p.has_uvs:
        attributes["TEXCOORD_0"] = b.accessor(
            b.view(Chunk(8 * n, lambda: _there(p.load().uvs)), ARRAY), "VEC2", FLOAT, n
        )
    if p.has_second_uvs:
        attributes["TEXCOORD_1"] = b.accessor(
            b.view(Chunk(8 * n, lambda: _there(p.load().second_uvs)), ARRAY), "VEC2", FLOAT, n
        )
    if p.has_colors:
        attributes["COLOR_0"] = b.accessor(
            b.view(Chunk(16 * n, lambda: _there(p.load().colors)), ARRAY), "VEC4", FLOAT, n
        )
    if with_tangents:
        view = b.view(Chunk(16 * n, lambda: tangents(p.load())), ARRAY)
        attributes["TANGENT"] = b.accessor(view, "VEC4", FLOAT, n)
    view = b.view(Chunk((12 if wide else 6) * t, indices), INDICES)
    corners = b.accessor(view, "SCALAR", INT if wide else SHORT, 3 * t)
    return {"attributes": attributes, "indices": corners}


def _there(values: NDArray[Any] | None) -> NDArray[Any]:
    assert values is not None, "a part has not what it says"
    return values


def sampler_of(b: Builder, c: Channel) -> Json:
    """The keys of a channel."""
    first, last = float(np.float32(c.times[0])), float(np.float32(c.times[-1]))
    return {
        "input": b.floats(c.times[:, None], "SCALAR", min=[first], max=[last]),
        "output": b.floats(c.values, "VEC4" if c.path == "rotation" else "VEC3"),
        "interpolation": c.interpolation,
    }


def light_of(x: Light) -> Json:
    """A light of KHR_lights_punctual."""
    out: Json = {
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


def camera_of(c: Camera) -> Json:
    """A camera, perspective or orthographic."""
    if c.half_height is not None:
        across = c.half_height * (c.aspect or 16 / 9)
        flat = {"xmag": across, "ymag": c.half_height, "znear": 0.0, "zfar": FAR}
        return {"name": c.name, "type": "orthographic", "orthographic": flat} | _lens(c)
    perspective = {"yfov": c.yfov, "znear": 0.01, "aspectRatio": c.aspect or 16 / 9}
    return {"name": c.name, "type": "perspective", "perspective": perspective} | _lens(c)


def _lens(c: Camera) -> Json:
    """What the file says of the lens, for which glTF has no word."""
    if not (c.f_stop or c.focus_distance):
        return {}
    return {"extras": {LENS: {"f_stop": c.f_stop, "focus_distance": c.focus_distance}}}


def settings_of(scene: Scene) -> Json:
    """What glTF has no word for and is kept in the scene's extras: frames, fog, environment.

    A picture has no place in JSON: that of a sky stands in a view of its own (`keys.SKY`).
    """
    out: Json = {"frame_rate": scene.frame_rate, "frames": list(scene.frames)}
    if scene.declared is not None and (scene.declared != METRES or scene.read_as is not None):
        out["declared"] = list(scene.declared)
    if scene.read_as is not None:
        out["read_as"] = list(scene.read_as)
    if scene.media:
        out["media"] = [asdict(m) for m in scene.media]
    if scene.environment is not None:
        values = asdict(replace(scene.environment, picture=None, pixels=None))
        out["environment"] = {k: v for k, v in values.items() if k not in ("picture", "pixels")}
    return out
