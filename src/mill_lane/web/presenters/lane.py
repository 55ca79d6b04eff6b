"""The Lane: six stations, each with its live figure and a mark."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from mill_lane.core.plan.estimate import Estimate, predict
from mill_lane.core.recipe import Recipe
from mill_lane.core.trim.distance import by_distance
from mill_lane.core.weigh.ledger import Ledger, Verdict, draw_up, judge
from mill_lane.store.models import Job, Run, SceneVersion, Staged, Task, Trial
from mill_lane.web.context import analysis_of, device_of, kept_trials
from mill_lane.web.format import count, gigabytes, predicted, size

Mark = Literal["order", "look", "fail", "todo"]
STATIONS = ("scene", "machine", "fit", "trials", "trim", "finish")
WORDS: dict[Mark, str] = {
    "order": "in order",
    "look": "look here",
    "fail": "will not finish",
    "todo": "not done yet",
}


@dataclass(frozen=True)
class Station:
    name: str
    title: str
    figure: str
    mark: Mark
    key: int
    predicted: bool = False
    task: int | None = None  # the running task whose share is the figure

    @property
    def word(self) -> str:
        return WORDS[self.mark]


@dataclass(frozen=True)
class Lane:
    """The stations, and what they were made from, for the pages to share."""

    stations: list[Station]
    ledger: Ledger
    verdict: Verdict
    estimate: Estimate | None


def lane(db: Session, job: Job, version: SceneVersion) -> Lane:
    """Work out every station's figure from what is kept now."""
    analysis, device, final = (
        analysis_of(version),
        device_of(job.device),
        Recipe.model_validate(job.final),
    )
    ledger = draw_up(analysis, final, device)
    verdict = judge(ledger, device.free_bytes)
    trials = [t for t in kept_trials(db, job) if t.measured]
    proposals = by_distance(analysis)
    staged = db.scalar(select(func.count(Staged.id)).where(Staged.version_id == version.id)) or 0
    estimate = estimate_for(job, version, trials)
    warnings = any(level in ("look", "lost") for level, _ in analysis.notes)
    spare = verdict.headroom / device.free_bytes
    fit: Mark = "fail" if not verdict.fits else "look" if spare < 0.05 else "order"
    figure, mark, running = _finish(db, job, version, estimate)
    figures = [
        ("scene", "Scene", f"{count(analysis.triangles)} tris", "look" if warnings else "order"),
        ("machine", "Machine", f"{gigabytes(device.free_bytes)} free", "order"),
        ("fit", "Fit", f"{size(abs(verdict.headroom))} {'left' if verdict.fits else 'over'}", fit),
        (
            "trials",
            "Trials",
            f"{len(trials)} kept" if trials else "none yet",
            "order" if trials else "todo",
        ),
        (
            "trim",
            "Trim",
            f"{staged} staged"
            if staged
            else f"{len(proposals)} to look at"
            if proposals
            else "in order",
            "look" if proposals else "order",
        ),
        ("finish", "Finish", figure, mark),
    ]
    stations = [
        Station(
            name,
            title,
            figure,
            mark,
            i + 1,
            predicted="±" in figure,
            task=running if name == "finish" else None,
        )  # type: ignore[arg-type]
        for i, (name, title, figure, mark) in enumerate(figures)
    ]
    return Lane(stations, ledger, verdict, estimate)


def estimate_for(job: Job, version: SceneVersion, trials: list[Trial]) -> Estimate | None:
    """The final frame's time from the trial that predicts it best:

    of this scene version, and the largest.
    """
    final = Recipe.model_validate(job.final)
    best: Estimate | None = None
    for t in trials:
        if t.version_id != version.id:
            continue
        x0, y0, x1, y1 = t.region
        e = predict(
            final,
            Recipe.model_validate(t.recipe),
            t.measured["seconds"],
            t.measured["samples_mean"],
            (x1 - x0) * (y1 - y0),
            f"trial {t.number}",
        )
        if e is not None and (best is None or e.margin / e.seconds < best.margin / best.seconds):
            best = e
    return best


def _finish(
    db: Session, job: Job, version: SceneVersion, estimate: Estimate | None
) -> tuple[str, Mark, int | None]:
    run = db.scalars(select(Run).where(Run.job_id == job.id).order_by(Run.id.desc())).first()
    task = db.get(Task, run.task_id) if run and run.task_id else None
    if task is not None and not task.over:
        return f"{task.share * 100:.0f} %", "order", task.id
    if run is not None and run.measured and run.version_id == version.id:
        return f"frame {run.frame} done", "order", None
    if estimate is not None:
        return predicted(estimate.seconds, estimate.margin), "todo", None
    return "try a crop first", "todo", None
