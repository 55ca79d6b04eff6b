"""From a glTF document to a `Scene`.

What is not understood stays in the document and is listed in the notes.
"""

from __future__ import annotations

from collections import Counter
from dataclasses import replace
from pathlib import Path
from typing import Any, TypeVar

import numpy as np

from mill_lane.core.errors import MillError
from mill_lane.core.formats.gltf.accessors import read_accessor, read_floats
from mill_lane.core.formats.gltf.container import (
    Document,
    broken,
    open_document,
    resolve,
)
from mill_lane.core.formats.gltf.geometry import read_part
from mill_lane.core.formats.gltf.materials import UNDERSTOOD as MATERIAL_EXTENSIONS
from mill_lane.core.formats.gltf.materials import read_material
from mill_lane.core.formats.gltf.origin import Origin
from mill_lane.core.formats.textures import image_of, missing_image
from mill_lane.core.scene.model import (
    Camera,
    Channel,
    Environment,
    Image,
    Light,
    Material,
    Medium,
    Mesh,
    Node,
    Note,
    Scene,
    Texture,
)

Thing = TypeVar("Thing", Material, Texture, Image, Light, Camera)
UNDERSTOOD = MATERIAL_EXTENSIONS | {
    "KHR_lights_punctual",
    "KHR_texture_transform",
    "KHR_mesh_quantization",
}
# What of a mesh is not drawn: by the code of the note.
IGNORED = {
    "points_or_lines": "points or lines are not drawn",
    "no_positions": "no positions: nothing to draw",
    "morphs_at_rest": "morph targets are kept, and drawn in their rest shape",
    "vertex_colours": "vertex colours are kept, not drawn",
    "second_uv_set": "a second UV set is kept; textures are drawn with the first",
}
WRAPS: dict[int, Any] = {10497: "repeat", 33648: "mirror", 33071: "clamp"}


def read_scene(path: Path) -> Scene:
    """Open a GLB, glTF or ZIP file and list what is in it; vertices and pixels are not read yet.

    Raises MillError when the file cannot be used.
    """
    return scene_from(open_document(path))


def scene_from(document: Document) -> Scene:
    """The scene of an opened document.

    Raises MillError when the document breaks the specification's rules.
    """
    try:
        return _read(document)
    except MillError:
        raise
    except (
        KeyError,
        TypeError,
        ValueError,
        IndexError,
        AttributeError,
        OverflowError,
        RecursionError,
    ) as e:
        raise broken(
            document.name, f"a part of its JSON is not as the format asks ({type(e).__name__}: {e})"
        ) from e


def _read(document: Document) -> Scene:
    root = document.json
    notes: list[Note] = []
    missing = [x for x in root.get("extensionsRequired", []) if x not in UNDERSTOOD]
    if missing:
        raise MillError(
            f"{document.name} cannot be drawn without {', '.join(map(str, missing))}, which Mill Lane does not read.",
            "Export it again without compression or that extension.",
            "Nothing was imported.",
        )
    materials = tuple(read_material(m, i) for i, m in enumerate(root.get("materials", [])))
    images = _images(document, notes)
    textures = _textures(document, len(images), notes)
    for material in materials:
        for _, use in material.uses():
            document.item("textures", use.texture)
    meshes = _meshes(document, len(materials), notes)
    lights = tuple(
        _light(x)
        for x in root.get("extensions", {}).get("KHR_lights_punctual", {}).get("lights", [])
    )
    nodes, used = _nodes(document, len(lights))
    nodes = _animate(document, nodes, notes)
    cameras = _cameras(root, notes)
    _list_the_rest(root, notes)
    settings = _settings(root, used)
    rate = float(settings.get("frame_rate", 24.0))
    scene = Scene(
        name=str(_default_scene(root).get("name") or Path(document.name).stem),
        nodes=tuple(nodes),
        meshes=meshes,
        materials=_numbered(materials),
        textures=_numbered(textures),
        images=_numbered(images),
        lights=_numbered(lights),
        cameras=_numbered(cameras),
        media=tuple(Medium(**_tuples(m)) for m in settings.get("media", [])),
        environment=Environment(**_tuples(settings["environment"]))
        if "environment" in settings
        else None,
        frame_rate=rate,
        frames=_frames(settings, nodes, rate),
        notes=tuple(notes),
    )
    scene = replace(scene, origin=Origin(document, scene))
    if not scene.instances:
        raise MillError(
            f"{document.name} has no mesh in its scene.",
            "Check that the objects are visible and included in the export.",
            "Nothing was imported.",
        )
    return scene


