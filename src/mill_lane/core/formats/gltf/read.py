"""From a glTF document to a `Scene`.

What is not understood stays in the document and is listed in the notes.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any, TypeVar
from urllib.parse import unquote

import numpy as np

from mill_lane.core.errors import MillError
from mill_lane.core.formats.blob import Blob
from mill_lane.core.formats.gltf.container import (
    MISSHAPEN,
    Document,
    broken,
    misshapen,
    open_document,
    resolve,
)
from mill_lane.core.formats.gltf.deform import rigged
from mill_lane.core.formats.gltf.entries import LENS, METRES
from mill_lane.core.formats.gltf.extensions import notes_of
from mill_lane.core.formats.gltf.instancing import spread
from mill_lane.core.formats.gltf.keys import FILE, names_in, path_in
from mill_lane.core.formats.gltf.materials import read_material
from mill_lane.core.formats.gltf.meshes import read_meshes
from mill_lane.core.formats.gltf.nodes import animate, default_scene, light_of, nodes_of
from mill_lane.core.formats.gltf.origin import Origin
from mill_lane.core.formats.gltf.taken_along import sky_in, stage_in
from mill_lane.core.formats.sought import sought
from mill_lane.core.formats.textures import image_of, kept_image, missing_image
from mill_lane.core.formats.udim import expanded, set_of
from mill_lane.core.formats.units import CARRIED, UNITS
from mill_lane.core.scene.model import (
    Camera,
    Image,
    Light,
    Material,
    Node,
    Note,
    Scene,
    Texture,
    VariantSet,
)
from mill_lane.core.scene.surroundings import Environment, Medium

Thing = TypeVar("Thing", Material, Texture, Image, Light, Camera)
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
    materials = tuple(read_material(m, i) for i, m in enumerate(root.get("materials", [])))
    images = _images(document, notes)
    textures = _textures(document, images)
    for material in materials:
        for _, use in material.uses():
            document.item("textures", use.texture)
    meshes = read_meshes(document, materials, notes)
    lights = tuple(
        light_of(x)
        for x in root.get("extensions", {}).get("KHR_lights_punctual", {}).get("lights", [])
    )
    nodes, used = nodes_of(document, len(lights))
    nodes = spread(document, animate(document, nodes, notes))
    meshes, end = rigged(document, meshes, nodes, notes)
    kept = stage_in(document)
    notes += _found_otherwise(document)
    cameras = _cameras(root)
    _list_the_rest(root, notes)
    settings = _settings(root, used)
    rate = float(settings.get("frame_rate", 24.0))
    said = settings.get("environment")
    environment = Environment(**_tuples(said)) if said is not None else None
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
        environment=sky_in(document, environment, kept["stage_files"]),
        frame_rate=rate,
        frames=_frames(settings, nodes, rate, end),
        notes=tuple(notes),
        **_with_variants(root, kept),
        **_read_as(settings, nodes),
    )
    apart = expanded(scene)
    # What was cut at the borders of tiles is written as it is, not over what was read.
    scene = replace(scene, origin=Origin(document, scene)) if apart is scene else apart
    if not scene.instances:
        raise MillError(
            f"{document.name} has no mesh in its scene.",
            "Check that the objects are visible and included in the export.",
            "Nothing was imported.",
        )
    return scene


def _source(document: Document, entry: dict[str, Any], images: Sequence[Image], number: int) -> int:
    """Which image a texture shows: the one that can be decoded, of the kinds that it comes in."""
    listed = [entry.get("source"), *(x.get("source") for x in entry.get("extensions", {}).values())]
    found = [x for x in listed if x is not None]
    if not found:
        raise broken(document.name, f"texture {number} names no picture")
    for x in found:
        document.item("images", x)
    return int(next((x for x in found if not images[x].missing), found[0]))


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


def _with_variants(root: dict[str, Any], kept: dict[str, Any]) -> dict[str, Any]:
    """The stage that is kept with its variants; those of the file where there is none."""
    names = names_in(root)
    if not names or kept.get("variant_sets"):
        return kept
    return kept | {"variant_sets": (VariantSet("", tuple(names), ""),)}


def _read_as(settings: dict[str, Any], nodes: list[Node]) -> dict[str, Any]:
    """What the file says of unit and axis, and how it is read.

    By its standard a glTF file is in metres with Y up, but for one that was made of a file that
    says neither.
    """
    declared, read_as = settings.get("declared"), settings.get("read_as")
    if read_as is not None:
        unit, up = str(read_as[0]), str(read_as[1])
        if unit not in UNITS or up not in ("y", "z"):
            raise ValueError(f"a scene read as {unit} with {up} up")
        read_as = (unit, up)
    if declared is not None:
        declared = (float(declared[0]), "z" if declared[1] == "z" else "y")
        if not 0 < declared[0] < np.inf:
            raise ValueError(f"a unit of {declared[0]} m")
    elif read_as is None and not any(n.name == CARRIED and n.parent < 0 for n in nodes):
        declared = METRES
    return {"declared": declared, "read_as": read_as}


def _frames(
    settings: dict[str, Any], nodes: list[Node], rate: float, end: float
) -> tuple[int, int]:
    if "frames" in settings:
        first, last = (int(x) for x in settings["frames"])
        return first, max(first, last)
    end = max([end, *(float(c.times[-1]) for n in nodes for c in n.channels)])
    return 1, 1 + round(end * rate)


def _images(document: Document, notes: list[Note]) -> tuple[Image, ...]:
    out = []
    for i, entry in enumerate(document.json.get("images", [])):
        name = str(entry.get("name") or entry.get("uri", "")[:80].split(",")[0] or f"image {i}")
        extras = entry.get("extras")
        if isinstance(extras, dict) and extras.get("mill_lane_missing"):
            lost = missing_image(str(extras["mill_lane_missing"]), notes)
            out.append(replace(lost, path=path_in(entry)))
            continue
        tiles = _tiles(document, entry)
        if tiles is not None:
            out.append(tiles)
            continue
        try:
            blob = document.view(entry["bufferView"]) if "bufferView" in entry else None
            if blob is None:
                blob = resolve(entry["uri"], document.name, document.folder)
        except FileNotFoundError:
            # By the file that was looked for, which tells more than a name like image_0.
            out.append(missing_image(Path(unquote(str(entry["uri"]))).name, notes))
            continue
        kept = kept_image(blob, name)
        if kept is not None and kept.mime == "image/ktx2":
            text = (
                f"“{name}” is KTX2 of a kind that is not read (no Basis): it is drawn grey. "
                "Export with PNG or JPEG textures to see it."
            )
            notes.append(Note("texture_unread", "lost", text))
        made = kept or image_of(blob, name)
        file = path_in(entry, FILE) or file_of(entry)
        out.append(replace(made, path=path_in(entry), file=file))
    return tuple(out)


def file_of(entry: dict[str, Any]) -> str:
    """The file beside the document that an image names; empty for one within it."""
    uri = "" if "bufferView" in entry else str(entry.get("uri", ""))
    return "" if uri.startswith("data:") else unquote(uri)


def _found_otherwise(document: Document) -> list[Note]:
    """What is told of files that lie elsewhere than the document says."""
    if document.folder is None:
        return []
    entries = [*document.json.get("buffers", []), *document.json.get("images", [])]
    names = dict.fromkeys(filter(None, map(file_of, entries)))
    return [note for n in names for note in sought(document.folder, n).told(n)]


def _tiles(document: Document, entry: dict[str, Any]) -> Image | None:
    """The first tile of a set with all others in hand; None for any other picture."""
    uri = "" if "bufferView" in entry else str(entry.get("uri", ""))
    if document.folder is None or not uri or uri.startswith("data:"):
        return None
    path = sought(document.folder, unquote(uri)).path
    return set_of(path, lambda file: image_of(Blob.file(file), file.name))


def _textures(document: Document, images: Sequence[Image]) -> tuple[Texture, ...]:
    out = []
    for i, entry in enumerate(document.json.get("textures", [])):
        source = _source(document, entry, images, i)
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


def _cameras(root: dict[str, Any]) -> tuple[Camera, ...]:
    out = []
    for i, entry in enumerate(root.get("cameras", [])):
        name = str(entry.get("name") or f"camera {i}")
        if entry["type"] == "perspective":
            p = entry["perspective"]
            yfov = float(p["yfov"])
            if not 0 < yfov < np.pi:
                raise ValueError(f"yfov of {yfov}")
            aspect = float(p["aspectRatio"]) if "aspectRatio" in p else None
            out.append(Camera(name, yfov, aspect, **_lens(entry)))
        else:
            flat = entry["orthographic"]
            across, up = float(flat["xmag"]), float(flat["ymag"])
            if not (across and up and np.isfinite([across, up]).all()):
                raise ValueError(f"an orthographic camera of {across} x {up}")
            out.append(Camera(name, 0.0, abs(across / up), half_height=abs(up), **_lens(entry)))
    return tuple(out)


def _lens(entry: dict[str, Any]) -> dict[str, Any]:
    extras = entry.get("extras")
    said = extras.get(LENS) if isinstance(extras, dict) else None
    if not isinstance(said, dict):
        return {}
    found = {key: said.get(key) for key in ("f_stop", "focus_distance")}
    return {k: float(v) for k, v in found.items() if isinstance(v, (int, float)) and 0 <= v < 1e9}


def _list_the_rest(root: dict[str, Any], notes: list[Note]) -> None:
    notes += notes_of(root)
    if len(root.get("scenes", [])) > 1:
        notes.append(
            Note(
                "other_scenes",
                "look",
                f"The file has {len(root['scenes'])} scenes; the default one is used.",
            )
        )
