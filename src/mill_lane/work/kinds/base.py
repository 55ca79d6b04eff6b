"""What a kind of long task is: its payload, what is prepared, what the child does, what is kept."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import Any, Generic, Protocol, TypeVar

from pydantic import BaseModel
from sqlalchemy.orm import Session

from mill_lane.store.files import Taken
from mill_lane.store.home import Home
from mill_lane.store.models import Task

P = TypeVar("P", bound=BaseModel)
Q = TypeVar("Q", bound=BaseModel)
R = TypeVar("R", bound=BaseModel)


AT_ONCE = 0.5  # seconds that work has to stop which has nothing to keep


class Nothing(BaseModel):
    """A payload, request or result with nothing in it."""


class Report(Protocol):
    """How the child tells how far it is, and hears what is wanted."""

    live: dict[str, Any]

    def __call__(self, share: float, text: str) -> None:
        """Tell the share done, 0 to 1, and a short line; raises Cancelled when it is to stop."""

    def hear(self) -> Mapping[str, Any]:
        """What the artist wants now: "pause", "finish", "priority"."""

    def partly(self, result: BaseModel) -> None:
        """Hand over what is known so far, to be kept at once."""

    def wait_for_room(self, share: float, why: str = "the disk is full") -> None:
        """Wait a moment for what cannot be written; raises Cancelled when it is to stop."""


class Unheard:
    """A report of work that nobody watches: nothing is told, nothing is wanted."""

    def __init__(self) -> None:
        self.live: dict[str, Any] = {}

    def __call__(self, share: float, text: str) -> None:
        """Pass over how far it is."""

    def hear(self) -> Mapping[str, Any]:
        """Nothing is wanted."""
        return {}

    def partly(self, result: BaseModel) -> None:
        """Pass over a part."""

    def wait_for_room(self, share: float, why: str = "the disk is full") -> None:
        """Go on at once."""


class Paused(Exception):
    """Raised when the work was put aside: its state lies in the task's folder."""


@dataclass(frozen=True)
class Context:
    """What preparing and keeping go by; both are short."""

    db: Session
    home: Home
    task: Task

    @property
    def folder(self) -> Path:
        """The task's own folder, which is there."""
        return self.home.task_folder(self.task.id)


class Kind(ABC, Generic[P, Q, R]):
    """A kind of long task.  One module each, listed in `work.kinds.KINDS`.

    Attributes
    ----------
    name : str
        By which it stands in the database.
    payload_type : type
        What is put into the queue; kept as JSON.
    request_type : type
        What the child gets.
    result_type : type
        What the child hands back.
    priority : int
        Waiting tasks with a smaller one go first, then the older ones.
    gives_way : bool
        Whether it stops for whatever else waits, and is taken up again afterwards.
    apart : bool
        Whether it is done in a process of its own, so that the scene that is loaded for rendering
        stays where it is.
    resumable : bool
        Whether it goes on from what lies in its folder, so that the folder stays when it is
        interrupted.
    lane : str
        One of `queue.LANES`.  Tasks of one lane run one after another, lanes beside each other.
    alone : bool
        Whether its time counts, so that nothing else runs beside it.
    elsewhere : bool
        Whether other machines do it, so that nothing here waits for it, nor it for them.
    kernels : bool
        Whether it waits until the renderer is compiled.
    grace : float
        Seconds that it has to stop by itself; see `patience`.
    way : float
        The same where it gives way, if that is less; then its process is ended.
    """

    name: str
    payload_type: type[P]
    request_type: type[Q]
    result_type: type[R]
    priority: int = 0
    gives_way: bool = False
    apart: bool = False
    resumable: bool = False
    lane: str = "compute"
    alone: bool = False
    elsewhere: bool = False
    kernels: bool = False
    grace: float = 4.0
    way: float = 0.3

    @abstractmethod
    def prepare(self, context: Context, payload: P) -> Q:
        """Gather what the child needs, from the database and the home.

        Raises
        ------
        MillError
            Where it can no longer be done.
        """

    @abstractmethod
    def run(self, request: Q, report: Report) -> R:
        """Do the work, in the child; there is no database here.

        Raises
        ------
        Cancelled, Paused, MillError, MemoryError
        """

    def store(self, home: Home, result: R) -> dict[str, Taken]:
        """Get what was made ready for the content store, before the database is written to.

        Done once: what it returns is listed however often that has to be tried.
        """
        return {}

    @abstractmethod
    def keep(
        self, context: Context, payload: P, result: R, taken: Mapping[str, Taken]
    ) -> dict[str, Any]:
        """Write down what came out, in one short transaction that also ends the task.

        Returns
        -------
        dict
            What the task's row says of its result, as JSON.
        """

    def ended_without(self, context: Context, payload: P) -> None:
        """Go on after a task that failed or was cancelled with nothing to keep."""

    def keep_part(self, context: Context, payload: P, result: R) -> None:
        """Take over what is handed over before the task is done."""

    def files_of_part(self, result: R) -> Iterable[Taken]:
        """Files that `keep_part` lists."""
        return ()

    def stopped_by_hand(self, result: R) -> bool:
        """Whether the work ended early because somebody said so, and is kept as it is."""
        return False

    def left_something(self, context: Context) -> bool:
        """Whether a task that was stopped left something that can be taken up and kept."""
        return False

    def files_of(self, home: Home, payload: P) -> list[Path]:
        """Files beside its folder that the task owns until it has ended."""
        return []

    def patience(self, live: Mapping[str, Any]) -> float:
        """Seconds that it has to stop by itself, by what it told last; then its process is ended.

        Whatever has nothing to keep before it is done should be quick.
        """
        return self.grace

    def memory_limit(self, request: Q) -> int | None:
        """Bytes that the child may take for it; None for what the machine has."""
        return None
