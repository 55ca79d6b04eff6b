"""From a scene to a glTF document: the one it was read from with what was touched written anew.

Every list of the document is kept as it is, with new entries at its end; entries are patched field
by field where the scene says something else than what was read.  What nobody refers to any more is
then left out, and the rest is numbered in the scene's order.  A scene that was made by code is a
patch of an empty document.
"""

from __future__ import annotations

import copy
from collections import defaultdict
from collections.abc import Sequence
from typing import Any

from mill_lane.core.formats.gltf import entries
from mill_lane.core.formats.gltf.container import Document
from mill_lane.core.formats.gltf.entries import Builder, Chunk, Json
from mill_lane.core.formats.gltf.instancing import NAME as INSTANCING
from mill_lane.core.formats.gltf.instancing import as_the_file_has_it
from mill_lane.core.formats.gltf.keys import FILE, PATH, UNSEEN_BY
from mill_lane.core.formats.gltf.meshopt import unpack
from mill_lane.core.formats.gltf.motion import patch_animations
from mill_lane.core.formats.gltf.origin import Origin
from mill_lane.core.formats.gltf.pictures import picture_of
from mill_lane.core.formats.gltf.primitives import patch_mesh
from mill_lane.core.formats.gltf.references import (
    KINDS,
    LIGHTS,
    extensions_in,
    put_lists,
    reachable,
    renumber,
    take_lists,
)
from mill_lane.core.formats.gltf.taken_along import keep_sky, keep_stage
from mill_lane.core.formats.gltf.tree import patch_tree, write_material_over
from mill_lane.core.scene.defaults import without_defaults
from mill_lane.core.scene.model import Node, Scene

MODELLED = ("nodes", "meshes", "materials", "textures", "images", "cameras", "lights")
# Pictures that a texture names in an extension.
NAMED_BY = {"image/webp": "EXT_texture_webp", "image/ktx2": "KHR_texture_basisu"}
FRAME: Json = {
    "asset": {"version": "2.0", "generator": "Mill Lane"},
    "scene": 0,
    "scenes": [{"nodes": []}],
}


def document_of(scene: Scene) -> tuple[Json, list[Chunk]]:
    """Write a scene as glTF.

    Parameters
    ----------
    scene : Scene
        Read from a glTF file, or made in any other way.

    Returns
    -------
    root : dict
        The JSON, without the list of buffers.
    chunks : list of Chunk
        The binary part: the bytes of each buffer view, in order, each to be padded to 4.
    """
    return _Patch(scene).finish()