def _numbered(things: tuple[Thing, ...]) -> tuple[Thing, ...]:
    """The same, each knowing its number in the file."""
    return tuple(replace(x, source=i) for i, x in enumerate(things))


def _tuples(values: dict[str, Any]) -> dict[str, Any]:
    return {k: tuple(v) if isinstance(v, list) else v for k, v in values.items()}


def _default_scene(root: dict[str, Any]) -> dict[str, Any]:
    scenes = root.get("scenes", [])
    return (
        scenes[int(root.get("scene", 0))]
        if scenes
        else {"nodes": list(range(len(root.get("nodes", []))))}
    )


def _settings(root: dict[str, Any], used: set[int]) -> dict[str, Any]:
    """What Mill Lane itself keeps in the file and glTF has no word for: frames, fog, environment."""
    extras = _default_scene(root).get("extras")
    found = extras.get("mill_lane") if isinstance(extras, dict) else None
    return found if isinstance(found, dict) else {}


def _frames(settings: dict[str, Any], nodes: list[Node], rate: float) -> tuple[int, int]:
    if "frames" in settings:
        first, last = (int(x) for x in settings["frames"])
        return first, max(first, last)
    end = max((float(c.times[-1]) for n in nodes for c in n.channels), default=0.0)
    return 1, 1 + round(end * rate)


def _images(document: Document, notes: list[Note]) -> tuple[Image, ...]:
    out = []
    for i, entry in enumerate(document.json.get("images", [])):
        name = str(entry.get("name") or entry.get("uri", "")[:80].split(",")[0] or f"image {i}")
        extras = entry.get("extras")
        if isinstance(extras, dict) and extras.get("mill_lane_missing"):
            out.append(missing_image(str(extras["mill_lane_missing"]), notes))
            continue
        try:
            blob = document.view(entry["bufferView"]) if "bufferView" in entry else None
            if blob is None:
                blob = resolve(entry["uri"], document.name, document.folder)
        except FileNotFoundError:
            out.append(missing_image(name, notes))
            continue
        out.append(image_of(blob, name))
    return tuple(out)


def _textures(document: Document, images: int, notes: list[Note]) -> tuple[Texture, ...]:
    out = []
    for i, entry in enumerate(document.json.get("textures", [])):
        source = entry.get("source")
        if source is None:
            kinds = ", ".join(entry.get("extensions", {})) or "nothing"
            raise MillError(
                f"Texture {i} of {document.name} has its picture only as {kinds}, which Mill Lane does not read.",
                "Export with PNG or JPEG textures.",
                "Nothing was imported.",
            )
        image = document.item("images", source)
        sampler = document.item("samplers", entry["sampler"]) if "sampler" in entry else {}
        name = str(
            entry.get("name")
            or image.get("name")
            or image.get("uri", "")[:80].split(",")[0]
            or f"texture {i}"
        )
        wrap_u, wrap_v = sampler.get("wrapS", 10497), sampler.get("wrapT", 10497)
        out.append(
            Texture(name, int(source), WRAPS.get(wrap_u, "repeat"), WRAPS.get(wrap_v, "repeat"))
        )
    return tuple(out)


