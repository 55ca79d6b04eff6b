"""A job at a glance: the figures that every page shows, without their words."""

from __future__ import annotations

from dataclasses import dataclass

from sqlalchemy import func, select
from sqlalchemy.orm import Session, joinedload

from mill_lane.core.devices.model import Device
from mill_lane.core.plan.estimate import Estimate, predict
from mill_lane.core.recipe import Recipe
from mill_lane.core.recipe_versions import read_recipe
from mill_lane.core.weigh.analysis import Analysis
from mill_lane.core.weigh.ledger import Ledger, Verdict, draw_up, judge
from mill_lane.jobs.lookup import MADE_HERE, analysis_of, device_of, recipe_of
from mill_lane.jobs.proposals import Proposals, propose_all
from mill_lane.store.models import Job, Render, RenderGroup, SceneVersion, TrimEntry
from mill_lane.work.kinds.final import largest_picture

SAME_WORK = "texture_size"  # the trim after which a render takes as long as before


@dataclass(frozen=True)
class Summary:
    """What is known of a job now.

    Attributes
    ----------
    job, version : Job, SceneVersion
    analysis : Analysis
        Of the version in use.
    device : Device
    final : Recipe
    height : int
        In pixels, of the largest picture: as it is delivered, or by the final recipe.
    ledger, verdict : Ledger, Verdict
        Of the final recipe on the device.
    estimate : Estimate or None
        Of the time of a final frame.
    trials, staged : int
        How many there are.
    proposed : list of Proposals
        Of every trim.
    newest_frame : Render or None
    night : (int, int) or None
        Frames done and frames in all of the run that the newest frame belongs to.
    """

    job: Job
    version: SceneVersion
    analysis: Analysis
    device: Device
    final: Recipe
    height: int
    ledger: Ledger
    verdict: Verdict
    estimate: Estimate | None
    trials: int
    staged: int
    proposed: list[Proposals]
    newest_frame: Render | None
    night: tuple[int, int] | None = None

    @property
    def proposals(self) -> int:
        """How many proposals there are, of all trims."""
        return sum(not p.left_alone for x in self.proposed for p in x.found)


def summarise(db: Session, job: Job, version: SceneVersion) -> Summary:
    """Work out a job's figures from what is kept now."""
    analysis, device, final = (
        analysis_of(db, version),
        device_of(job.device),
        recipe_of(db, job, "final"),
    )
    ledger = draw_up(analysis, final, device)
    staged = select(func.count(TrimEntry.id)).where(TrimEntry.version_id == version.id)
    frame = (
        select(Render)
        .where(Render.job_id == job.id, Render.kind == "frame", ~Render.removed)
        .options(joinedload(Render.task))
        .order_by(Render.id.desc())
        .limit(1)
    )
    newest = db.scalars(frame).first()
    return Summary(
        job=job,
        version=version,
        analysis=analysis,
        device=device,
        final=final,
        height=largest_picture(db, job.id),
        ledger=ledger,
        verdict=judge(ledger, device.free_bytes),
        estimate=estimate_for(db, job, version, final, final.width * final.height),
        trials=_measured_trials(db, job),
        staged=db.scalar(staged) or 0,
        proposed=propose_all(db, job),
        newest_frame=newest,
        night=_night(db, newest),
    )


def _night(db: Session, frame: Render | None) -> tuple[int, int] | None:
    """Frames done and in all of the run by a sheet that a frame belongs to."""
    if frame is None or frame.group_id is None:
        return None
    every = func.json_array_length(RenderGroup.settings, "$.every")
    count = db.scalar(select(every).where(RenderGroup.id == frame.group_id))
    if not count:
        return None
    query = select(func.count(Render.id)).where(
        Render.group_id == frame.group_id, ~Render.removed, Render.picture.is_not(None)
    )
    return db.scalar(query) or 0, int(count)


def _measured_trials(db: Session, job: Job) -> int:
    """Trials that have an answer: those with a picture."""
    query = select(func.count(Render.id)).where(
        Render.job_id == job.id,
        Render.kind == "trial",
        ~Render.removed,
        Render.picture.is_not(None),
    )
    return db.scalar(query) or 0


def _alike(db: Session, version: SceneVersion) -> list[int]:
    """The version and those before it that have the same geometry, materials and lights."""
    out = [version.id]
    while version.parent_id is not None:
        if any(change.get("kind") != SAME_WORK for change in version.changes):
            break
        found = db.get(SceneVersion, version.parent_id)
        if found is None:
            break
        version = found
        out.append(version.id)
    return out


def estimate_for(
    db: Session, job: Job, version: SceneVersion, recipe: Recipe, pixels: int
) -> Estimate | None:
    """The time of so many pixels, from the trial that predicts it best.

    That is one through the same camera of this scene version, or of one that it differs from in the
    size of its textures alone, with the smallest margin; None without any.
    """
    rows = db.execute(
        select(Render.number, Render.recipe, Render.region, Render.measured).where(
            Render.job_id == job.id,
            Render.kind == "trial",
            Render.version_id.in_(_alike(db, version)),
            Render.picture.is_not(None),
            ~Render.removed,
            MADE_HERE,
        )
    )
    best: Estimate | None = None
    analysis = analysis_of(db, version)
    camera = analysis.camera_for(recipe.camera)
    known: dict[str, Recipe] = {}
    for number, values, region, measured in rows:
        text = repr(values)
        if text not in known:
            known[text] = read_recipe(values)
        if analysis.camera_for(known[text].camera) != camera:
            continue  # another view takes another time
        x0, y0, x1, y1 = region
        estimate = predict(
            recipe,
            known[text],
            measured["seconds"],
            measured["samples_mean"],
            (x1 - x0) * (y1 - y0),
            f"trial {number}",
            pixels,
        )
        if estimate is not None and (
            best is None or estimate.margin / estimate.seconds < best.margin / best.seconds
        ):
            best = estimate
    return best
