"""Pictures made elsewhere, in the trial book beside what was rendered here."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from sqlalchemy.orm import Session

from mill_lane.core.crop import Crop
from mill_lane.core.errors import MillError
from mill_lane.core.formats.outside_pictures import ENDINGS, compared, looked_over
from mill_lane.core.formats.pictures import picture_name
from mill_lane.core.recipe import LARGEST
from mill_lane.core.recipe_versions import stored
from mill_lane.core.render.layers import exr_names
from mill_lane.jobs.lookup import analysis_of, find_version, is_elsewhere, recipe_of
from mill_lane.store.files import Taken, list_file
from mill_lane.store.home import Home
from mill_lane.store.models import Job, Render
from mill_lane.work.limited import limited
from mill_lane.work.runs import next_number

# What can be told of a picture, and under which name it is kept.
TOLD = {"time": "seconds", "samples": "samples_mean", "gigabytes": "peak_memory_bytes"}
SECONDS = 180.0  # that looking a picture over may take: one of 33 million pixels takes 27
ALIKE = 1.06  # of two shapes: a crop drawn by hand is off by a few pixels
Figures = dict[str, Any]


def check_name(name: str) -> str:
    """The name of a file fit to be shown, if its ending is one of a picture's.

    Raises
    ------
    MillError
        For another ending.
    """
    wanted = "Save it as PNG, JPEG, TIFF or EXR."
    return picture_name(name, ENDINGS, wanted, "The trial book stays as it was.")


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
    figures = limited(looked_over, path, name, exr, png, exr_names(), seconds=SECONDS)
    return figures, home.files.put(exr), home.files.put(png)


def add(db: Session, job: Job, name: str, figures: Figures, exr: Taken, picture: Taken) -> Render:
    """Write a picture into the trial book, as the view of the job's camera at its first frame.

    Parameters
    ----------
    db : Session
    job : Job
    name : str
        Of the file.
    figures : dict
        See `looked_over`.
    exr, picture : Taken
    """
    width, height = figures["size"]
    recipe = recipe_of(db, job, "draft")
    version = find_version(db, job)
    measured = {k: v for k, v in figures.items() if k not in ("size", "region")}
    trial = Render(
        job_id=job.id,
        kind="trial",
        number=next_number(Render, job.id, "trial"),
        version_id=version.id,
        recipe=stored(recipe.model_copy(update={"width": width, "height": height, "exposure": 0})),
        region=list(figures["region"]),
        frame=analysis_of(db, version).frames[0],
        device={"name": "elsewhere", "elsewhere": True, "file": name},
        measured=measured,
        picture=list_file(db, picture),
        exr=list_file(db, exr),
    )
    db.add(trial)
    db.flush()
    return trial


def tell(trial: Render, said: Figures) -> None:
    """Keep what somebody says of a picture made elsewhere.

    Parameters
    ----------
    trial : Render
    said : dict
        Seconds, samples a pixel and gigabytes by the names of `TOLD`; None takes one back.

    Raises
    ------
    MillError
        For a trial of this program, whose figures were measured.
    """
    _check(trial)
    kept = {TOLD[name]: value for name, value in said.items()}
    if said.get("gigabytes"):
        kept[TOLD["gigabytes"]] = round(said["gigabytes"] * 1e9)
    trial.measured = {**trial.measured, **kept}


def place(db: Session, job: Job, trial: Render, crop: Crop | None) -> None:
    """Say which part of the view a picture made elsewhere shows; None: all of it.

    A pixel of it stays a pixel: the whole view is as much larger as the crop says, in the shape of
    the job's final frame.  As high as the picture is, it stands in the middle of the crop.

    Parameters
    ----------
    db : Session
    job : Job
    trial : Render
    crop : tuple of float or None
        Left, top, right, bottom in shares of the frame.

    Raises
    ------
    MillError
        Where crop and picture have different shapes, where the whole view would be too large, and
        for a trial of this program.
    """
    _check(trial)
    x0, y0, x1, y1 = trial.region
    wide, high = x1 - x0, y1 - y0
    if crop is None:
        trial.recipe = {**trial.recipe, "width": wide, "height": high}
        trial.region = [0, 0, wide, high]
        return
    final = recipe_of(db, job, "final")
    left, top, right, bottom = crop
    width = max(wide, round(wide / (right - left)))
    height = max(high, round(width * final.height / final.width))
    if not 1 / ALIKE < (bottom - top) * height / high < ALIKE:
        raise MillError(
            f"The picture is {wide} × {high}, of another shape than the crop that is drawn.",
            "Draw the crop as the picture shows it.",
            "It stands where it stood.",
        )
    if max(width, height) > LARGEST:
        raise MillError(
            f"The whole view would be {width:,} × {height:,} pixels, over {LARGEST:,}.",
            "Draw a larger crop.",
            "It stands where it stood.",
        )
    x = min(round(left * width), width - wide)
    y = min(max(0, round((top + bottom) / 2 * height - high / 2)), height - high)
    trial.recipe = {**trial.recipe, "width": width, "height": height}
    trial.region = [x, y, x + wide, y + high]


def measure(home: Home, trial: Render, path: Path, name: str) -> Figures:
    """The noise of a picture made elsewhere, from a second one; see `compared`."""
    _check(trial)
    assert trial.exr is not None
    return limited(compared, path, name, home.files.path(trial.exr), exr_names(), seconds=SECONDS)


def keep_noise(db: Session, trial: Render, figures: Figures) -> None:
    """Keep what was measured of a picture's noise, in place of the estimate."""
    trial.measured = {**trial.measured, **figures}


def _check(trial: Render) -> None:
    if not is_elsewhere(trial):
        raise MillError(
            f"Trial {trial.number} was rendered here: its figures were measured.",
            "Only those of pictures made elsewhere can be told.",
            "Nothing was changed.",
        )
