"""Sharing frames out over a scheduler, and taking back what its workers made."""

from __future__ import annotations

import contextlib
import functools
import time
import uuid
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any, TypeAlias

from mill_lane import __version__
from mill_lane.core.errors import MillError
from mill_lane.core.plan.frame_output import write_whole
from mill_lane.core.words import plural
from mill_lane.store.files import Files
from mill_lane.work.kinds.base import Paused, Report
from mill_lane.work.kinds.render_parts import Layer, Result
from mill_lane.work.kinds.spread_parts import FrameDone, SpreadRequest, SpreadResult
from mill_lane.work.machines import remote
from mill_lane.work.stepping import when_written

# Of the package `distributed`, which has no types and need not be there.
Client: TypeAlias = Any
Future: TypeAlias = Any
PIECE = 32 << 20  # bytes of a file that are sent at a time
PATIENCE = 10.0  # seconds for a scheduler to answer
LOOK = 0.2  # seconds between two looks at what is done
MOST_TRIES = 3  # of a frame that ends without a picture
AHEAD = 2  # frames a worker that are handed out at a time


def spread(request: SpreadRequest, report: Report) -> SpreadResult:
    """Have frames rendered by the workers of a scheduler; each is handed over as it comes.

    Frames of a worker that is lost are done again by another.

    Raises
    ------
    MillError
        Where the scheduler does not answer, or its workers have another edition.
    Paused, Cancelled
    """
    with contextlib.closing(_connected(request.scheduler)) as client:
        return _Frames(request, report, client).render()


def _connected(address: str) -> Client:
    try:
        import distributed
    except ImportError as e:
        raise MillError(
            "The package “distributed” is not installed here.",
            "Set up with tools/setup machines, and start again.",
        ) from e
    try:
        connect: Any = distributed.Client  # which has no types
        return connect(address, timeout=PATIENCE, set_as_default=False, name="mill-lane")
    except (OSError, ValueError) as e:
        raise MillError(
            f"The scheduler at {address} does not answer.",
            "Start it, or start Mill Lane with another --scheduler; then let the run go on.",
            "Frames that are done are kept.",
        ) from e


