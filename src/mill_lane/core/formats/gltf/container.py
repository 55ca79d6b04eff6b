"""From a file to a document: the JSON and where its bytes lie (glTF 2.0, section 4)."""

from __future__ import annotations

import base64
import binascii
import json
import struct
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any
from urllib.parse import unquote

from mill_lane.core.errors import MillError
from mill_lane.core.formats.blob import Blob
from mill_lane.core.formats.gltf import meshopt
from mill_lane.core.formats.gltf.extensions import refuse_required
from mill_lane.core.formats.gltf.sanity import fault
from mill_lane.core.formats.sought import sought

JSON_LIMIT = 512 * 1024 * 1024
MOST_UNPACKED = 4096  # times what a compressed view takes
KEPT_UNPACKED = 256 * 10**6  # bytes of decompressed views


@dataclass(frozen=True, eq=False)
class Document:
    """The parsed JSON, its buffers, and the folder that URIs are resolved in (None for a GLB)."""

    json: dict[str, Any]
    buffers: tuple[Blob, ...]
    folder: Path | None
    name: str
    unpacked: dict[int, Blob] = field(default_factory=dict, repr=False)  # views once decompressed

    def view(self, index: int) -> Blob:
        """The bytes of a bufferView."""
        v = self.item("bufferViews", index)
        packed = v.get("extensions", {})
        said = next((packed[name] for name in meshopt.NAMES if name in packed), None)
        if said is not None:
            return self._unpacked(index, said)
        return self.buffer(v.get("buffer")).slice(int(v.get("byteOffset", 0)), int(v["byteLength"]))

    def _unpacked(self, index: int, said: dict[str, Any]) -> Blob:
        """A compressed view; the last few are kept."""
        if index not in self.unpacked:
            source = self.buffer(said.get("buffer"))
            data = source.slice(int(said.get("byteOffset", 0)), int(said["byteLength"])).read()
            count, stride = int(said["count"]), int(said["byteStride"])
            if not 0 <= count * stride <= MOST_UNPACKED * max(len(data), 1024):
                raise broken(self.name, f"view {index} says it unpacks to {count * stride:,} bytes")
            mode, how = str(said["mode"]), str(said.get("filter", "NONE"))
            out = meshopt.decoded(bytes(data), count, stride, mode, how)
            while sum(b.length for b in self.unpacked.values()) > KEPT_UNPACKED:
                self.unpacked.pop(next(iter(self.unpacked)))
            self.unpacked[index] = Blob.of(out)
        return self.unpacked[index]

    def buffer(self, index: Any) -> Blob:
        """The bytes of a buffer; MillError where there is none of that number."""
        if not isinstance(index, int) or not 0 <= index < len(self.buffers):
            raise broken(
                self.name, f"it names buffer {index}, of which there are {len(self.buffers)}"
            )
        return self.buffers[index]

    def item(self, kind: str, index: Any) -> dict[str, Any]:
        """One object of a top-level array, checked."""
        things = self.json.get(kind, [])
        if not isinstance(index, int) or isinstance(index, bool) or not 0 <= index < len(things):
            raise broken(
                self.name,
                f"it names number {index} of its {kind}, of which there are {len(things)}",
            )
        return things[index]


# What Python raises where a part of a document is something else than the format asks.
MISSHAPEN = (
    KeyError,
    TypeError,
    ValueError,
    IndexError,
    AttributeError,
    OverflowError,
    RecursionError,
    ArithmeticError,
    struct.error,
)


def misshapen(name: str, error: Exception) -> MillError:
    """The error for a document of another shape than the format asks."""
    why = f"{type(error).__name__}: {error}"[:300]
    return broken(name, f"a part of its JSON is not as the format asks ({why})")


def broken(name: str, why: str) -> MillError:
    """The error for a file that is damaged, with what is wrong."""
    return MillError(
        f"{name} is damaged or not glTF 2.0: {why}.",
        "Export the scene again as GLB (glTF binary) and open that.",
        "Nothing was imported.",
    )


def open_document(path: Path) -> Document:
    """Open a .glb, or a .gltf with its files beside it, told apart by their first bytes.

    Raises MillError when it is none of these, cut short, or names files outside its folder.
    """
    try:
        size = path.stat().st_size
        with path.open("rb") as f:
            start = f.read(20)
    except OSError as e:
        raise MillError(
            f"{path.name} cannot be read: {e.strerror}.", "Check the path and try again."
        ) from e
    if size == 0:
        raise MillError(
            f"{path.name} is empty (0 bytes).", "Export the scene again.", "Nothing was imported."
        )
    if start[:4] == b"glTF":
        return _open_glb(path, size, start)
    if start.lstrip()[:1] == b"{" or start[:4] == b"\xef\xbb\xbf{":
        if size > JSON_LIMIT:
            raise broken(path.name, "its JSON is over 512 MB")
        return _from_json(_parse(path.name, path.read_bytes()), path.name, path.parent, None)
    raise MillError(
        f"{path.name} is not a glTF scene: it starts with neither a GLB header nor JSON.",
        "Export the scene as GLB (glTF binary), or as glTF with its files in one ZIP.",
        "Nothing was imported.",
    )