def _subdivision(entry: dict[str, Any]) -> tuple[str, int, int] | None:
    """What we wrote of a subdivision surface ourselves; anything else of that name counts for
    nothing.
    """
    extras = entry.get("extras")
    said = extras.get("mill_lane_subdivision") if isinstance(extras, dict) else None
    if not (
        isinstance(said, list)
        and len(said) == 3
        and said[0] in ("catmullClark", "loop", "bilinear")
    ):
        return None
    scheme, corners, triangles = said
    whole = all(isinstance(n, int) and 0 <= n < 2**40 for n in (corners, triangles))
    return (scheme, corners, triangles) if whole else None


def _meshes(document: Document, materials: int, notes: list[Note]) -> tuple[Mesh, ...]:
    out = []
    ignored: Counter[str] = Counter()
    for i, entry in enumerate(document.json.get("meshes", [])):
        parts = []
        for number, p in enumerate(entry["primitives"]):
            mode = p.get("mode", 4)
            if mode in (0, 1, 2, 3):
                ignored["points_or_lines"] += 1
                continue
            if "POSITION" not in p["attributes"]:
                ignored["no_positions"] += 1
                continue
            if p.get("targets"):
                ignored["morphs_at_rest"] += 1
            if "COLOR_0" in p["attributes"]:
                ignored["vertex_colours"] += 1
            if "TEXCOORD_1" in p["attributes"]:
                ignored["second_uv_set"] += 1
            parts.append(read_part(document, p, materials, (i, number)))
        name = str(entry.get("name") or f"mesh {i}")
        out.append(Mesh(name, tuple(parts), _subdivision(entry), source=i))
    notes += [
        Note(code, "kept", f"{n} mesh part{'s' * (n > 1)}: {IGNORED[code]}.")
        for code, n in ignored.items()
    ]
    return tuple(out)


def _light(entry: dict[str, Any]) -> Light:
    kind = entry["type"]
    if kind not in ("point", "spot", "directional"):
        raise ValueError(f"light type {kind}")
    spot = entry.get("spot", {})
    return Light(
        name=str(entry.get("name") or kind),
        kind=kind,
        color=tuple(float(x) for x in entry.get("color", (1, 1, 1))),  # type: ignore[arg-type]
        intensity=float(entry.get("intensity", 1.0)),
        range=float(entry.get("range", float("inf"))),
        inner_cone=float(spot.get("innerConeAngle", 0.0)),
        outer_cone=float(spot.get("outerConeAngle", np.pi / 4)),
    )


def _nodes(document: Document, lights: int) -> tuple[list[Node], set[int]]:
    root = document.json
    entries = root.get("nodes", [])
    parents = [-1] * len(entries)
    for i, entry in enumerate(entries):
        for child in entry.get("children", []):
            document.item("nodes", child)
            if parents[child] >= 0:
                raise broken(document.name, f"node {child} has two parents")
            parents[child] = i
    for i in range(len(entries)):
        seen, j = 0, i
        while j >= 0:
            j, seen = parents[j], seen + 1
            if seen > len(entries):
                raise broken(document.name, f"node {i} is its own ancestor")
    used: set[int] = set()
    stack = list(_default_scene(root).get("nodes", []))
    while stack:
        i = stack.pop()
        document.item("nodes", i)
        if i not in used:
            used.add(i)
            stack += entries[i].get("children", [])
    nodes = []
    for i, entry in enumerate(entries):
        light = entry.get("extensions", {}).get("KHR_lights_punctual", {}).get("light", -1)
        mesh, camera = entry.get("mesh", -1), entry.get("camera", -1)
        if mesh != -1:
            document.item("meshes", mesh)
        if camera != -1:
            document.item("cameras", camera)
        if not -1 <= light < lights:
            raise broken(
                document.name, f"node {i} names light {light}, of which there are {lights}"
            )
        here = i in used  # things outside the default scene are kept in the file and not drawn
        matrix = np.array(entry["matrix"], float).reshape(4, 4).T if "matrix" in entry else None
        node = Node(
            name=str(entry.get("name") or f"node {i}"),
            parent=parents[i],
            translation=_vector(entry.get("translation", (0, 0, 0)), 3),
            rotation=_vector(entry.get("rotation", (0, 0, 0, 1)), 4),
            scale=_vector(entry.get("scale", (1, 1, 1)), 3),
            matrix=matrix,
            mesh=mesh if here else -1,
            light=light if here else -1,
            camera=camera if here else -1,
            source=i,
        )
        if matrix is not None and not np.isfinite(matrix).all():
            raise broken(document.name, f"the matrix of node {i} holds numbers that are not finite")
        nodes.append(node)
    return nodes, used