class _Frames:
    """The frames of a run that are left, those that are on their way, and the workers."""

    def __init__(self, request: SpreadRequest, report: Report, client: Client) -> None:
        self.request, self.report, self.client = request, report, client
        self.left = list(request.frames)
        self.going: dict[Future, int] = {}
        self.tries: dict[int, int] = {}
        self.ready: set[str] = set()  # workers that have the files
        self.result = SpreadResult()
        self.files = Files(request.store)
        self.ending = False

    def render(self) -> SpreadResult:
        """Hand frames out until none is left."""
        try:
            while self.going or (self.left and not self.ending):
                self._hear()
                workers = self._workers()
                if not workers and not self.going:
                    self._tell("waits for a worker of the scheduler")
                    time.sleep(LOOK)
                    continue
                self._hand_out(len(workers))
                for future in [f for f in self.going if f.done()]:
                    self._take(future, self.going.pop(future))
                self._tell(
                    f"{plural(len(self.going), 'frame')} on {plural(len(workers), 'worker')}"
                )
                time.sleep(LOOK)
        finally:
            self.client.cancel(list(self.going), force=True)
        return self.result.model_copy(update={"stopped": self.ending})

    def _hear(self) -> None:
        wants = self.report.hear()
        if wants.get("pause"):
            raise Paused
        self.ending = bool(wants.get("finish"))

    def _tell(self, text: str) -> None:
        count = len(self.request.frames)
        done = len(self.result.frames) + len(self.result.lost)
        self.report.live = {"phase": "rendering", "machines": len(self.ready)}
        self.report(done / count, f"{done} of {count} frames, {text}")

    def _workers(self) -> list[str]:
        """The workers that there are, each with the files that frames need."""
        try:
            found = list(self.client.scheduler_info(n_workers=-1)["workers"])
        except (OSError, KeyError, TypeError):  # for a moment without its scheduler
            return []
        for worker in found:
            if worker not in self.ready:
                self._get_ready(worker)
                self.ready.add(worker)
        self.ready &= set(found)
        return found

    def _get_ready(self, worker: str) -> None:
        """See that a worker has the same edition, and the files."""
        edition = self._on(worker, remote.edition)
        if edition != __version__:
            raise MillError(
                f"The worker {worker} has edition {edition} of Mill Lane, this is {__version__}.",
                "Install the same one there.",
                "Frames that are done are kept.",
            )
        for digest, path in self.request.files.items():
            if not self._on(worker, remote.has, digest):
                self._send(worker, digest, path)

    def _send(self, worker: str, digest: str, path: Path) -> None:
        size, part, offset = path.stat().st_size, uuid.uuid4().hex[:8], 0
        for piece in _pieces(path):
            after = offset + len(piece)
            self._on(worker, remote.take, digest, part, offset, piece, after >= size)
            offset = after
            self._tell(f"sending the scene: {offset / 1e6:.0f} of {size / 1e6:.0f} MB")

    def _on(self, worker: str, function: Callable[..., Any], *arguments: Any) -> Any:
        """Call a function on a worker, and wait for what it gives."""
        future = self.client.submit(function, *arguments, workers=[worker], pure=False)
        while not future.done():
            self._hear()
            time.sleep(0.01)
        return future.result()

    def _hand_out(self, workers: int) -> None:
        """As many frames as keep the workers busy, the first ones first."""
        while self.left and not self.ending and len(self.going) < AHEAD * workers:
            frame = self.left.pop(0)
            future = self.client.submit(
                remote.render_frame,
                self.request.asked(frame).model_dump_json(),
                self.request.scene,
                self.request.sky,
                key=f"mill-lane-frame-{frame}-{uuid.uuid4().hex}",
                pure=False,
            )
            self.going[future] = frame

    def _take(self, future: Future, frame: int) -> None:
        """Take back a frame, or hand it out again."""
        if future.status == "finished":
            self._keep(future.result())
            return
        error = future.exception() if future.status == "error" else None
        self.tries[frame] = self.tries.get(frame, 0) + 1
        if isinstance(error, MemoryError):
            self.result.memory = self.ending = True
            self.result.lost[frame] = "memory did not suffice"
            return
        if error is not None and self.tries[frame] >= MOST_TRIES:
            said = self._said(error)
            self.result.lost[frame] = said[:300] or type(error).__name__
            return
        if isinstance(error, remote.MissingError):
            self.ready.clear()  # whoever lacks it is sent it again
        self.left.insert(0, frame)

    def _said(self, error: BaseException) -> str:
        if isinstance(error, remote.MissingError):
            return "a worker let go of the scene again and again: its disk may be full"
        return error.message if isinstance(error, MillError) else str(error)

    def _keep(self, made: remote.Made) -> None:
        """Put the files of a frame where they belong, and hand it over."""
        place = self.request.folder / f"frame-{made.frame}"
        place.mkdir(exist_ok=True)
        paths: dict[str, Path] = {}
        for name, data in made.files.items():
            if not name.startswith("out/"):
                paths[name] = place / (name + (".exr" if name == "exr" else ".png"))
                paths[name].write_bytes(data)
        output = self.request.frame.output
        assert output is not None

        def write() -> list[Path]:
            kept = []
            for name in made.written:
                path = output.folder / name
                data = made.files[f"out/{name}"]
                write_whole(path, functools.partial(Path.write_bytes, data=data))
                kept.append(path)
            return kept

        told = when_written(self.report, write)
        others = {n: Layer(path=p) for n, p in paths.items() if n not in ("picture", "exr")}
        result = Result(
            picture=paths["picture"],
            exr=paths["exr"],
            stopped=False,
            layers=others,
            measured=made.measured | told | {"machine": made.machine},
        )
        taken = {n: self.files.put(p) for n, p in paths.items()}
        done = FrameDone(frame=made.frame, result=result, taken=taken)
        self.result.frames.append(done)
        self.report.partly(SpreadResult(frames=[done]))


def _pieces(path: Path) -> Iterator[bytes]:
    with path.open("rb") as f:
        while piece := f.read(PIECE):
            yield piece
