"""Ending a task, with a failure injected at every step of it, for every kind: what was made is kept
in the end, whole and listed, and nothing is lost while it is tried again.
"""

from __future__ import annotations

import errno
import itertools
import os
import tempfile
import unittest
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager
from pathlib import Path
from typing import Any, ClassVar
from unittest import mock

from pydantic import BaseModel
from sqlalchemy import select
from sqlalchemy.exc import OperationalError
from sqlalchemy.orm import Session

from mill_lane.core.denoise.pilot import Found
from mill_lane.core.plan.run_sheet import RunSheet
from mill_lane.core.recipe import Recipe
from mill_lane.core.recipe_versions import stored
from mill_lane.core.trim.visible import Difference
from mill_lane.core.weigh.analysis_versions import read_analysis
from mill_lane.store import files, transactions
from mill_lane.store.files import file_hash
from mill_lane.store.home import Home
from mill_lane.store.models import Render, RenderGroup, SceneVersion, StoredFile, Task
from mill_lane.work import keeping, leftovers, queue, runs, worker
from mill_lane.work.kinds import KINDS
from mill_lane.work.kinds.render_parts import Layer
from mill_lane.work.kinds.render_parts import Result as RenderResult
from mill_lane.work.kinds.spread_parts import FrameDone, SpreadResult
from mill_lane.work.worker import Worker
from tests.homes import furnished

RECIPE = Recipe(width=64, height=36, samples=4, min_samples=1)
AGAIN = 6  # calls in a row that fail: one more than a transaction is tried in itself


def os_error(number: int) -> Callable[[], Exception]:
    return lambda: OSError(number, os.strerror(number))


def database_error(words: str) -> Callable[[], Exception]:
    return lambda: OperationalError("x", {}, Exception(words))


# Every call that ending a task makes of the disk, and what goes wrong in it.
STEPS: tuple[tuple[Any, str, Callable[[], Exception]], ...] = (
    (files, "file_hash", os_error(errno.ENOSPC)),
    (files, "_sync_folder", os_error(errno.EIO)),
    (Path, "replace", os_error(errno.EIO)),
    (Path, "chmod", os_error(errno.EIO)),
    (Session, "flush", database_error("disk I/O error")),
    (Session, "commit", database_error("database or disk is full")),
)


class Faults:
    """Counts the calls of `STEPS`, and has those from the n-th on fail, before or after they did
    what they do.
    """

    def __init__(self, first: int, late: bool) -> None:
        self.first, self.late, self.calls, self.off = first, late, 0, False

    def hit(self) -> bool:
        if self.off:
            return False
        self.calls += 1
        return self.first < self.calls <= self.first + AGAIN

    @contextmanager
    def injected(self) -> Iterator[None]:
        with ExitStack() as stack:
            for owner, name, error in STEPS:
                stack.enter_context(mock.patch.object(owner, name, self.wrap(owner, name, error)))
            yield

    def wrap(self, owner: Any, name: str, error: Callable[[], Exception]) -> Callable[..., Any]:
        real = getattr(owner, name)

        def called(*args: Any, **more: Any) -> Any:
            fails = self.hit()
            # A commit is there or it is not; a file may have been moved when its folder fails.
            if fails and not (self.late and name != "commit"):
                raise error()
            out = real(*args, **more)
            if fails:
                raise error()
            return out

        return called


class Made:
    """Results as the child hands them back, with files of a content of their own."""

    count = itertools.count()

    def __init__(self, home: Home, task: int) -> None:
        self.home, self.task = home, task
        self.contents: list[bytes] = []

    def file(self, name: str) -> Path:
        path = self.home.task_folder(self.task) / name
        content = f"{name} {next(self.count)}".encode()
        path.write_bytes(content)
        self.contents.append(content)
        return path

    def analysis(self) -> Any:
        with self.home.sessions() as db:
            return read_analysis(db.get_one(SceneVersion, 1).analysis)

    def version(self) -> Any:
        return {"path": self.file("scene.glb"), "analysis": self.analysis(), "changes": []}

    def picture(self) -> RenderResult:
        return RenderResult(
            picture=self.file("picture.png"),
            exr=self.file("picture.exr"),
            stopped=False,
            layers={"albedo": Layer(path=self.file("layer-1.png"))},
            state=self.file("ended.npz"),
            measured={"seconds": 1.0},
        )


