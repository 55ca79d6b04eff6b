"""Trials and final frames: written down before they run."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from typing import Any, Literal

from sqlalchemy.orm import Session

from mill_lane.core.crop import Crop, pixels_of
from mill_lane.core.devices.model import Device
from mill_lane.core.errors import MillError
from mill_lane.core.plan.fitting import check_fits
from mill_lane.core.recipe import MOST_SAMPLES, TRIAL_LAYERS, Recipe, Region
from mill_lane.core.recipe_versions import stored
from mill_lane.core.render.path_slots import COMPONENTS
from mill_lane.core.weigh.analysis import Analysis
from mill_lane.core.weigh.ledger import draw_up
from mill_lane.jobs.lookup import (
    analysis_of,
    chosen_recipe,
    device_of,
    find_device,
    find_version,
    recipe_of,
)
from mill_lane.jobs.recipes import merge
from mill_lane.jobs.summary import estimate_for
from mill_lane.store.models import Job, Render, RenderGroup, SceneVersion, Task
from mill_lane.work import queue
from mill_lane.work.kinds.render import RENDER, Payload
from mill_lane.work.runs import next_number

Kind = Literal["trial", "frame"]
HIDEABLE = ("indirect", "shadows", "refraction", "fog", "motion", "depth_of_field")


@dataclass(frozen=True)
class Shot:
    """What is rendered: how, which part, when, and what is left out for looking."""

    recipe: Recipe
    region: Region
    frame: int
    preview: dict[str, Any] = field(default_factory=dict)


@dataclass(frozen=True)
class Preview:
    """What a trial leaves out while looking; the recipe stays as it is."""

    hide: tuple[str, ...] = ()
    only_object: str = ""
    only_component: str = ""
    view: str = "light"

    def stored(self) -> dict[str, Any]:
        """As it is kept: what differs from the plain picture.

        Raises
        ------
        MillError
            For a component that there is none of.
        """
        out: dict[str, Any] = {name: False for name in self.hide if name in HIDEABLE}
        if self.only_object:
            out["only_object"] = self.only_object
        if self.only_component:
            if self.only_component not in COMPONENTS:
                raise MillError(
                    f"“{self.only_component}” is no light component.", "Choose one of the list."
                )
            out["only_component"] = self.only_component
        if self.view != "light":
            out["view"] = self.view
        return out


@dataclass(frozen=True)
class Wish:
    """A trial that somebody wants.

    Attributes
    ----------
    role : str
        The recipe that it starts from: "draft" or "final".
    values : mapping
        Fields of the recipe that are to be otherwise; it keeps them.
    crop : tuple or None
        As shares of the frame; None for all of it.
    frame : int
    device : int or None
        Its number; None for the job's own.
    endless : bool
        Whether no number of samples ends it.
    """

    role: str = "draft"
    values: Mapping[str, Any] = field(default_factory=dict)
    crop: Crop | None = None
    frame: int = 1
    device: int | None = None
    note: str = ""
    endless: bool = False
    preview: Preview = field(default_factory=Preview)


def run_trial(db: Session, job: Job, wish: Wish) -> Render:
    """Queue a trial and write it into the trial book.

    Raises
    ------
    MillError
        Where the recipe, the crop or the frame is wrong, or it would not fit.
    """
    version = find_version(db, job)
    kept = recipe_of(db, job, wish.role)
    changed, shot = shot_of(db, job, wish)
    device = device_of(find_device(db, wish.device) if wish.device else job.device)
    x0, y0, x1, y1 = shot.region
    check_fits(analysis_of(db, version), shot.recipe, device, (x1 - x0, y1 - y0))
    if changed != kept or wish.role == "draft":
        chosen_recipe(db, job, wish.role).data = stored(changed)
    if wish.endless:  # for this trial alone
        endless = shot.recipe.model_copy(update={"samples": MOST_SAMPLES})
        shot = replace(shot, recipe=endless)
    return add_render(db, job, version, shot, device, "trial", wish.note)[0]


def shot_of(db: Session, job: Job, wish: Wish) -> tuple[Recipe, Shot]:
    """The recipe as it is wished for, and what is rendered with it.

    Raises
    ------
    MillError
        Where the recipe, the crop or the frame is wrong.
    """
    analysis = analysis_of(db, find_version(db, job))
    changed = merge(recipe_of(db, job, wish.role), wish.values)
    # A trial keeps what it takes to be taken apart, whatever the final frame is to keep.
    layers = tuple(dict.fromkeys((*changed.kept_layers, *TRIAL_LAYERS)))
    recipe = changed.model_copy(update={"layers": layers})
    region = pixels_of(wish.crop, recipe.width, recipe.height)
    frame = check_frame(wish.frame, analysis)
    return changed, Shot(recipe, region, frame, wish.preview.stored())


def run_frame(db: Session, job: Job, frame: int) -> Render:
    """Queue a frame at full size with the final recipe, as a run of its own.

    Raises
    ------
    MillError
        Where there is no such frame, or it would not fit.
    """
    version = find_version(db, job)
    analysis, recipe = analysis_of(db, version), recipe_of(db, job, "final")
    recipe = recipe.model_copy(update={"layers": recipe.kept_layers})
    device = device_of(job.device)
    check_frame(frame, analysis)
    check_fits(analysis, recipe, device, (recipe.width, recipe.height))
    group = RenderGroup(job_id=job.id, kind="run", number=next_number(RenderGroup, job.id, "run"))
    db.add(group)
    db.flush()
    shot = Shot(recipe, (0, 0, recipe.width, recipe.height), frame)
    return add_render(db, job, version, shot, device, "frame", group=group.id)[0]


def check_frame(frame: int, analysis: Analysis) -> int:
    """The frame, if it is one of the scene's."""
    first, last = analysis.frames
    if not first <= frame <= last:
        raise MillError(
            f"Frame {frame} is outside the range {first} to {last}.", "Choose a frame of the range."
        )
    return frame


