"""Pictures made elsewhere, in the trial book beside what was rendered here."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from sqlalchemy.orm import Session

from mill_lane.core.errors import MillError
from mill_lane.core.formats.outside_pictures import ENDINGS, compared, looked_over
from mill_lane.core.names import short_name
from mill_lane.core.recipe_versions import stored
from mill_lane.core.render.layers import exr_names
from mill_lane.jobs.lookup import analysis_of, find_version, recipe_of
from mill_lane.store.files import Taken, list_file
from mill_lane.store.home import Home
from mill_lane.store.models import Job, Render
from mill_lane.work.limited import limited
from mill_lane.work.runs import next_number

ALIKE = 0.01  # of its shape: less apart is the same, cut to whole pixels
FIGURES = ("seconds", "samples_mean", "peak_memory_bytes")
Figures = dict[str, Any]


def is_elsewhere(trial: Render) -> bool:
    """Whether a trial of the book was made elsewhere."""
    return bool((trial.device or {}).get("elsewhere"))


def check_name(name: str) -> str:
    """The name of a file fit to be shown, if its ending is one of a picture's.

    Raises
    ------
    MillError
        For another ending.
    """
    short = short_name(name, "picture")
    if not short.lower().endswith(ENDINGS):
        raise MillError(
            f"“{short}” is no picture that can be read.",
            "Save it as PNG, JPEG, TIFF or EXR.",
            "The trial book stays as it was.",
        )
    return short


def take_in(home: Home, path: Path, name: str, folder: Path) -> tuple[Figures, Taken, Taken]:
    """Look a picture over, in a process of its own, and get it ready to be kept.

    Returns
    -------
    figures : dict
        See `looked_over`.
    exr, picture : Taken
        To be listed.
    """
    exr, png = folder / "elsewhere.exr", folder / "elsewhere.png"
    figures = limited(looked_over, path, name, exr, png, exr_names())
    return figures, home.files.put(exr), home.files.put(png)


def add(db: Session, job: Job, name: str, figures: Figures, exr: Taken, picture: Taken) -> Render:
    """Write a picture into the trial book, as the whole view of its camera."""
    width, height = figures["size"]
    recipe = recipe_of(db, job, "draft")
    final = recipe_of(db, job, "final")
    shape = width / height / (final.width / final.height)
    measured = {k: v for k, v in figures.items() if k != "size"}
    trial = Render(
        job_id=job.id,
        kind="trial",
        number=next_number(Render, job.id, "trial"),
        version_id=find_version(db, job).id,
        recipe=stored(recipe.model_copy(update={"width": width, "height": height, "exposure": 0})),
        region=[0, 0, width, height],
        frame=analysis_of(db, find_version(db, job)).frames[0],
        device={"name": "elsewhere", "elsewhere": True, "file": name},
        measured={**measured, "elsewhere": True, "other_shape": abs(shape - 1.0) > ALIKE},
        picture=list_file(db, picture),
        exr=list_file(db, exr),
    )
    db.add(trial)
    db.flush()
    return trial


def tell(trial: Render, said: Figures) -> None:
    """Keep what somebody says of a picture made elsewhere: time, samples, memory.

    Raises
    ------
    MillError
        For a trial of this program, whose figures were measured.
    """
    _check(trial)
    trial.measured = {**trial.measured, **{k: v for k, v in said.items() if k in FIGURES}}


def measure(home: Home, trial: Render, path: Path, name: str) -> Figures:
    """The noise of a picture made elsewhere, from a second one; see `compared`."""
    _check(trial)
    assert trial.exr is not None
    return limited(compared, path, name, home.files.path(trial.exr), exr_names())


def _check(trial: Render) -> None:
    if not is_elsewhere(trial):
        raise MillError(
            f"Trial {trial.number} was rendered here: its figures were measured.",
            "Only those of pictures made elsewhere can be told.",
            "Nothing was changed.",
        )