ROW = {"version": 1, "name": "bakery.glb"}


def render_row(db: Session, group: int | None = None, frame: int = 1) -> int:
    row = Render(
        job_id=1,
        kind="trial" if group is None else "frame",
        number=runs.next_number(Render, 1, "trial" if group is None else "frame"),
        version_id=1,
        group_id=group,
        recipe=stored(RECIPE),
        region=[0, 0, 64, 36],
        frame=frame,
        device={},
    )
    db.add(row)
    db.flush()
    return row.id


def run_row(db: Session) -> int:
    settings = runs.RunSettings(
        sheet=RunSheet(),
        folder=Path("frames"),
        every=[7],
        left=[7],
        version=1,
        recipe=stored(RECIPE),
        device={},
        scheduler="tcp://nowhere:1",
    )
    number = runs.next_number(RenderGroup, 1, "run")
    group = RenderGroup(job_id=1, kind="run", number=number)
    runs.store(group, settings)
    db.add(group)
    db.flush()
    return group.id


def pairs(m: Made) -> list[dict[str, Any]]:
    pictures = {name: m.file(f"{name}-0.png") for name in ("before", "after", "apart")}
    numbers = dict.fromkeys(Difference.model_fields, 0.0)
    crop = {"frame": 1, "region": (0, 0, 8, 8), "why": "direct"}
    return [{"crop": crop, "difference": numbers, "pictures": pictures}]


def denoised(m: Made) -> dict[str, Any]:
    named = {"picture": m.file("clean.png"), "kept": m.file("clean.exr"), "lost": m.file("l.png")}
    return {**named, "most_lost": 0.5, "measured": {}}


def spread(m: Made) -> SpreadResult:
    result = m.picture().model_copy(update={"state": None})
    m.contents.pop()
    paths = {"picture": result.picture, "exr": result.exr, "albedo": result.layers["albedo"].path}
    taken = {name: m.home.files.put(path) for name, path in paths.items()}
    return SpreadResult(frames=[FrameDone(frame=7, result=result, taken=taken)])


FOUND = dict.fromkeys(Found.model_fields)
# The payload of each kind, by what its rows need, and what its child hands back.
CASES: dict[str, tuple[Callable[[Session], dict[str, Any]], Callable[[Made], Any]]] = {
    "prepare": (lambda db: {}, lambda m: {"seconds": 1.0}),
    "demo": (lambda db: {"size": "small", "name": "x.glb"}, Made.version),
    "open": (lambda db: {"source": "x.glb", "name": "x.glb"}, Made.version),
    "reading": (lambda db: ROW | {"unit": "m", "up": "y"}, Made.version),
    "variant": (lambda db: ROW | {"choose": "colour=blue"}, Made.version),
    "camera": (
        lambda db: ROW | {"view": {"name": "mine", "eye": (0, 1, 3), "target": (0, 0, 0)}},
        Made.version,
    ),
    "first_look": (
        lambda db: {"version": 1},
        lambda m: {
            "picture": m.file("look.png"),
            "meshes": m.file("meshes.png"),
            "samples": 1.0,
            "complete": True,
        },
    ),
    "live_look": (lambda db: {"job": 1}, lambda m: {"number": 1, "why": "samples"}),
    "preload": (lambda db: {"version": 1}, lambda m: {}),
    "weigh": (lambda db: {"version": 1}, lambda m: {"analysis": m.analysis()}),
    "propose": (lambda db: {"version": 1, "asked": []}, lambda m: {"found": []}),
    "visible_cost": (
        lambda db: {"version": 1, "key": "k", "choices": []},
        lambda m: {"pairs": pairs(m)},
    ),
    "trim": (lambda db: ROW | {"choices": []}, Made.version),
    "export": (
        lambda db: {"version": 1, "number": 1, "format": "obj", "ending": ".zip"},
        lambda m: {"path": m.file("out.zip"), "notes": []},
    ),
    "render": (lambda db: {"render": render_row(db)}, Made.picture),
    "denoise": (lambda db: {"render": render_row(db)}, denoised),
    "denoise_later": (lambda db: {"render": render_row(db)}, denoised),
    "denoise_files": (
        lambda db: {"source": "a.####.exr", "out": "b.####.exr"},
        lambda m: {"measured": {}},
    ),
    "hold": (
        lambda db: {"version": 1, "region": (0, 0, 8, 8), "frame": 1, "target": 0.1},
        lambda m: Found.model_construct(**FOUND),
    ),
    "deliver": (
        lambda db: {"run": run_row(db), "what": "film.mp4"},
        lambda m: {"path": m.file("film.mp4"), "frames": 3},
    ),
    "spread": (lambda db: {"run": run_row(db)}, spread),
}


