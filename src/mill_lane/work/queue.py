"""The queue of tasks in the database: put in, claimed by a lease, told about, ended.

What a kind of task declares of itself comes in with the kinds; no kind is known by name here.
"""

from __future__ import annotations

import functools
import time
from collections.abc import Callable, Collection, Iterable
from typing import Any, NamedTuple, Protocol

from pydantic import BaseModel
from sqlalchemy import Select, and_, bindparam, case, exists, func, or_, select, update
from sqlalchemy.orm import Session, aliased
from sqlalchemy.sql.dml import ReturningUpdate

from mill_lane.store.models import Job, Task, now
from mill_lane.work.failures import killed

LEASE = 15.0  # seconds without a sign of life until a task counts as orphaned
MOST_ATTEMPTS = 3
# What is computed and measured; what is read, built and written beside it; first looks; what other
# machines do; and the look that runs.
LANES = ("compute", "files", "looks", "machines", "live")
COMPILING = "prepare"  # the kind of task after which the renderer is there


class Declared(Protocol):
    """What the queue needs to know of a kind of task; see `work.kinds.base.Kind`."""

    @property
    def name(self) -> str:
        """By which it stands in the database."""

    @property
    def priority(self) -> int:
        """Smaller ones go first."""

    @property
    def gives_way(self) -> bool:
        """Whether it stops for others."""

    @property
    def lane(self) -> str:
        """Tasks of one lane run one after another."""

    @property
    def alone(self) -> bool:
        """Whether nothing else runs beside it."""

    @property
    def elsewhere(self) -> bool:
        """Whether other machines do it: nothing here waits for it."""

    @property
    def kernels(self) -> bool:
        """Whether it waits until the renderer is compiled."""


def put(session: Session, kind: Declared, payload: BaseModel, job: int | None = None) -> Task:
    """Queue a task; it gets its number at once."""
    task = Task(kind=kind.name, payload=payload.model_dump(mode="json"), job_id=job)
    session.add(task)
    session.flush()
    return task


def claim(session: Session, kinds: Iterable[Declared], lane: str | None = None) -> Task | None:
    """Take the waiting task of a lane that goes first, or None; without a lane, of any.

    It is taken by one statement, so that two workers never take the same.  What no kind is known
    for is taken by the first lane, so that it can be told.  What is measured runs alone: it waits
    until nothing else runs, and nothing begins while it runs, or before it where it has waited
    longer.  What gives way waits for first looks, too, and beside the first lane it does not begin
    while anything waits there for which it would give way.  Of what gives way, that of the job
    which is being looked at goes before that of all others.
    """
    first, take = _statements(tuple(_Declared.of(kind) for kind in kinds), lane)
    # Looked for before it is taken, so that nothing is written where nothing waits.
    if session.execute(first).first() is None:
        session.rollback()  # what was read is let go of: the next look is a new one
        return None
    values = {"began": now(), "until": time.time() + LEASE}
    row = session.execute(take, values).first()
    session.commit()
    return session.get(Task, row[0], populate_existing=True) if row else None


class _Declared(NamedTuple):
    """What the queue goes by of a kind, as a key of the statements that are made of it."""

    name: str
    priority: int
    gives_way: bool
    lane: str
    alone: bool
    elsewhere: bool
    kernels: bool

    @classmethod
    def of(cls, kind: Declared) -> _Declared:
        return cls(*(getattr(kind, name) for name in cls._fields))


