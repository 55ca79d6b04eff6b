"""The images of a document."""

from __future__ import annotations

from mill_lane.core.formats.gltf.container import Document
from mill_lane.core.formats.gltf.entries import Builder, Chunk, Json
from mill_lane.core.formats.textures import grey_png
from mill_lane.core.scene.model import Image


def picture_of(
    b: Builder, entry: Json, image: Image, was: Image | None, document: Document | None
) -> None:
    """Write an image over its entry: a picture that was not touched keeps its bytes and its view.

    Parameters
    ----------
    b : Builder
    entry : dict
        Changed in place.
    image, was : Image
        As it is, and as it was read (None for a new one).
    document : Document or None
        Where the entry comes from.

    Notes
    -----
    A GLB stands alone, so that pictures in files beside it are taken into it.
    """
    if was is None or was.name != image.name:
        entry["name"] = image.name
    if image.missing and not image.file_bytes:
        extras = entry.get("extras")
        kept = extras if isinstance(extras, dict) else {}
        entry["extras"] = kept | {"mill_lane_missing": image.name}
        grey = grey_png()
        _put(b, entry, Chunk(len(grey), lambda: grey), "image/png")
        return
    if was is not None and was.missing:
        entry.get("extras", {}).pop("mill_lane_missing", None)
    untouched = was is not None and image.read == was.read and "bufferView" in entry
    if untouched and document is not None:
        view = document.view(entry["bufferView"])
        # What is turned into another kind while it is read is written as it is read.
        if view.length == image.file_bytes:
            entry["mimeType"] = image.mime
            return
    _put(b, entry, Chunk(image.file_bytes, image.read), image.mime)


def _put(b: Builder, entry: Json, chunk: Chunk, mime: str) -> None:
    entry.pop("uri", None)
    entry["bufferView"], entry["mimeType"] = b.view(chunk), mime