def _open_glb(path: Path, size: int, start: bytes) -> Document:
    if len(start) < 20:
        raise broken(path.name, "it ends within its header")
    _, version, total, json_length, kind = struct.unpack("<4sIIII", start)
    if version != 2:
        raise broken(path.name, f"it says glTF version {version}")
    if total > size:
        raise MillError(
            f"{path.name} is cut short: it should have {total:,} bytes and has {size:,}.",
            "Copy or export it again.",
            "Nothing was imported.",
        )
    if kind != 0x4E4F534A or json_length > min(JSON_LIMIT, total - 20):
        raise broken(path.name, "its first part is not JSON of a possible length")
    text = Blob(path, 20, json_length).read()
    binary: Blob | None = None
    at = 20 + json_length
    if at + 8 <= total:
        length, kind = struct.unpack("<II", Blob(path, at, 8).read())
        if kind == 0x004E4942:
            if at + 8 + length > total:
                raise broken(path.name, "its binary part is longer than the file")
            binary = Blob(path, at + 8, length)
    return _from_json(_parse(path.name, text), path.name, None, binary)


def _parse(name: str, text: bytes) -> dict[str, Any]:
    try:
        document = json.loads(bytes(text).decode("utf-8-sig"), parse_constant=_no_number)
    except (ValueError, RecursionError) as e:  # also for a number of thousands of digits
        raise broken(name, f"its JSON cannot be read ({e})"[:300]) from e
    if not isinstance(document, dict) or not isinstance(document.get("asset"), dict):
        raise broken(name, "its JSON has no “asset”")
    if not str(document["asset"].get("version", "")).startswith("2."):
        raise broken(name, f"it says glTF version {document['asset'].get('version')}")
    refuse_required(name, document)
    wrong = fault(document)
    if wrong:
        raise broken(name, wrong)
    return document


def _no_number(text: str) -> float:
    raise ValueError(f"{text} is no number in JSON")


def _from_json(
    document: dict[str, Any], name: str, folder: Path | None, binary: Blob | None
) -> Document:
    try:
        return Document(document, tuple(_buffers(document, name, folder, binary)), folder, name)
    except MISSHAPEN as e:
        raise misshapen(name, e) from e
    except FileNotFoundError as e:
        raise MillError(
            f"{name} needs the file “{e}”, which is not there.",
            "Put it beside the scene, or pack the whole folder into one ZIP.",
            "Nothing was imported.",
        ) from e
    except (KeyError, TypeError, ValueError, AttributeError, OverflowError) as e:
        raise broken(name, f"its list of buffers is not as the format asks ({e})") from e


def _buffers(
    document: dict[str, Any], name: str, folder: Path | None, binary: Blob | None
) -> list[Blob]:
    buffers = []
    for i, b in enumerate(document.get("buffers", [])):
        uri = b.get("uri") if isinstance(b, dict) else None
        if uri is None:
            if binary is not None and i == 0:
                blob = binary
            elif _is_fallback(b):
                # What would stand here if nobody read the compressed form.
                buffers.append(Blob.of(b""))
                continue
            else:
                raise broken(name, f"buffer {i} has no data")
        else:
            blob = resolve(uri, name, folder)
        if blob.length < int(b["byteLength"]):
            raise MillError(
                f"{name}: buffer {i} should have {b['byteLength']:,} bytes and has "
                f"{blob.length:,}.",
                "The file is cut short: export or copy it again.",
                "Nothing was imported.",
            )
        buffers.append(blob)
    return buffers


def _is_fallback(buffer: dict[str, Any]) -> bool:
    extensions = buffer.get("extensions", {})
    return any(extensions.get(name, {}).get("fallback") for name in meshopt.NAMES)


def resolve(uri: str, name: str, folder: Path | None) -> Blob:
    """The bytes that a URI names: a data URI, or a file inside the folder.

    Raises MillError for other schemes, for paths that leave the folder, and FileNotFoundError for a
    missing file.
    """
    if uri.startswith("data:"):
        head, _, body = uri.partition(",")
        if not head.endswith(";base64"):
            raise broken(name, "it has a data URI that is not base64")
        try:
            return Blob.of(base64.b64decode(body, validate=True))
        except binascii.Error as e:
            raise broken(name, "it has a damaged data URI") from e
    if folder is None:
        raise MillError(
            f"{name} names the file “{uri}”, but a GLB on its own has no files beside it.",
            "Pack the GLB and its files into one ZIP, or export with everything inside.",
            "Nothing was imported.",
        )
    path = sought(folder, unquote(uri)).path
    if not path.is_file():
        raise FileNotFoundError(uri)
    return Blob.file(path)