@functools.lru_cache(maxsize=32)
def _statements(
    declared: tuple[_Declared, ...], lane: str | None
) -> tuple[Select[Any], ReturningUpdate[Any]]:
    """How the waiting task of a lane that goes first is found, and how it is taken."""
    others = [k.name for k in declared if lane is not None and k.lane != lane]
    known = [k.name for k in declared]
    alone = [k.name for k in declared if k.alone]
    beside = [k.name for k in declared if not k.alone and not k.elsewhere and k.lane != LANES[0]]
    patient = [k.name for k in declared if k.kernels]
    giving_way = [k.name for k in declared if k.gives_way and k.lane == LANES[0]]
    yielding = [k.name for k in declared if k.gives_way and k.name in beside]
    wanted = [k.name for k in declared if k.lane == LANES[0] and not k.gives_way]
    looks = [k.name for k in declared if k.lane == LANES[2]]
    other, before, compiling, look = (aliased(Task) for _ in range(4))
    running = select(other.id).where(other.state == "running")
    longer = select(before.id).where(
        before.state == "queued", before.kind.in_(alone), before.id < Task.id
    )
    unready = select(compiling.id).where(
        compiling.kind == COMPILING, compiling.state.in_(("queued", "running"))
    )
    patience = [k.name for k in declared if k.gives_way]
    mine = _turn(Task, patience)
    looking = (
        select(look.id)
        .where(
            look.kind.in_(looks),
            or_(
                look.state == "running", (look.state == "queued") & (_turn(look, patience) >= mine)
            ),
        )
        .correlate(Task)
    )
    sooner = (
        select(other.id)
        .where(
            other.kind.in_(giving_way),
            other.state.in_(("queued", "running")),
            _turn(other, patience) > mine,
        )
        .correlate(Task)
    )
    asked = select(before.id).where(before.state == "queued", before.kind.in_(wanted))
    free = and_(
        or_(Task.kind.not_in(yielding), ~exists(asked)),
        or_(Task.kind.not_in(giving_way), ~exists(looking)),
        or_(Task.kind.not_in(looks), ~exists(sooner)),
        or_(Task.kind.not_in(alone), ~exists(running.where(other.kind.in_(beside)))),
        or_(
            Task.kind.not_in(beside),
            ~exists(running.where(other.kind.in_(alone))) & ~exists(longer),
        ),
        or_(Task.kind.not_in(patient), ~exists(unready)),
    )
    if lane is not None and lane != LANES[0]:
        free = and_(free, Task.kind.in_(known))
    ranks = {k.name: k.priority for k in declared}
    rank = case(ranks, value=Task.kind, else_=0) if ranks else Task.id * 0
    first = (
        select(Task.id)
        .where(Task.state == "queued", Task.kind.not_in(others), free)
        .order_by(case((Task.kind.in_(patience), 1), else_=0), mine.desc(), rank, Task.id)
        .limit(1)
    )
    take = (
        update(Task)
        .where(Task.id == first.scalar_subquery(), Task.state == "queued")
        .values(
            state="running",
            started=bindparam("began"),
            attempts=Task.attempts + 1,
            lease=bindparam("until"),
            text="starting",
        )
        .returning(Task.id)
        .execution_options(synchronize_session=False)
    )
    return first, take


def _turn(task: Any, patience: Collection[str]) -> Any:
    """What goes first among tasks: what was put first, and, of what gives way, what belongs to the
    job that is being looked at.
    """
    of_job = select(Job.looked_at).where(Job.id == task.job_id).correlate(task)
    looked_at = of_job.scalar_subquery()
    behind = func.max(task.turn, func.coalesce(looked_at, 0.0))
    return case((task.kind.in_(list(patience)), behind), else_=task.turn)


def put_first(session: Session, task: Task) -> None:
    """Let a waiting task go before all others of its kind of work."""
    task.turn = time.time()


def somebody_waits(session: Session, kinds: Iterable[Declared]) -> bool:
    """Whether anything waits for which others give way."""
    patient = [k.name for k in kinds if k.gives_way or k.lane != LANES[0]]
    waiting = select(Task.id).where(Task.state == "queued", Task.kind.not_in(patient)).limit(1)
    return session.execute(waiting).first() is not None


def goes_before(
    session: Session, kinds: Iterable[Declared], running: int, lane: str | None
) -> bool:
    """Whether a task that would begin next in the lane goes before the one that runs there.

    That is where both give way and the waiting one's job was looked at since: whoever opens a small
    scene waits for no large one that nobody looks at.
    """
    declared = tuple(_Declared.of(kind) for kind in kinds)
    first, _ = _statements(declared, lane)
    waiting = session.execute(first).first()
    if waiting is None:
        return False
    patience = [k.name for k in declared if k.gives_way]
    columns = Task.job_id, Task.kind, _turn(Task, patience)
    next_job, kind, turn = session.execute(select(*columns).where(Task.id == waiting[0])).one()
    job, _, own = session.execute(select(*columns).where(Task.id == running)).one()
    return kind in patience and next_job != job and turn > own


