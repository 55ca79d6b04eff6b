"""What rides along in views of its own: the USD stage that a scene came from, its sky's picture."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from typing import Any

from mill_lane.core.formats.blob import Blob
from mill_lane.core.formats.gltf.container import Document
from mill_lane.core.formats.gltf.entries import Builder, Chunk, Json
from mill_lane.core.formats.gltf.keys import SKY, STAGE
from mill_lane.core.formats.gltf.nodes import default_scene
from mill_lane.core.scene.model import Scene, VariantSet
from mill_lane.core.scene.surroundings import Environment, SkyPicture


def keep_stage(
    entry: Json, scene: Scene, before: Scene, builder: Builder, pictures: Mapping[str, int]
) -> None:
    """Write the stage that a scene came from into its entry, and the files that go with it.

    `pictures` are views of files that are there already, by the path beside the scene.
    """
    kept = _extras(entry)
    if scene.stage is None:
        kept.pop(STAGE, None)
    elif before.stage is not scene.stage or STAGE not in kept:
        stage = scene.stage
        said: Json = {}
        if not scene.stage_root:
            said["bufferView"] = builder.view(Chunk(stage.length, stage.read))
        files = []
        for name, b in scene.stage_files.items():
            view = pictures.get(name)
            if view is None or builder.chunks[view].length != b.length:
                view = builder.view(Chunk(b.length, b.read))
            files.append({"path": name, "bufferView": view})
        kept[STAGE] = said | ({"files": files} if files else {}) | _how(scene)
    _put(entry, kept)


def _how(scene: Scene) -> Json:
    """How a stage was opened, and how else it could be."""
    said = {
        "root": scene.stage_root,
        "variants": [list(x) for x in scene.stage_variants],
        "left_out": list(scene.stage_left_out),
        "sets": [[s.name, list(s.variants), s.drawn] for s in scene.variant_sets],
    }
    return {key: value for key, value in said.items() if value}


def keep_sky(entry: Json, scene: Scene, before: Scene, builder: Builder) -> None:
    """Write the picture of a scene's sky into its entry; one that its stage names, only once."""
    kept, picture = _extras(entry), _picture(scene)
    if picture is None:
        kept.pop(SKY, None)
    elif _picture(before) is not picture or SKY not in kept:
        own = {k: getattr(picture, k) for k in ("name", "width", "height", "file")}
        kept[SKY] = own | {"axes": list(picture.axes), "tint": list(picture.tint)}
        if picture.file not in scene.stage_files:
            chunk = Chunk(picture.file_bytes, picture.read)
            kept[SKY]["bufferView"] = builder.view(chunk)
    _put(entry, kept)


def stage_in(document: Document) -> dict[str, Any]:
    """The USD stage that the scene came from, the files that go along with it, and how it was
    opened, as fields of a scene.
    """
    said = _extras(default_scene(document.json)).get(STAGE)
    if not isinstance(said, dict):
        return {"stage": None, "stage_files": {}}
    files = {str(f["path"]): document.view(f["bufferView"]) for f in said.get("files", [])}
    root = str(said.get("root", ""))
    stage = files[root] if root else document.view(said["bufferView"])
    sets = [(str(n), tuple(map(str, names)), str(d)) for n, names, d in said.get("sets", [])]
    return {
        "stage": stage,
        "stage_files": files,
        "stage_root": root,
        "stage_variants": tuple((str(a), str(b)) for a, b in said.get("variants", [])),
        "stage_left_out": tuple(map(str, said.get("left_out", []))),
        "variant_sets": tuple(VariantSet(*one) for one in sets),
    }


def sky_in(
    document: Document, environment: Environment | None, files: Mapping[str, Blob]
) -> Environment | None:
    """What lights a scene from all round, with the picture that is kept of it."""
    said = _extras(default_scene(document.json)).get(SKY)
    if not isinstance(said, dict):
        return environment
    file = str(said.get("file", ""))
    data = document.view(said["bufferView"]) if "bufferView" in said else files[file]
    width, height = int(said["width"]), int(said["height"])
    axes, tint = [float(x) for x in said["axes"]], [float(x) for x in said["tint"]]
    if width < 1 or height < 1 or len(axes) != 9 or len(tint) != 3:
        raise ValueError(f"a sky of {width} x {height} pixels")
    picture = SkyPicture(
        str(said["name"]),
        width,
        height,
        data.length,
        data.read,
        tuple(axes),
        (tint[0], tint[1], tint[2]),
        file,
    )
    return replace(environment or Environment(), picture=picture)


def _picture(scene: Scene) -> SkyPicture | None:
    return scene.environment.picture if scene.environment is not None else None


def _extras(entry: Json) -> Json:
    found = entry.get("extras")
    return found if isinstance(found, dict) else {}


def _put(entry: Json, kept: Json) -> None:
    if kept:
        entry["extras"] = kept
    else:
        entry.pop("extras", None)
