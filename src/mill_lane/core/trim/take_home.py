"""What changed of a scene, to be dropped into the program that it came from: pictures under their
own names, thinned meshes each in a file.
"""

from __future__ import annotations

import tempfile
import zipfile
from collections import defaultdict
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path, PurePosixPath

from mill_lane.core.formats.pictures import ENDINGS
from mill_lane.core.formats.saving import save_scene
from mill_lane.core.names import plain
from mill_lane.core.progress import Progress, silent
from mill_lane.core.scene.model import Image, Mesh, Node, Note, Scene

TOLD = "read me.txt"


def changed_pictures(before: Scene, after: Scene) -> Iterator[tuple[str, Image]]:
    """The pictures of a scene that are others than they were, with the name each came under.

    Pictures are known by their file, or else by their name; of those that share a name the first
    stands for the first, and so on.
    """
    known: dict[str, list[Image]] = defaultdict(list)
    for image in before.images:
        known[image.file or image.name].append(image)
    used: dict[str, int] = defaultdict(int)
    for image in after.images:
        name = image.file or image.name
        own = known.get(name, [])
        was = own[used[name]] if used[name] < len(own) else None
        used[name] += 1
        if image.missing or (was is not None and _same(was, image)):
            continue
        yield _file_name(was or image, image), image


def _same(a: Image, b: Image) -> bool:
    forms = [(x.mime, x.width, x.height, x.channels, x.bits, x.file_bytes) for x in (a, b)]
    return forms[0] == forms[1] and a.read() == b.read()


def _file_name(was: Image, image: Image) -> str:
    """The name that a picture came under; its ending is another where it is of another kind."""
    path = PurePosixPath(was.file or was.name)
    parts = [p for p in path.parts if p not in ("/", "..", ".")] or ["picture"]
    name = PurePosixPath(*parts)
    ending = ENDINGS.get(image.mime, ".png")
    own = name.suffix.lower()
    same = own == ending or (own == ".jpeg" and ending == ".jpg")
    return str(name if same else name.with_name(f"{name.stem if own else name.name}{ending}"))


def write_pictures_zip(
    before: Scene, after: Scene, path: Path, progress: Progress = silent
) -> list[Note]:
    """Write the changed pictures as a ZIP, under their own names and in their own folders.

    Parameters
    ----------
    before, after : Scene
    path : Path
    progress : callable

    Returns
    -------
    list of Note
        What cannot simply be dropped in place.
    """
    notes: list[Note] = []
    taken: set[str] = set()
    others = []
    with zipfile.ZipFile(path, "w", zipfile.ZIP_STORED) as z:
        for k, (name, image) in enumerate(changed_pictures(before, after)):
            single = name
            n = 2
            while single in taken:
                p = PurePosixPath(name)
                single, n = str(p.with_name(f"{p.stem} {n}{p.suffix}")), n + 1
            taken.add(single)
            if single != (image.file or single):
                others.append(f"{image.file} is {single} now")
            z.writestr(zipfile.ZipInfo(single), image.read())
            progress((k + 1) / max(len(after.images), 1), f"pictures: {k + 1}")
        if others:
            text = "These pictures are of another kind than they were:\n" + "\n".join(others)
            z.writestr(zipfile.ZipInfo(TOLD), text + "\n")
    if others:
        count = len(others)
        text = f"{count} picture{'s are' if count > 1 else ' is'} JPEG now: see {TOLD} in the ZIP."
        notes.append(Note("renamed_pictures", "look", text))
    if not taken:
        notes.append(Note("nothing_changed", "look", "No picture differs from the scene's own."))
    progress(1.0, "pictures written")
    return notes


def changed_meshes(before: Scene, after: Scene) -> list[Mesh]:
    """The meshes that have fewer triangles than they had, by name and in order."""
    known: dict[str, list[Mesh]] = defaultdict(list)
    for mesh in before.meshes:
        known[mesh.name].append(mesh)
    counts = {name: {m.triangles for m in meshes} for name, meshes in known.items()}
    drawn = {m for _, m in after.instances}
    return [
        mesh
        for i, mesh in enumerate(after.meshes)
        if i in drawn and mesh.name in counts and mesh.triangles not in counts[mesh.name]
    ]


def write_meshes_zip(
    before: Scene, after: Scene, path: Path, kind: str = "obj", progress: Progress = silent
) -> list[Note]:
    """Write each thinned mesh as a file of its own, in its own space, into a ZIP.

    Parameters
    ----------
    before, after : Scene
    path : Path
    kind : str
        "obj" or "glb".
    progress : callable

    Returns
    -------
    list of Note
    """
    meshes = changed_meshes(before, after)
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED, compresslevel=1) as z:
        for k, mesh in enumerate(meshes):
            name = plain(mesh.name, f"mesh_{k}")
            alone = Scene(
                mesh.name,
                nodes=(Node(mesh.name, mesh=0),),
                meshes=(replace(mesh, parts=tuple(replace(p, material=-1) for p in mesh.parts)),),
            )
            with tempfile.TemporaryDirectory(dir=path.parent) as folder:
                file = Path(folder) / f"{name}.{kind}"
                save_scene(alone, file)
                z.write(file, f"{name}.{kind}" if k == 0 else f"{name}_{k}.{kind}")
            progress((k + 1) / len(meshes), f"meshes: {k + 1} of {len(meshes)}")
    if meshes:
        return []
    return [Note("nothing_changed", "look", "No mesh has fewer triangles than it had.")]