def must_give_way(
    session: Session, kinds: Iterable[Declared], running: int, lane: str | None
) -> bool:
    """Whether what runs in a lane, and gives way, is to do so now."""
    return somebody_waits(session, kinds) or goes_before(session, kinds, running, lane)


def beat(session: Session, task: int, **values: Any) -> tuple[bool, dict[str, Any]]:
    """Prolong the lease and note progress.

    Returns
    -------
    cancel : bool
        Whether somebody asked to cancel.
    wants : dict
        What else is wanted.
    """
    row = session.execute(
        update(Task)
        .where(Task.id == task, Task.state == "running")
        .values(lease=time.time() + LEASE, **values)
        .returning(Task.cancel, Task.wants)
    ).first()
    session.commit()
    return (bool(row[0]), dict(row[1] or {})) if row else (False, {})


def end(session: Session, task: Task, state: str, **values: Any) -> None:
    """Put a task into its last state."""
    task.state, task.finished = state, now()
    for name, value in values.items():
        setattr(task, name, value)
    session.flush()


def cancel(session: Session, task: Task) -> None:
    """Ask a running task to stop.

    A waiting one is over at once; a paused one is taken up to keep what it has.
    """
    if task.state == "queued":
        end(session, task, "cancelled", text="cancelled before it started")
    elif task.state == "paused":
        retry(session, task)
        task.wants = {"finish": True}
    elif task.state == "running":
        task.cancel = True


def want(session: Session, task: Task, **wishes: Any) -> None:
    """Tell a task while it runs: pause=True, or priority=[x, y]; pause=False lets it go on."""
    task.wants = {**task.wants, **wishes}
    if wishes.get("pause") is False and task.state == "paused":
        retry(session, task)


def retry(session: Session, task: Task) -> None:
    """Queue a paused, failed or cancelled task anew under its own number.

    What it left in its folder, if anything, is taken up.
    """
    if task.state in ("failed", "cancelled", "paused"):
        if task.state != "paused":
            task.share = 0.0
        task.state, task.text = "queued", "waiting"
        task.error, task.attempts, task.cancel = {}, 0, False
        task.wants = {k: v for k, v in task.wants.items() if k != "pause"}
        task.started = task.finished = None


def again(task: Task) -> None:
    """Put a task that was interrupted back into the queue."""
    task.state, task.text, task.live = "queued", "interrupted: goes on from where it was", {}


def recover(
    session: Session,
    everything: bool = False,
    blameless: bool = False,
    only: Collection[str] | None = None,
    ended: Callable[[Session, Task], None] | None = None,
) -> list[int]:
    """Put tasks whose worker died back into the queue; after three attempts they have failed.

    Parameters
    ----------
    session : Session
    everything : bool
        Whether all running tasks count: for a worker that starts and knows to be the only one.
    blameless : bool
        Whether the attempt does not count, since it failed for a reason of the computer.
    only : collection of str, optional
        The kinds of task that are looked at; all where it is not given.
    ended : callable, optional
        Told each task that is not begun again, in the same transaction.

    Returns
    -------
    list of int
        The tasks that were put back, or have failed.
    """
    found = []
    for task in session.scalars(select(Task).where(Task.state == "running")):
        if not everything and task.lease >= time.time():
            continue
        if only is not None and task.kind not in only:
            continue
        found.append(task.id)
        if blameless:
            task.attempts -= 1
        if task.cancel:
            end(session, task, "cancelled", text="cancelled")
        elif task.attempts >= MOST_ATTEMPTS:
            end(session, task, "failed", text="interrupted", error=killed(task.attempts))
        else:
            again(task)
        if task.over and ended is not None:
            ended(session, task)
    session.commit()
    return found
