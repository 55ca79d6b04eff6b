"""Rehearsals: some frames small and with few samples, and what they tell of all of them."""

from __future__ import annotations

from pathlib import Path

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from mill_lane.core.plan.frames import early, frames_in_words
from mill_lane.core.plan.night import TimeLeft, from_rehearsal
from mill_lane.core.plan.run_sheet import RunSheet
from mill_lane.core.recipe_versions import read_recipe
from mill_lane.jobs.lookup import analysis_of, find_version, recipe_of
from mill_lane.jobs.nights import begin
from mill_lane.jobs.run_lookup import runs_of
from mill_lane.store.models import Job, Render, RenderGroup
from mill_lane.work.runs import settings_of

# Frames, how many times as small a side is and how wide at least, and samples.
REHEARSED, SMALLER, LEAST_WIDE, FEW_SAMPLES = 5, 4, 160, 8
SEARCHES = 2  # times that frames beside the heaviest are rendered as well, two at most each


def rehearse(db: Session, job: Job, sheet: RunSheet, folder: Path) -> RenderGroup:
    """Render the first, the middle and the last frame of a sheet, and two between, small and with
    few samples, then others beside the heaviest; nothing but pictures to look at is written.

    Raises
    ------
    MillError
        As `begin` does.
    """
    analysis = analysis_of(db, find_version(db, job))
    every = sorted(sheet.listed(analysis.frames))
    frames = early(every)[:REHEARSED]
    final = recipe_of(db, job, "final")
    wanted = bool(sheet.cameras)
    camera, sheet = sheet.by_camera(analysis.cameras, analysis.camera_for(final.camera))[0]
    small = sheet.model_copy(
        update={
            "frames": frames_in_words(frames),
            "order": "straight",
            "name": f"rehearsal/{Path(sheet.name).name}",
            "exr": "",
            "png": True,
            "jpeg": 0,
            "there": "overwrite",
            "machines": "this",
        }
    )
    width = max(LEAST_WIDE, final.width // SMALLER)
    height = max(1, round(final.height * width / final.width))
    samples = max(2, min(FEW_SAMPLES, final.samples))
    recipe = final.model_copy(
        update={
            "camera": camera if wanted else final.camera,
            "width": min(width, final.width),
            "height": min(height, final.height),
            "samples": samples,
            "min_samples": min(final.min_samples, samples),
            "noise": 0.0,
            "layers": (),
            "denoise": "no",
        }
    )
    pixels = final.width * final.height / (recipe.width * recipe.height)
    times = pixels * final.samples / recipe.samples
    return begin(
        db,
        job,
        small,
        folder,
        recipe=recipe,
        rehearsal={"times": times},
        search=(every, SEARCHES),
    )


def rehearsed(db: Session, job: Job, sheet: RunSheet) -> TimeLeft | None:
    """The time of a sheet's frames by the newest rehearsal of the scene version and the recipe."""
    version = find_version(db, job)
    final = recipe_of(db, job, "final")
    for group in runs_of(db, job):
        settings = settings_of(group)
        if settings is None or settings.rehearsal is None or settings.version != version.id:
            continue
        small = read_recipe(settings.recipe)
        alike = {"width", "height", "samples", "min_samples", "noise", "layers", "denoise"}
        if small.model_dump(exclude=alike) != final.model_dump(exclude=alike):
            continue
        query = select(Render.frame, func.json_extract(Render.measured, "$.seconds")).where(
            Render.group_id == group.id, ~Render.removed, Render.picture.is_not(None)
        )
        seconds = {frame: took for frame, took in db.execute(query) if took}
        pixels = final.width * final.height / (small.width * small.height)
        frames = sheet.listed(analysis_of(db, version).frames)
        return from_rehearsal(seconds, pixels * final.samples / small.samples, frames)
    return None
