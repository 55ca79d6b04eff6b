"""What trims change in the picture: asked for, found, and where the crops lie."""

from __future__ import annotations

import hashlib
import itertools
import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from mill_lane.core.errors import MillError, NotFoundError
from mill_lane.core.trim.crops import Crop
from mill_lane.core.trim.groups import grouped
from mill_lane.core.trim.model import Choice
from mill_lane.core.trim.visible import Difference
from mill_lane.core.weigh.analysis import Analysis
from mill_lane.jobs.lookup import analysis_of
from mill_lane.jobs.tasks import cancel
from mill_lane.store.home import Home
from mill_lane.store.models import Job, SceneVersion, Task
from mill_lane.work import queue
from mill_lane.work.kinds.visible_cost import PICTURES, VISIBLE_COST, Payload

TOGETHER = "all"
MOST_AT_ONCE = 24  # entries that are measured one by one: the first that are staged


@dataclass(frozen=True)
class Measured:
    """A crop that was compared, by its number within its task."""

    number: int
    crop: Crop
    difference: Difference


@dataclass(frozen=True)
class Cost:
    """What some choices change: the task that measures it, and the crops once it is done."""

    task: Task
    choices: list[Choice]
    pairs: list[Measured]

    @property
    def known(self) -> bool:
        """Whether it was measured."""
        return self.task.state == "done"

    @property
    def rms(self) -> float:
        """The most that any crop changed, as RMS of display values."""
        return max((p.difference.rms for p in self.pairs), default=0.0)

    @property
    def less_than_grain(self) -> bool:
        """Whether no crop changed by more than another seed would have changed it."""
        return all(p.difference.less_than_grain for p in self.pairs)

    @property
    def seconds(self) -> tuple[float, float]:
        """What all crops took before and after."""
        pairs = [p.difference for p in self.pairs]
        return sum(d.seconds_before for d in pairs), sum(d.seconds_after for d in pairs)

    @property
    def time_ratio(self) -> float | None:
        """Seconds of all crops after over those before."""
        before, after = self.seconds
        return after / before if before > 0 else None


def key_of(choices: Sequence[Choice]) -> str:
    """By which a set of choices is told apart."""
    said = sorted(json.dumps([c.trim, c.target.key, c.parameters], sort_keys=True) for c in choices)
    return hashlib.sha256("\n".join(said).encode()).hexdigest()[:32]


def costs_of(db: Session, version: SceneVersion) -> dict[str, Cost]:
    """Everything that was measured of a version as it is looked at now, or is to be, by the key of
    its choices.
    """
    return _costs(db, version, analysis_of(db, version).camera)


def _costs(db: Session, version: SceneVersion, camera: str = "") -> dict[str, Cost]:
    """The same through one camera, or through any."""
    query = select(Task).where(Task.kind == VISIBLE_COST.name, Task.job_id == version.job_id)
    out: dict[str, Cost] = {}
    for task in db.scalars(query.order_by(Task.id.desc())):
        if task.payload.get("version") != version.id or task.state == "cancelled":
            continue
        payload = Payload.model_validate(task.payload)
        if camera and payload.camera not in ("", camera):
            continue
        out.setdefault(payload.key, Cost(task, payload.choices, _pairs(task)))
    return out


def _pairs(task: Task) -> list[Measured]:
    return [
        Measured(k, Crop.model_validate(p["crop"]), Difference.model_validate(p["difference"]))
        for k, p in enumerate(task.result.get("pairs", []))
    ]


def costs_of_changes(db: Session, line: Sequence[SceneVersion]) -> list[Cost]:
    """What was measured of the changes on the way from version to version, the most visible first.

    Only of choices that were all made.
    """
    found = []
    for before, after in itertools.pairwise(line):
        made = {(c.get("kind"), c.get("key")) for c in after.changes}
        for cost in _costs(db, before).values():
            chosen = {(c.trim, c.target.key) for c in cost.choices}
            if cost.known and cost.pairs and chosen <= made:
                found.append(cost)
    return sorted(found, key=lambda cost: -cost.rms)


def measure(
    db: Session,
    job: Job,
    version: SceneVersion,
    choices: Sequence[Choice],
    every: Mapping[str, Cost] | None = None,
) -> Task:
    """Have it measured what choices change together, unless it was or is under way.

    `every` is what `costs_of` tells of the version, where that is known.

    Raises
    ------
    MillError
        Where there is nothing to measure, or the shot was not looked at yet.
    """
    if not choices:
        raise MillError("Nothing is staged.", "Stage at least one proposal.")
    analysis = analysis_of(db, version)
    if analysis.visibility is None:
        raise MillError(
            "What the shot shows is not known yet.",
            "Wait until the scene is weighed, then try again.",
        )
    key = key_of(choices)
    known = (costs_of(db, version) if every is None else every).get(key)
    if known is not None and (known.known or not known.task.over):
        return known.task
    payload = Payload(version=version.id, camera=analysis.camera, key=key, choices=list(choices))
    return queue.put(db, VISIBLE_COST, payload, job.id)


def measure_staged(db: Session, job: Job, version: SceneVersion, choices: Sequence[Choice]) -> int:
    """Have everything measured that is staged: each by itself, and all together.

    Returns
    -------
    int
        How many are measured, the cheapest first: pictures need no mesh to be built anew, and all
        together come last.
    """
    looks = wanted_looks(choices, analysis_of(db, version))
    every = costs_of(db, version)
    for look in looks:
        measure(db, job, version, look, every)
    return len(looks)


def wanted_looks(choices: Sequence[Choice], analysis: Analysis) -> list[list[Choice]]:
    """What is looked at of a trim list, the cheapest first; copies are looked at once."""
    if not choices:
        return [[]]
    each = list(grouped(choices, "copies", analysis).values())
    singly = sorted(each, key=lambda group: group[0].target.kind != "image")[:MOST_AT_ONCE]
    return [*singly, *([list(choices)] if len(each) > 1 else [])]


def keep_up(db: Session, job: Job, version: SceneVersion, choices: Sequence[Choice]) -> None:
    """Have what is staged measured in the background; looks that nobody wants any more are not
    taken.
    """
    analysis = analysis_of(db, version)
    wanted = {key_of(look) for look in wanted_looks(choices, analysis)}
    for key, cost in costs_of(db, version).items():
        if not cost.task.over and key not in wanted:
            cancel(db, cost.task.id)
    if choices and analysis.visibility is not None:
        measure_staged(db, job, version, choices)


def stop_all(db: Session, version: SceneVersion) -> int:
    """Cancel everything of a version that is being measured or waits; returns how much."""
    going = [c.task for c in costs_of(db, version).values() if not c.task.over]
    for task in going:
        cancel(db, task.id)
    return len(going)


def crop_picture(db: Session, home: Home, job: Job, number: int, crop: int, which: str) -> Path:
    """Where the picture of a crop lies: "before", "after" or "apart".

    Raises NotFoundError where there is none.
    """
    task = db.get(Task, number)
    pairs = task.result.get("pairs", []) if task is not None and task.job_id == job.id else []
    if which not in PICTURES or not 0 <= crop < len(pairs):
        raise NotFoundError("crop of that number")
    return home.files.path(pairs[crop]["pictures"][which])
