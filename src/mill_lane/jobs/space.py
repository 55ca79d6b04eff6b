"""What the home takes on the disk, what of it nothing uses, and freeing that."""

from __future__ import annotations

from collections.abc import Callable, Collection
from dataclasses import dataclass
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from mill_lane.core.errors import MillError
from mill_lane.core.recipe_versions import read_recipe
from mill_lane.store.files import in_use
from mill_lane.store.home import Home
from mill_lane.store.models import Job, RecipeRow, Render, SceneVersion, StoredFile, Task
from mill_lane.store.transactions import write
from mill_lane.work import leftovers
from mill_lane.work.ending import files_of, needs_files
from mill_lane.work.kinds import KINDS
from mill_lane.work.kinds.first_look import FIRST_LOOK
from mill_lane.work.kinds.visible_cost import VISIBLE_COST

CACHE = "cache"


@dataclass(frozen=True)
class Holding:
    """One kind of thing that is kept.

    Attributes
    ----------
    name : str
        By which it is freed.
    size : int
        Bytes.
    count : int
        Files, or folders.
    freeable : bool
        Whether it can be freed as a whole.
    free : bool
        Whether nothing uses it, so that the plain button frees it.
    """

    name: str
    size: int
    count: int
    freeable: bool = False
    free: bool = False


@dataclass(frozen=True)
class _Use:
    """Hashes of stored files, by what uses them."""

    scenes: set[str]
    pictures: set[str]
    skies: set[str]
    exports: set[str]
    removed: set[str]


def _use(db: Session) -> _Use:
    gone = set(db.scalars(select(Job.id).where(Job.removed)))
    scenes, pictures, skies, exports, removed = (set[str]() for _ in range(5))
    for job, digest in db.execute(select(SceneVersion.job_id, SceneVersion.file_hash)):
        (removed if job in gone else scenes).add(digest)
    columns = (Render.job_id, Render.removed, Render.picture, Render.exr, Render.layers)
    for job, out, picture, exr, layers in db.execute(select(*columns)):
        kept = (layers or {}).values()
        made = (x for layer in kept for x in (layer.get("hash"), *layer.get("before", ())))
        found = {picture, exr, *made}
        (removed if out or job in gone else pictures).update(x for x in found if x)
    for table in (RecipeRow.data, Render.recipe):
        for data in db.scalars(select(table)):
            named = read_recipe(data).environment_picture
            if named:
                skies.add(named.split("/")[0])
    for result in db.scalars(select(Task.result).where(Task.kind == FIRST_LOOK.name)):
        pictures.update(x for k in ("picture", "meshes") if (x := (result or {}).get(k)))
    for result in db.scalars(select(Task.result).where(Task.kind == VISIBLE_COST.name)):
        for pair in (result or {}).get("pairs", []):
            pictures.update(pair["pictures"].values())
    for result in db.scalars(select(Task.result).where(Task.kind.in_(("export", "deliver")))):
        kept_file = (result or {}).get("export") or (result or {}).get("made") or {}
        if "hash" in kept_file:
            exports.add(kept_file["hash"])
    return _Use(scenes, pictures, skies, exports, removed)


def survey(db: Session, home: Home) -> list[Holding]:
    """What is kept, by kind, with the bytes of each."""
    use = _use(db)
    sizes = {f.hash: f.size for f in db.execute(select(StoredFile.hash, StoredFile.size))}
    left = set(sizes)
    out = []
    for name, found in (
        ("scenes", use.scenes),
        ("pictures", use.pictures),
        ("skies", use.skies),
        ("removed", use.removed),
        ("exports", use.exports),
    ):
        mine = found & left
        left -= mine
        size = sum(sizes[x] for x in mine)
        out.append(Holding(name, size, len(mine), freeable=name == "exports"))
    loose = leftovers.unlisted(db, home)
    size = sum(sizes[x] for x in left) + sum(map(leftovers.size_of, loose))
    out.append(Holding("unused", size, len(left) + len(loose), freeable=True, free=True))
    return [*out, *_scratch(db, home), *_beside(home)]