def _vector(values: Any, n: int) -> Any:
    out = tuple(float(x) for x in values)
    if len(out) != n or not np.isfinite(out).all():
        raise ValueError(f"{values} is not {n} finite numbers")
    return out


def _animate(document: Document, nodes: list[Node], notes: list[Note]) -> list[Node]:
    channels: dict[int, list[Channel]] = {}
    morphs = 0
    for animation in document.json.get("animations", []):
        for c in animation["channels"]:
            target, sampler = c["target"], animation["samplers"][c["sampler"]]
            node = target.get("node")
            if node is None or target["path"] not in ("translation", "rotation", "scale"):
                morphs += 1
                continue
            document.item("nodes", node)
            times = read_accessor(document, sampler["input"])[:, 0].astype(float)
            values = read_floats(
                document, sampler["output"], 4 if target["path"] == "rotation" else 3
            ).astype(float)
            interpolation = sampler.get("interpolation", "LINEAR")
            keys = len(values) // 3 if interpolation == "CUBICSPLINE" else len(values)
            if (
                keys != len(times)
                or not (np.diff(times) > 0).all()
                or not np.isfinite(values).all()
            ):
                raise broken(
                    document.name,
                    f"the animation of node {node} has keys that do not fit its times",
                )
            channels.setdefault(node, []).append(
                Channel(target["path"], interpolation, times, values)
            )
    if morphs:
        notes.append(
            Note(
                "animation_not_played",
                "kept",
                f"{morphs} animation channels of other kinds are kept, not played.",
            )
        )
    return [
        replace(n, channels=tuple(channels[i])) if i in channels else n for i, n in enumerate(nodes)
    ]


def _cameras(root: dict[str, Any], notes: list[Note]) -> tuple[Camera, ...]:
    out = []
    for i, entry in enumerate(root.get("cameras", [])):
        name = str(entry.get("name") or f"camera {i}")
        if entry["type"] == "perspective":
            p = entry["perspective"]
            yfov = float(p["yfov"])
            if not 0 < yfov < np.pi:
                raise ValueError(f"yfov of {yfov}")
            out.append(Camera(name, yfov, float(p["aspectRatio"]) if "aspectRatio" in p else None))
        else:
            notes.append(
                Note(
                    "orthographic_camera",
                    "look",
                    f"Camera “{name}” is orthographic: it is drawn as perspective, 20 degrees.",
                )
            )
            out.append(Camera(name, float(np.radians(20.0))))
    return tuple(out)


def _list_the_rest(root: dict[str, Any], notes: list[Note]) -> None:
    unknown = sorted(set(map(str, root.get("extensionsUsed", []))) - UNDERSTOOD)
    if unknown:
        notes.append(
            Note("extensions_kept", "kept", f"Kept in the file, not drawn: {', '.join(unknown)}.")
        )
    if root.get("skins"):
        notes.append(
            Note(
                "skins_at_rest",
                "kept",
                f"{len(root['skins'])} skins are kept; their meshes are drawn in rest pose.",
            )
        )
    if len(root.get("scenes", [])) > 1:
        notes.append(
            Note(
                "other_scenes",
                "look",
                f"The file has {len(root['scenes'])} scenes; the default one is used.",
            )
        )
