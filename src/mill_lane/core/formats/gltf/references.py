"""What in a glTF document refers to what, by number (glTF 2.0, section 3.3, and its extensions).

The rules for what the specification names are exact.  For extensions that are not known here, the
convention that all published ones follow is taken: a number under the key `bufferView`, `material`,
`nodes` and so on refers to the list of that name, `index` under a key that ends in `Texture` to a
texture, `source` to an image, what stands under `attributes` to accessors.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any

from mill_lane.core.formats.gltf.keys import SKY, STAGE, SUBDIVISION

# The lists of a document whose entries are referred to by number; "lights" is that of
# KHR_lights_punctual.
KINDS = (
    "scenes",
    "nodes",
    "meshes",
    "materials",
    "textures",
    "images",
    "samplers",
    "cameras",
    "skins",
    "animations",
    "accessors",
    "bufferViews",
    "lights",
)
LIGHTS = "KHR_lights_punctual"
POINTER = re.compile(rf"^/(?:extensions/{LIGHTS}/)?(\w+)/(\d+)(.*)$")
DRACO = "KHR_draco_mesh_compression"

ONE = {
    "accessor": "accessors",
    "animation": "animations",
    "bufferView": "bufferViews",
    "camera": "cameras",
    "image": "images",
    "material": "materials",
    "mesh": "meshes",
    "node": "nodes",
    "skin": "skins",
    "skeleton": "nodes",
    "inverseBindMatrices": "accessors",
    "source": "images",
    "texture": "textures",
    "indices": "accessors",
    "input": "accessors",
    "output": "accessors",
    # EXT_structural_metadata
    "values": "bufferViews",
    "arrayOffsets": "bufferViews",
    "stringOffsets": "bufferViews",
}
MANY = {
    "accessors": "accessors",
    "animations": "animations",
    "children": "nodes",
    "images": "images",
    "joints": "nodes",
    "materials": "materials",
    "meshes": "meshes",
    "nodes": "nodes",
    "skins": "skins",
    "textures": "textures",
}
# What means something else, or is no reference, in entries of a kind.
EXCEPT: dict[str, dict[str, str | None]] = {
    "textures": {"sampler": "samplers"},
    "nodes": {"light": "lights"},
}


@dataclass(frozen=True)
class Reference:
    """A number in a document: `holder[key]` counts in the list `kind`."""

    holder: Any
    key: Any
    kind: str

    @property
    def index(self) -> int:
        """The number."""
        return int(self.holder[self.key])


def is_index(value: Any) -> bool:
    """Whether a value can be a number of an entry."""
    return isinstance(value, int) and not isinstance(value, bool) and value >= 0


def references(kind: str, entry: Any) -> Iterator[Reference]:
    """Find the references in an entry of a list, its extensions included, its extras left alone.

    Parameters
    ----------
    kind : str
        The list in which it stands; anything else for what stands nowhere.
    entry : dict

    Yields
    ------
    Reference
    """
    if isinstance(entry, dict):
        yield from _in_object(kind, entry, "")


def _in_object(kind: str, entry: dict[str, Any], under: str) -> Iterator[Reference]:
    for key, value in entry.items():
        if key == "extras":
            # Of extras only what is our own is known: the USD stage that a scene came from, the
            # picture of its sky, the cage of a surface.
            for name in (STAGE, SUBDIVISION, SKY):
                own = value.get(name) if isinstance(value, dict) else None
                if isinstance(own, dict) and is_index(own.get("bufferView")):
                    yield Reference(own, "bufferView", "bufferViews")
                files = own.get("files") if isinstance(own, dict) else None
                for file in files if isinstance(files, list) else ():
                    if isinstance(file, dict) and is_index(file.get("bufferView")):
                        yield Reference(file, "bufferView", "bufferViews")
            continue
        if key == "attributes" and isinstance(value, dict):
            if under != DRACO:  # there they are numbers of the packed stream
                for name, index in value.items():
                    if is_index(index):
                        yield Reference(value, name, "accessors")
        elif key == "targets" and isinstance(value, list):
            for target in value:
                if isinstance(target, dict):
                    for name, index in target.items():
                        if is_index(index):
                            yield Reference(target, name, "accessors")
        elif key == "index" and is_index(value):
            if under.lower().endswith("texture") or "texCoord" in entry:
                yield Reference(entry, key, "textures")
        elif key == "ids" and under == "MSFT_lod" and isinstance(value, list):
            for i in range(len(value)):
                yield Reference(value, i, kind)
        elif key in EXCEPT.get(kind, {}) and is_index(value):
            target_kind = EXCEPT[kind][key]
            if target_kind is not None:
                yield Reference(entry, key, target_kind)
        elif key in ONE and is_index(value):
            yield Reference(entry, key, ONE[key])
        elif key in MANY and isinstance(value, list) and value and all(map(is_index, value)):
            for i in range(len(value)):
                yield Reference(value, i, MANY[key])
        elif isinstance(value, dict):
            yield from _in_object(kind, value, key)
        elif isinstance(value, list):
            for part in value:
                if isinstance(part, dict):
                    yield from _in_object(kind, part, key)


def pointers(animation: dict[str, Any]) -> Iterator[tuple[dict[str, Any], str, int, str]]:
    """Find what channels of KHR_animation_pointer point at.

    Yields
    ------
    holder : dict
        Its "pointer" is the JSON pointer (RFC 6901).
    kind, index : str, int
        The entry that it points into.
    rest : str
        The path within it.
    """
    for channel in animation.get("channels", []):
        holder = channel.get("target", {}).get("extensions", {}).get("KHR_animation_pointer")
        if not isinstance(holder, dict):
            continue
        found = POINTER.match(str(holder.get("pointer", "")))
        if found and found[1] in KINDS:
            yield holder, found[1], int(found[2]), found[3]


Lists = dict[str, list[Any]]
Found = dict[str, set[int]]


def take_lists(root: dict[str, Any]) -> Lists:
    """Take the lists out of a document; what is left of it is its frame."""
    lists: Lists = {kind: root.pop(kind, []) for kind in KINDS if kind != "lights"}
    punctual = root.get("extensions", {}).get(LIGHTS)
    lists["lights"] = punctual.pop("lights", []) if isinstance(punctual, dict) else []
    return lists


def put_lists(root: dict[str, Any], lists: Lists) -> None:
    """Put lists back into a document; empty ones are left out, as the specification asks."""
    for kind in KINDS:
        if kind != "lights" and lists[kind]:
            root[kind] = lists[kind]
    extensions = root.get("extensions", {})
    if lists["lights"]:
        root.setdefault("extensions", {}).setdefault(LIGHTS, {})["lights"] = lists["lights"]
    elif LIGHTS in extensions:
        del extensions[LIGHTS]
        if not extensions:
            del root["extensions"]


def reachable(root: dict[str, Any], lists: Lists, more: Found | None = None) -> Found:
    """Find what the scenes and the animations need, and what `more` names, and all that those need.

    Parameters
    ----------
    root : dict
        The frame of the document, whose own extensions may refer to entries as well.
    lists : dict
    more : dict, optional
        Entries to start from beside the scenes and animations.
    """
    found: Found = {kind: set() for kind in KINDS}
    waiting: list[tuple[str, int]] = []

    def need(kind: str, index: int) -> None:
        if index < len(lists[kind]) and index not in found[kind]:
            found[kind].add(index)
            waiting.append((kind, index))

    for kind in ("scenes", "animations"):
        for index in range(len(lists[kind])):
            need(kind, index)
    for kind, indices in (more or {}).items():
        for index in indices:
            need(kind, index)
    for reference in references("", root.get("extensions", {})):
        need(reference.kind, reference.index)
    while waiting:
        kind, index = waiting.pop()
        for reference in references(kind, lists[kind][index]):
            need(reference.kind, reference.index)
        if kind == "animations":
            for _, target, number, _ in pointers(lists[kind][index]):
                need(target, number)
    return found


def renumber(root: dict[str, Any], lists: Lists, order: dict[str, list[int]]) -> Lists:
    """Keep only some entries, in an order, with all references to them following.

    Parameters
    ----------
    root : dict
        The frame of the document.
    lists : dict
    order : dict
        By kind the numbers of the entries that stay; whatever these refer to must be among them.
    """
    new = {kind: {old: i for i, old in enumerate(order[kind])} for kind in KINDS}
    kept: Lists = {kind: [lists[kind][i] for i in order[kind]] for kind in KINDS}
    every = [r for kind in KINDS for entry in kept[kind] for r in references(kind, entry)]
    every += list(references("", root.get("extensions", {})))
    pointing = [p for animation in kept["animations"] for p in pointers(animation)]
    for reference in every:
        reference.holder[reference.key] = new[reference.kind].get(reference.index, reference.index)
    for holder, kind, index, rest in pointing:
        head = f"/extensions/{LIGHTS}" if kind == "lights" else ""
        holder["pointer"] = f"{head}/{kind}/{new[kind].get(index, index)}{rest}"
    return kept


def extensions_in(value: Any) -> set[str]:
    """The names of all extensions that are used anywhere in a part of a document."""
    out: set[str] = set()
    waiting = [value]
    while waiting:
        part = waiting.pop()
        if isinstance(part, dict):
            found = part.get("extensions")
            if isinstance(found, dict):
                out |= set(found)
            waiting += [v for k, v in part.items() if k != "extras"]
        elif isinstance(part, list):
            waiting += part
    return out
