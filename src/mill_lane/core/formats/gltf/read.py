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
from mill_lane.core.formats.gltf.container import (
    MISSHAPEN,
    Document,
    misshapen,
    open_document,
    resolve,
)
from mill_lane.core.formats.gltf.geometry import read_part
from mill_lane.core.formats.gltf.materials import UNDERSTOOD as MATERIAL_EXTENSIONS
from mill_lane.core.formats.gltf.materials import read_material
from mill_lane.core.formats.gltf.nodes import animate, default_scene, light_of, nodes_of
from mill_lane.core.formats.gltf.origin import Origin
from mill_lane.core.formats.textures import image_of, missing_image
from mill_lane.core.scene.model import (
    Camera,
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
# Vertices and triangles that meshes may come to: so many whatever the file, and for its size.
FREE_VERTICES, BYTES_A_VERTEX, MOST_USES = 20_000_000, 12, 8
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
    except MISSHAPEN as e:
        raise misshapen(document.name, e) from e


def _read(document: Document) -> Scene:
    root = document.json
    notes: list[Note] = []
    missing = [x for x in root.get("extensionsRequired", []) if x not in UNDERSTOOD]
    if missing:
        raise MillError(
            f"{document.name} cannot be drawn without {', '.join(map(str, missing))}, which Mill "
            "Lane does not read.",
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
        light_of(x)
        for x in root.get("extensions", {}).get("KHR_lights_punctual", {}).get("lights", [])
    )
    nodes, used = nodes_of(document, len(lights))
    nodes = animate(document, nodes, notes)
    cameras = _cameras(root, notes)
    _list_the_rest(root, notes)
    settings = _settings(root, used)
    rate = float(settings.get("frame_rate", 24.0))
    scene = Scene(
        name=str(default_scene(root).get("name") or Path(document.name).stem),
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


def _settings(root: dict[str, Any], used: set[int]) -> dict[str, Any]:
    """What Mill Lane itself keeps in the file and glTF has no word for: frames, fog,
    environment.
    """
    extras = default_scene(root).get("extras")
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
                f"Texture {i} of {document.name} has its picture only as {kinds}, which Mill Lane "
                "does not read.",
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
    # Meshes may use the same numbers so often that reading them takes far longer than the file's
    # size tells.
    size = sum(b.length for b in document.buffers)
    total, most = 0, FREE_VERTICES + size // BYTES_A_VERTEX * MOST_USES
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
            total += parts[-1].vertices + parts[-1].triangles
            if total > most:
                raise _over_and_over(document, most)
        name = str(entry.get("name") or f"mesh {i}")
        out.append(Mesh(name, tuple(parts), _subdivision(entry), source=i))
    notes += [
        Note(code, "kept", f"{n} mesh part{'s' * (n > 1)}: {IGNORED[code]}.")
        for code, n in ignored.items()
    ]
    return tuple(out)


def _over_and_over(document: Document, most: int) -> MillError:
    return MillError(
        f"{document.name} uses its vertices over and over: a file of its size is read up to "
        f"{most:,} vertices and triangles.",
        "Export it so that each mesh has its own vertices.",
        "Nothing was imported.",
    )


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