class _Patch:
    """A document while it is patched.

    `at` has for each modelled kind the number of every thing of the scene within the patched lists;
    `gone` are the numbers of the entries that the scene has no thing for any more.
    """

    def __init__(self, scene: Scene) -> None:
        origin = scene.origin if isinstance(scene.origin, Origin) else None
        self.document: Document | None = origin.document if origin else None
        self.before = origin.scene if origin else Scene(scene.name)
        # Where a file had no camera or light, what was added so that it can be drawn is no part of
        # it.
        self.scene = without_defaults(scene) if origin else scene
        self.scene, self.before, self.respread = as_the_file_has_it(self.scene, self.before)
        self.root: Json = copy.deepcopy(origin.document.json if origin else FRAME)
        self.root.pop("buffers", None)
        self.lists = take_lists(self.root)
        self.named_before = set(map(str, self.root.get("extensionsUsed", [])))
        self.found_before = extensions_in([self.root, self.lists])
        counts = {kind: len(self.lists[kind]) for kind in KINDS}
        self.orphans = {
            kind: set(range(counts[kind])) - found
            for kind, found in reachable(self.root, self.lists).items()
        }
        self.chunks: dict[int, Chunk] = {}
        if self.document is not None:
            for i, view in enumerate(self.lists["bufferViews"]):
                blob = self.document.view(i)
                self.chunks[i] = Chunk(blob.length, blob.read)
                unpack(view)
        self.builder = Builder(self.lists["bufferViews"], self.lists["accessors"], self.chunks)
        self.at: dict[str, list[int]] = {}
        self.gone: dict[str, set[int]] = {}
        for kind in MODELLED:
            self._place(kind, getattr(self.scene, kind), len(getattr(self.before, kind)))

    def _place(self, kind: str, things: Sequence[Any], known: int) -> None:
        """Find the entry of each thing: its own, a copy of its own, or a new one."""
        entries_, taken, at = self.lists[kind], set(), []
        for thing in things:
            if 0 <= thing.source < known and thing.source not in taken:
                taken.add(thing.source)
                at.append(thing.source)
            else:
                own = 0 <= thing.source < known
                entries_.append(copy.deepcopy(entries_[thing.source]) if own else {})
                at.append(len(entries_) - 1)
        self.at[kind] = at
        self.gone[kind] = set(range(known)) - taken

    def earlier(self, kind: str, thing: Any) -> Any:
        """The thing as it was read; None for a new one."""
        known = getattr(self.before, kind)
        return known[thing.source] if 0 <= thing.source < len(known) else None

    def finish(self) -> tuple[Json, list[Chunk]]:
        self._pictures()
        self._materials()
        self._cameras_and_lights()
        empty = self._meshes()
        self._nodes(empty)
        self.lists["animations"] = patch_animations(
            self.lists["animations"],
            self.scene,
            self.before,
            self.at["nodes"],
            self.gone,
            self.builder,
        )
        self._scenes()
        order = self._order()
        self.lists = renumber(self.root, self.lists, order)
        chunks = [self.chunks[i] for i in order["bufferViews"]]
        at = 0
        for view, chunk in zip(self.lists["bufferViews"], chunks, strict=True):
            view["buffer"], view["byteOffset"], view["byteLength"] = 0, at, chunk.length
            at += chunk.length + -chunk.length % 4
        put_lists(self.root, self.lists)
        self._name_extensions()
        return self.root, chunks

    def _pictures(self) -> None:
        for image, at in zip(self.scene.images, self.at["images"], strict=True):
            picture_of(
                self.builder,
                self.lists["images"][at],
                image,
                self.earlier("images", image),
                self.document,
            )
            keep_path(self.lists["images"][at], image.path)
            keep_path(self.lists["images"][at], image.file, FILE)
        samplers = self.lists["samplers"]
        for t, at in zip(self.scene.textures, self.at["textures"], strict=True):
            entry, was = self.lists["textures"][at], self.earlier("textures", t)
            if was is None or was.name != t.name:
                entry["name"] = t.name
            source = self.at["images"][t.image]
            own = NAMED_BY.get(self.scene.images[t.image].mime)
            named = set(NAMED_BY.values()) & set(entry.get("extensions", {}))
            if was is None or source != was.image or named != ({own} if own else set()):
                entry.pop("source", None)
                entry.pop("extensions", None)  # other kinds of the picture that it had
                if own:
                    entry["extensions"] = {own: {"source": source}}
                else:
                    entry["source"] = source
            if was is None or (was.wrap_u, was.wrap_v) != (t.wrap_u, t.wrap_v):
                set_up = samplers[entry["sampler"]] if "sampler" in entry else {}
                usual = {"magFilter": 9729, "minFilter": 9987}
                wraps = {"wrapS": entries.WRAPS[t.wrap_u], "wrapT": entries.WRAPS[t.wrap_v]}
                sampler = (set_up or usual) | wraps
                if sampler not in samplers:
                    samplers.append(sampler)
                entry["sampler"] = samplers.index(sampler)

    def _materials(self) -> None:
        for m, at in zip(self.scene.materials, self.at["materials"], strict=True):
            entry, was = self.lists["materials"][at], self.earlier("materials", m)
            write_material_over(entry, was, m, lambda k: self.at["textures"][k])
            keep_path(entry, m.path)

    def _cameras_and_lights(self) -> None:
        for kind, write in (("cameras", entries.camera_of), ("lights", entries.light_of)):
            for thing, at in zip(getattr(self.scene, kind), self.at[kind], strict=True):
                was = self.earlier(kind, thing)
                before = write(was) if was is not None else {}
                patch_tree(self.lists[kind][at], before, write(thing))

    def _meshes(self) -> set[int]:
        """Patch the meshes; returns the numbers of those that have nothing to draw."""
        empty = set()
        for m, at in zip(self.scene.meshes, self.at["meshes"], strict=True):
            entry = self.lists["meshes"][at]
            patch_mesh(
                self.builder,
                entry,
                m,
                self.earlier("meshes", m),
                self.before.meshes,
                self.document.json.get("meshes", []) if self.document else [],
                self.scene.materials,
                self.at["materials"],
            )
            if not entry["primitives"]:
                empty.add(at)
        return empty

    def _nodes(self, empty: set[int]) -> None:
        scene, at = self.scene, self.at["nodes"]
        children: dict[int, list[int]] = defaultdict(list)
        for i, n in enumerate(scene.nodes):
            if n.parent >= 0:
                children[n.parent].append(at[i])
        for i, n in enumerate(scene.nodes):
            entry, was = self.lists["nodes"][at[i]], self.earlier("nodes", n)
            if was is None or n.name != was.name:
                entry["name"] = n.name
            patch_transform(entry, was, n)
            keep_path(entry, n.path)
            if n.unseen_by != (was.unseen_by if was else ()):
                keep(entry, UNSEEN_BY, list(n.unseen_by))
            if n.source in self.respread:
                entry.get("extensions", {}).pop(INSTANCING, None)
                entry.pop("mesh", None)
            self._attach(entry, was, n, empty)
            self._adopt(entry, children[i])
        for number in self.gone["nodes"]:
            # What is gone may still be a joint of a skin: it stays as a bare place.
            entry = self.lists["nodes"][number]
            for key in ("mesh", "camera", "skin", "extensions"):
                entry.pop(key, None)
            self._adopt(entry, [c for c in entry.get("children", []) if c in self.gone["nodes"]])

    def _adopt(self, entry: Json, children: list[int]) -> None:
        """Set a node's children, those that it had in their order."""
        wanted = set(children)
        had = [c for c in entry.get("children", []) if c in wanted]
        out = had + [c for c in children if c not in set(had)]
        if out:
            entry["children"] = out
        else:
            entry.pop("children", None)

    def _attach(self, entry: Json, was: Node | None, n: Node, empty: set[int]) -> None:
        """Set what stands at a node, where that has changed."""
        mesh = self.at["meshes"][n.mesh] if n.mesh >= 0 else -1
        if mesh != (was.mesh if was else -1) or mesh in empty:
            if was is not None and was.mesh >= 0:
                for key in ("skin", "weights"):  # they belong to the mesh that was here
                    entry.pop(key, None)
            _set(entry, "mesh", -1 if mesh in empty else mesh)
        camera = self.at["cameras"][n.camera] if n.camera >= 0 else -1
        if camera != (was.camera if was else -1):
            _set(entry, "camera", camera)
        light = self.at["lights"][n.light] if n.light >= 0 else -1
        if light != (was.light if was else -1):
            extensions = entry.setdefault("extensions", {})
            extensions.pop(LIGHTS, None)
            if light >= 0:
                extensions[LIGHTS] = {"light": light}
            if not extensions:
                del entry["extensions"]
        joints = self.lists["skins"][entry["skin"]].get("joints", []) if "skin" in entry else []
        if self.gone["nodes"].intersection(joints):
            del entry["skin"]

    def _scenes(self) -> None:
        scenes = self.lists["scenes"]
        if not scenes:
            scenes.append({"nodes": list(range(len(self.before.nodes)))})
            self.root["scene"] = 0
        default = int(self.root.get("scene", 0))
        roots = {
            at for n, at in zip(self.scene.nodes, self.at["nodes"], strict=True) if n.parent < 0
        }
        fresh = [
            at
            for n, at in zip(self.scene.nodes, self.at["nodes"], strict=True)
            if n.parent < 0 and self._is_new_root(n, at)
        ]
        for i, entry in enumerate(scenes):
            nodes = [k for k in entry.get("nodes", []) if k in roots]
            if i == default:
                nodes += [k for k in fresh if k not in set(nodes)]
            if nodes:
                entry["nodes"] = nodes
            else:
                entry.pop("nodes", None)
        entry = scenes[default]
        if self.document is None or self.scene.name != self.before.name:
            entry["name"] = self.scene.name
        settings = entries.settings_of(self.scene)
        at = zip(self.scene.images, self.at["images"], strict=True)
        views = {m.file: self.lists["images"][k].get("bufferView") for m, k in at if m.file}
        pictures = {name: view for name, view in views.items() if view is not None}
        keep_stage(entry, self.scene, self.before, self.builder, pictures)
        keep_sky(entry, self.scene, self.before, self.builder)
        if self.document is None or settings != entries.settings_of(self.before):
            extras = entry.get("extras")
            kept = extras if isinstance(extras, dict) else {}
            entry["extras"] = kept | {"mill_lane": settings}

    def _is_new_root(self, n: Node, at: int) -> bool:
        """Whether a node without a parent was none of the file's roots: new, a copy, or
        moved up.
        """
        was = self.earlier("nodes", n)
        return was is None or at != n.source or was.parent >= 0

    def _order(self) -> dict[str, list[int]]:
        """What stays, in the scene's order, then what the scene does not know of in its own."""
        orphans = {kind: found - self.gone.get(kind, set()) for kind, found in self.orphans.items()}
        found = reachable(self.root, self.lists, orphans)
        out = {}
        for kind in KINDS:
            first = [i for i in self.at.get(kind, []) if i in found[kind]]
            listed = set(first)
            out[kind] = first + [i for i in sorted(found[kind]) if i not in listed]
        return out

    def _name_extensions(self) -> None:
        """Bring the lists of extensions up to date; those that leave no trace in the JSON stay."""
        found = extensions_in(self.root)
        used = found | (self.named_before - self.found_before)
        required = [x for x in self.root.get("extensionsRequired", []) if x in used]
        for key, names in (("extensionsUsed", sorted(used)), ("extensionsRequired", required)):
            if names:
                self.root[key] = names
            else:
                self.root.pop(key, None)


def keep_path(entry: Json, path: str, key: str = PATH) -> None:
    """Write where a thing stands in the USD stage that it came from, or what else `key` is."""
    extras = entry.get("extras")
    known = extras.get(key, "") if isinstance(extras, dict) else ""
    if path != known:
        keep(entry, key, path)


def keep(entry: Json, key: str, value: Any) -> None:
    """Write something of our own into the extras of an entry; take it out where it is empty."""
    extras = entry.get("extras")
    kept = dict(extras) if isinstance(extras, dict) else {}
    if value:
        kept[key] = value
    else:
        kept.pop(key, None)
    entry["extras"] = kept


def _set(entry: Json, key: str, index: int) -> None:
    if index >= 0:
        entry[key] = index
    else:
        entry.pop(key, None)


def patch_transform(entry: Json, was: Node | None, n: Node) -> None:
    """Write where a node stands, if that has changed."""
    wanted = entries.transform_of(n)
    if was is not None and wanted == entries.transform_of(was):
        return
    for key in ("matrix", "translation", "rotation", "scale"):
        entry.pop(key, None)
    entry.update(wanted)