class TestEnding(unittest.TestCase):
    home: ClassVar[Home]

    @classmethod
    def setUpClass(cls) -> None:
        keep = tempfile.TemporaryDirectory()
        cls.addClassCleanup(keep.cleanup)
        cls.home = furnished(Path(keep.name) / "home")
        cls.addClassCleanup(cls.home.sessions.kw["bind"].dispose)

    def queued(self, name: str) -> tuple[Task, Made, Any]:
        """A task of a kind that runs, and what its child made."""
        payload, result = CASES[name]
        kind = KINDS[name]
        with self.home.sessions() as db:
            task = queue.put(db, kind, kind.payload_type.model_validate(payload(db)), 1)
            task.state = "running"
            db.commit()
        made = Made(self.home, task.id)
        handed = result(made)
        if not isinstance(handed, BaseModel):
            handed = kind.result_type.model_validate(handed)
        return task, made, handed

    def end(self, name: str, faults: Faults) -> None:
        """End a task of a kind under faults; whoever waits meanwhile frees what it can."""
        task, made, result = self.queued(name)
        one, kind = Worker(self.home), KINDS[name]
        doing = worker._Doing(task.id, kind)

        def rest(seconds: float) -> None:
            faults.off = True
            leftovers.sweep_store(self.home)
            faults.off = False

        with mock.patch.object(one.keeper, "rest", rest), doing.claims:
            with faults.injected():
                if name == "spread":
                    one._keep_part(doing, result)
            rest(0)
            with faults.injected():
                one.keeper.finish(task.id, kind, "done", result)
        self.kept(task.id, made)

    def kept(self, number: int, made: Made) -> None:
        leftovers.sweep_store(self.home)
        with self.home.sessions() as db:
            task = db.get_one(Task, number)
            self.assertEqual(task.state, "done", task.error)
            listed = {row.hash: row.size for row in db.scalars(select(StoredFile))}
        stored_now = {}
        for content in made.contents:
            path = made.home.task_folder(number).parent / "check"
            path.write_bytes(content)
            digest = file_hash(path)
            stored_now[digest] = len(content)
            self.assertEqual(self.home.files.path(digest).read_bytes(), content)
            self.home.files.path(digest).unlink()  # so that there is little to sweep next time
        self.assertLessEqual(stored_now.items(), listed.items())
        self.assertFalse(any((self.home.scratch / f"task-{number}").glob("*")))

    def test_every_kind_has_a_case(self) -> None:
        self.assertEqual(set(CASES) | {"count"}, {k.name for k in KINDS} | {"count"})

    def test_a_failure_at_every_step(self) -> None:
        injected = 0
        quick = (
            mock.patch.object(transactions, "PAUSE", 0.0),
            mock.patch.object(keeping, "FIRST_REST", 0.0),
        )
        with quick[0], quick[1]:
            # What fails after it was done is a matter of the store, not of the kind.
            for name, late in [*((name, False) for name in CASES), ("render", True)]:
                for first in itertools.count():
                    faults = Faults(first, late)
                    with self.subTest(kind=name, late=late, step=first):
                        self.end(name, faults)
                    if faults.calls <= first:
                        break  # there is no such step: all were made to fail
                    injected += 1
        self.assertGreater(injected, 10 * len(CASES))

    def test_what_somebody_gives_up_ends(self) -> None:
        """A result that waits for room, and is cancelled meanwhile."""
        task, _, result = self.queued("render")
        one = Worker(self.home)

        def rest(seconds: float) -> None:
            with self.home.sessions() as db:
                db.get_one(Task, task.id).cancel = True
                db.commit()

        full = mock.patch.object(files, "file_hash", side_effect=OSError(errno.ENOSPC, "full"))
        with mock.patch.object(one.keeper, "rest", rest), full:
            one.keeper.finish(task.id, KINDS["render"], "done", result)
        with self.home.sessions() as db:
            self.assertEqual(db.get_one(Task, task.id).state, "cancelled")