def _scratch(db: Session, home: Home) -> list[Holding]:
    """What lies in the scratch folder: of tasks that go on, of tasks that failed, of nobody."""
    failed = _failed_paths(db, home)
    owned = leftovers.owned(db, home).paths
    work, waiting, nobody = [], [], []
    for path in home.scratch.iterdir():
        if path in failed:
            waiting.append(path)
        elif path in owned or in_use(path):
            work.append(path)
        else:
            nobody.append(path)

    def held(name: str, paths: Collection[Path], **more: bool) -> Holding:
        return Holding(name, sum(map(leftovers.size_of, paths)), len(paths), **more)

    return [
        held("work", work),
        held("failed", waiting, freeable=True),
        held("leftovers", nobody, freeable=True, free=True),
    ]


def _failed_paths(db: Session, home: Home) -> set[Path]:
    """What failed tasks would go on from if they were run again."""
    out: set[Path] = set()
    for task in db.scalars(select(Task).where(Task.state == "failed")):
        if task.kind in KINDS and needs_files(task):
            out.add(home.scratch / f"task-{task.id}")
            out.update(files_of(home, KINDS[task.kind], task))
    return out


def _beside(home: Home) -> list[Holding]:
    """The database, copies of it from before it was brought up to date, and the demo's scene."""
    base = home.database
    main = [base, *(base.with_name(base.name + end) for end in ("-wal", "-shm"))]
    copies = list(home.folder.glob(f"{base.name}.before-*"))
    cache = [p for p in (home.folder / CACHE).glob("*") if p.is_file()]
    chains = _chains(home)
    return [
        Holding("database", sum(map(leftovers.size_of, main)), 1),
        Holding("copies", sum(map(leftovers.size_of, copies)), len(copies), freeable=True),
        # Linked into the store as well: freeing it gains nothing as long as a job has it.
        Holding("cache", _alone(cache), len(cache), freeable=True),
        Holding("textures", sum(map(leftovers.size_of, chains)), len(chains), freeable=True),
    ]


def _chains(home: Home) -> list[Path]:
    return [p for p in home.textures.glob("*") if p.is_file()]


def _alone(paths: Collection[Path]) -> int:
    """Bytes of files that no other name shares."""
    return sum(p.stat().st_size for p in paths if p.exists() and p.stat().st_nlink == 1)


def free(home: Home, names: Collection[str]) -> int:
    """Free kinds of things; returns the bytes that were freed.

    Raises
    ------
    MillError
        For a kind that is not there to be freed.
    """
    wrong = [n for n in names if n not in FREEING]
    if wrong:
        raise MillError(
            f"“{wrong[0]}” is nothing that can be freed.", f"Choose from {', '.join(FREEING)}."
        )
    return sum(FREEING[name](home) for name in dict.fromkeys(names))


def _free_unused(home: Home) -> int:
    """Take stored files off the list that nothing names, then what no row lists."""

    def inner(db: Session) -> None:
        use = _use(db)
        used = use.scenes | use.pictures | use.skies | use.exports | use.removed
        for row in db.scalars(select(StoredFile)):
            if row.hash not in used:
                db.delete(row)

    write(home.sessions, inner)
    return leftovers.sweep_store(home)


def _free_exports(home: Home) -> int:
    def inner(db: Session) -> None:
        made = Task.kind.in_(("export", "deliver"))
        for task in db.scalars(select(Task).where(made, Task.state == "done")):
            task.result = {}

    write(home.sessions, inner)
    return _free_unused(home)


def _free_failed(home: Home) -> int:
    """What failed tasks would go on from: run again, they begin anew, or say what is missing."""

    def inner(db: Session) -> None:
        for task in db.scalars(select(Task).where(Task.state == "failed")):
            if task.error.get("again"):
                task.error = {k: v for k, v in task.error.items() if k != "again"}

    write(home.sessions, inner)
    return leftovers.sweep_scratch(home)


def _free_files(find: Callable[[Home], Collection[Path]]) -> Callable[[Home], int]:
    def inner(home: Home) -> int:
        found = list(find(home))
        size = _alone(found)
        for path in found:
            path.unlink(missing_ok=True)
        return size

    return inner


FREEING: dict[str, Callable[[Home], int]] = {
    "unused": _free_unused,
    "leftovers": leftovers.sweep_scratch,
    "exports": _free_exports,
    "failed": _free_failed,
    "copies": _free_files(lambda home: list(home.folder.glob(f"{home.database.name}.before-*"))),
    "textures": _free_files(_chains),
    "cache": _free_files(lambda home: [p for p in (home.folder / CACHE).glob("*") if p.is_file()]),
}