def add_render(
    db: Session,
    job: Job,
    version: SceneVersion,
    shot: Shot,
    device: Device,
    kind: Kind,
    note: str = "",
    group: int | None = None,
    key: str | None = None,
) -> tuple[Render, Task]:
    """Write a render down, and queue its task.

    Parameters
    ----------
    db : Session
    job, version : Job, SceneVersion
    shot : Shot
    device : Device
        Kept as it is now, whatever becomes of it.
    kind : str
    note : str
    group : int, optional
        The run or series that it belongs to.
    key : str, optional
        Under which a state was saved that it is to go on from.
    """
    render = Render(
        job_id=job.id,
        kind=kind,
        number=next_number(Render, job.id, kind),
        version_id=version.id,
        group_id=group,
        recipe=stored(shot.recipe),
        region=list(shot.region),
        frame=shot.frame,
        device=device.model_dump(mode="json"),
        note=note,
        preview=shot.preview,
        predicted=predicted(db, job, version, shot, device),
    )
    db.add(render)
    db.flush()
    task = queue.put(db, RENDER, Payload(render=render.id, key=key), job.id)
    render.task_id = task.id
    db.flush()
    return render, task


def predicted(
    db: Session, job: Job, version: SceneVersion, shot: Shot, device: Device
) -> dict[str, Any]:
    """What is expected of a render, kept beside what will be measured."""
    x0, y0, x1, y1 = shot.region
    ledger = draw_up(analysis_of(db, version), shot.recipe, device, (x1 - x0, y1 - y0))
    # What is mapped counts as far as it is read: both ends are told.
    out: dict[str, Any] = {"memory_bytes": ledger.total, "mapped_bytes": ledger.mapped}
    estimate = estimate_for(db, job, version, shot.recipe, (x1 - x0) * (y1 - y0))
    if estimate is not None:
        seconds = {"seconds": estimate.seconds, "margin": estimate.margin}
        out |= seconds | {"source": estimate.source}
    return out
