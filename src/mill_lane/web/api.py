"""Changes that the page asks for.  Every answer is JSON; `go` names a page to show next."""

from __future__ import annotations

import json
from dataclasses import dataclass, field
from typing import Annotated, Any, Literal

from fastapi import APIRouter, Body, HTTPException
from pydantic import BaseModel, Field
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from mill_lane.core.devices.model import GB, Device
from mill_lane.core.errors import MillError
from mill_lane.core.plan.fitting import check_fits
from mill_lane.core.recipe import MOST_SAMPLES, TRIAL_LAYERS, Recipe, clip_region
from mill_lane.core.render.slots import COMPONENTS
from mill_lane.store.models import (
    DeviceRow,
    Job,
    Run,
    SceneVersion,
    Staged,
    StoredFile,
    Task,
    Trial,
)
from mill_lane.web.context import (
    Db,
    analysis_of,
    device_of,
    devices,
    find_job,
    find_version,
    proposed,
)
from mill_lane.work import queue

router = APIRouter(prefix="/api")


class Done(BaseModel):
    go: str | None = None


class DeviceForm(BaseModel):
    """A device as the Machine page has it: sizes in GB."""

    name: Annotated[str, Field(min_length=1, max_length=80)]
    memory_gb: Annotated[float, Field(gt=0, le=10000, title="Memory")]
    desktop_gb: Annotated[float, Field(ge=0, le=10000, title="Kept for the desktop")] = 0
    threads_free: Annotated[int, Field(ge=0, le=4095)] = 1
    samples_in_flight: Annotated[int, Field(ge=0, le=10**9)] = 262_144


@router.post("/jobs/{job}/devices")
def add_card(db: Db, job: int, form: DeviceForm) -> Done:
    """Add a simulated card, and choose it."""
    row = DeviceRow(data=_card(form).model_dump(mode="json"))
    db.add(row)
    db.flush()
    find_job(db, job).device_id = row.id
    return Done()


def _card(form: DeviceForm) -> Device:
    try:
        return Device(
            name=form.name,
            kind="card",
            memory_bytes=round(form.memory_gb * GB),
            desktop_bytes=round(form.desktop_gb * GB),
            samples_in_flight=form.samples_in_flight,
        )
    except ValueError as e:
        raise MillError(_first(e), "Change the figures and save again.") from e


def _first(e: ValueError) -> str:
    errors = getattr(e, "errors", None)
    text = str(errors()[0]["msg"]) if errors else str(e)
    return text.removeprefix("Value error, ") + "."


@router.put("/devices/{device}")
def edit_device(db: Db, device: int, form: DeviceForm) -> Done:
    """Change a device.  Of the computer's own CPU only what is kept free can be changed."""
    row = _device(db, device)
    old = device_of(row)
    if old.kind == "card":
        row.data = _card(form).model_dump(mode="json")
        return Done()
    try:
        new = old.model_copy(
            update={"desktop_bytes": round(form.desktop_gb * GB), "threads_free": form.threads_free}
        )
        row.data = Device.model_validate(new.model_dump()).model_dump(mode="json")
    except ValueError as e:
        raise MillError(_first(e), "Change the figures and save again.") from e
    return Done()


@router.delete("/devices/{device}")
def remove_device(db: Db, device: int) -> Done:
    """Take a simulated card away; jobs that used it go back to the CPU."""
    row = _device(db, device)
    if row.found:
        raise MillError(
            "This computer's own CPU cannot be removed.", "Choose another device instead."
        )
    row.removed = True
    cpu = next(d for d in devices(db) if d.found)
    for job in db.scalars(select(Job).where(Job.device_id == row.id)):
        job.device_id = cpu.id
    return Done()


@router.post("/devices/{device}/restore")
def restore_device(db: Db, device: int) -> Done:
    """Undo a removal."""
    row = db.get(DeviceRow, device)
    if row is None:
        raise HTTPException(404)
    row.removed = False
    return Done()


def _device(db: Session, number: int) -> DeviceRow:
    row = db.get(DeviceRow, number)
    if row is None or row.removed:
        raise HTTPException(404)
    return row


@router.put("/jobs/{job}/device")
def choose_device(db: Db, job: int, device: Annotated[int, Body(embed=True)]) -> Done:
    """Choose what the job renders on."""
    find_job(db, job).device_id = _device(db, device).id
    return Done()


@router.put("/jobs/{job}/name")
def rename(
    db: Db, job: int, name: Annotated[str, Body(embed=True, min_length=1, max_length=120)]
) -> Done:
    find_job(db, job).name = name.strip() or "Job"
    return Done()


@router.delete("/jobs/{job}")
def remove_job(db: Db, job: int) -> Done:
    """Put a job away; its files stay until it is restored or the folder is cleaned."""
    row = find_job(db, job)
    for task in db.scalars(select(Task).where(Task.job_id == row.id)):
        queue.cancel(db, task)
    row.removed = True
    return Done(go=f"/?removed={row.id}")


@router.post("/jobs/{job}/restore")
def restore_job(db: Db, job: int) -> Done:
    row = db.get(Job, job)
    if row is None:
        raise HTTPException(404)
    row.removed = False
    return Done(go="/")


@router.put("/jobs/{job}/recipes/{role}")
def edit_recipe(db: Db, job: int, role: str, values: Annotated[dict[str, Any], Body()]) -> Done:
    """Change some fields of the draft or final recipe."""
    row = find_job(db, job)
    if role not in ("draft", "final"):
        raise HTTPException(404)
    new = merged(row.draft if role == "draft" else row.final, values).model_dump(mode="json")
    if role == "draft":
        row.draft = new
    else:
        row.final = new
    return Done()


def merged(old: dict[str, Any], values: dict[str, Any]) -> Recipe:
    """A recipe with some fields replaced.  Raises MillError naming the field that is wrong."""
    known = {k: v for k, v in values.items() if k in Recipe.model_fields}
    if known.get("sun_elevation") == "":
        known["sun_elevation"] = None
    if values.get("converged_fraction_percent") not in (None, ""):
        try:
            known["converged_fraction"] = float(values["converged_fraction_percent"]) / 100
        except (TypeError, ValueError) as e:
            raise MillError(
                "Share of pixels clean: not a number.", "Give it in percent, 100 for all of them."
            ) from e
    lamps = {k[5:]: v for k, v in values.items() if k.startswith("lamp_") and k != "light_scales"}
    if lamps:
        kept = {k: v for k, v in old.get("light_scales", {}).items() if k not in lamps}
        known["light_scales"] = kept | {
            k: v for k, v in lamps.items() if str(v) not in ("", "1", "1.0")
        }
    if known.get("noise") is not None and values.get("noise_percent") is not None:
        known.pop("noise")
    if values.get("noise_percent") not in (None, ""):
        try:
            known["noise"] = float(values["noise_percent"]) / 100
        except (TypeError, ValueError) as e:
            raise MillError(
                "Noise threshold: not a number.", "Give it in percent, or 0 to switch it off."
            ) from e
    try:
        return Recipe.model_validate({**old, **known})
    except ValueError as e:
        first = e.errors()[0] if hasattr(e, "errors") else {"msg": str(e), "loc": ()}
        field = Recipe.model_fields.get(str(first["loc"][0])) if first["loc"] else None
        text = str(first["msg"]).removeprefix("Value error, ")
        raise MillError(
            f"{field.title}: {text}." if field else f"{text}.", "Correct it and send it again."
        ) from e


class TrialForm(BaseModel):
    """A trial to be run: the changed fields of the recipe, the crop, the frame, the device."""

    model_config = {"extra": "allow"}

    after: int | None = None  # the trial it will be compared with
    role: str = "draft"
    region_0: int = 0
    region_1: int = 0
    region_2: int = 0
    region_3: int = 0
    frame: int = 1
    device: int | None = None
    note: Annotated[str, Field(max_length=2000)] = ""
    whole: bool = False
    endless: bool = False  # until it is stopped by hand, or by the noise or the time
    # What is left out for looking; the recipe stays as it is.
    hide: list[Literal["indirect", "shadows", "refraction", "fog", "motion", "depth_of_field"]] = []
    only_object: Annotated[str, Field(max_length=200)] = ""
    only_component: Annotated[str, Field(max_length=40)] = ""
    view: Literal["light", "occlusion", "wires"] = "light"


@router.post("/jobs/{job}/trials")
def run_trial(db: Db, job: int, form: TrialForm) -> Done:
    """Queue a trial and write it into the trial book."""
    row = find_job(db, job)
    version = find_version(db, row)
    analysis = analysis_of(version)
    recipe = merged(row.final if form.role == "final" else row.draft, form.model_extra or {})
    # A trial keeps what it takes to be taken apart, whatever the final frame is to keep.
    recipe = recipe.model_copy(
        update={"layers": tuple(dict.fromkeys((*recipe.layers, *TRIAL_LAYERS)))}
    )
    region = (form.region_0, form.region_1, form.region_2, form.region_3)
    if form.whole or region == (0, 0, 0, 0):
        region = (0, 0, recipe.width, recipe.height)
    try:
        region = clip_region(region, recipe.width, recipe.height)
    except ValueError as e:
        raise MillError(
            "The crop does not touch the picture.", "Drag a crop over the picture."
        ) from e
    frame = check_frame(form.frame, analysis.frames)
    device_row = _device(db, form.device) if form.device else row.device
    device = device_of(device_row)
    check_fits(analysis, recipe, device, (region[2] - region[0], region[3] - region[1]))
    if form.role == "draft":
        row.draft = recipe.model_dump(mode="json")
    if form.endless:  # for this trial alone
        recipe = recipe.model_copy(update={"samples": MOST_SAMPLES})
    trial, _ = add_trial(
        db, row, version, Shot(recipe, region, frame, preview_of(form)), device, form.note
    )
    crop = ",".join(map(str, region))
    return Done(
        go=f"/jobs/{row.id}/trials?b={trial.number}"
        + (f"&a={form.after}" if form.after else "")
        + f"&region={crop}"
    )


@dataclass(frozen=True)
class Shot:
    """What is rendered: how, which part, when, and what is left out for looking."""

    recipe: Recipe
    region: tuple[int, int, int, int]
    frame: int
    preview: dict[str, Any] = field(default_factory=dict)


def add_trial(
    db: Session, job: Job, version: SceneVersion, shot: Shot, device: Device, note: str
) -> tuple[Trial, Task]:
    """A new trial in the book, and its task in the queue."""
    number = 1 + (db.scalar(select(func.max(Trial.number)).where(Trial.job_id == job.id)) or 0)
    task = queue.put(
        db, "trial", render_payload(db, version, shot, note) | {"kind": "trial"}, job.id
    )
    trial = Trial(
        job_id=job.id,
        version_id=version.id,
        task_id=task.id,
        number=number,
        recipe=shot.recipe.model_dump(mode="json"),
        region=list(shot.region),
        frame=shot.frame,
        device=device.name + (" (simulated)" if device.simulated else ""),
        note=note,
        preview=shot.preview,
    )
    db.add(trial)
    db.flush()
    return trial, task


def preview_of(form: TrialForm) -> dict[str, Any]:
    """What a trial leaves out, as `Preview` takes it; nothing where nothing is."""
    out: dict[str, Any] = dict.fromkeys(form.hide, False)
    if form.only_object:
        out["only_object"] = form.only_object
    if form.only_component:
        if form.only_component not in COMPONENTS:
            raise MillError(
                f"“{form.only_component}” is no light component.", "Choose one of the list."
            )
        out["only_component"] = form.only_component
    if form.view != "light":
        out["view"] = form.view
    return out


def check_frame(frame: int, frames: tuple[int, int]) -> int:
    if not frames[0] <= frame <= frames[1]:
        raise MillError(
            f"Frame {frame} is outside the range {frames[0]} to {frames[1]}.",
            "Choose a frame of the range.",
        )
    return frame


def render_payload(
    db: Session, version: SceneVersion, shot: Shot, note: str = ""
) -> dict[str, Any]:
    """What the computing process gets.

    A simulated card's pixels come from the CPU, with the CPU's threads and memory.

    Raises MillError when the recipe's sky picture is not in the store.
    """
    cpu = device_of(next(d for d in devices(db) if d.found))
    sky = shot.recipe.environment_picture
    if sky and db.get(StoredFile, sky.split("/")[0]) is None:
        raise MillError(
            "The sky picture is no longer there.", "Choose it again under “Sky picture”."
        )
    values = shot.recipe.model_dump(mode="json")
    shown = {"region": list(shot.region), "frame": shot.frame, "preview": shot.preview}
    return {
        "version": version.id,
        "recipe": values,
        **shown,
        "threads": cpu.render_threads,
        "memory_limit": cpu.free_bytes,
        "key": f"{version.file_hash}:{sorted(values.items())}:{sorted(shown.items())}",
        # What a saved session tells whoever loads it.
        "about": json.dumps(
            {"file_hash": version.file_hash, "recipe": values, **shown, "note": note}
        ),
    }


@router.put("/trials/{trial}/note")
def note_trial(db: Db, trial: int, note: Annotated[str, Body(embed=True, max_length=2000)]) -> Done:
    _trial(db, trial).note = note.strip()
    return Done()


@router.delete("/trials/{trial}")
def remove_trial(db: Db, trial: int) -> Done:
    """Take a trial out of the book; it can be put back."""
    row = _trial(db, trial)
    row.removed = True
    return Done(go=f"/jobs/{row.job_id}/trials?removed={row.id}")


@router.post("/trials/{trial}/restore")
def restore_trial(db: Db, trial: int) -> Done:
    row = _trial(db, trial)
    row.removed = False
    return Done(go=f"/jobs/{row.job_id}/trials?a={row.number}")


def _trial(db: Session, number: int) -> Trial:
    row = db.get(Trial, number)
    if row is None:
        raise HTTPException(404)
    return row


@router.post("/tasks/{task}/cancel")
def cancel_task(db: Db, task: int) -> Done:
    """Stop a task.  A trial or run with at least one whole pass is kept as it is."""
    row = db.get(Task, task)
    if row is None:
        raise HTTPException(404)
    queue.cancel(db, row)
    return Done()


class Wishes(BaseModel):
    """What the artist wants of a render while it runs:

    to pause it, to go on, or where to look first.
    """

    pause: bool | None = None
    priority: tuple[float, float] | None = None  # in pixels of the whole picture


@router.put("/tasks/{task}/wants")
def want(db: Db, task: int, wishes: Wishes) -> Done:
    """Pause a render, let it go on, or move the point that is refined first."""
    row = db.get(Task, task)
    if row is None:
        raise HTTPException(404)
    queue.want(db, row, **wishes.model_dump(exclude_unset=True))
    return Done()


@router.post("/tasks/{task}/again")
def task_again(db: Db, task: int) -> Done:
    """Run a failed or cancelled task again, from its checkpoint where it has one."""
    row = db.get(Task, task)
    if row is None:
        raise HTTPException(404)
    queue.again(db, row)
    return Done()


class StageForm(BaseModel):
    images: list[int] = []
    stage: bool = True
    all: bool = False
    rule: Literal["distance", "footprint"] = "distance"


@router.post("/jobs/{job}/staged")
def stage(db: Db, job: int, form: StageForm) -> Done:
    """Put textures on the trim list, or take them off."""
    row = find_job(db, job)
    version = find_version(db, row)
    proposals = {p.image: p for p in proposed(form.rule, analysis_of(version), row.final["height"])}
    wanted = set(proposals) if form.all else set(form.images) & set(proposals)
    have = {s.image: s for s in db.scalars(select(Staged).where(Staged.version_id == version.id))}
    for image in wanted:
        limit = max(proposals[image].new)
        if form.stage and image not in have:
            db.add(Staged(version_id=version.id, image=image, limit=limit))
        elif form.stage:
            have[image].limit = limit
        elif not form.stage and image in have:
            db.delete(have[image])
    return Done()


@router.post("/jobs/{job}/trim")
def apply_trim(db: Db, job: int) -> Done:
    """Make a new scene version with the staged changes; the old one stays."""
    row = find_job(db, job)
    version = find_version(db, row)
    staged = list(db.scalars(select(Staged).where(Staged.version_id == version.id)))
    if not staged:
        raise MillError("Nothing is staged.", "Stage at least one texture.")
    busy = db.scalars(
        select(Task).where(
            Task.job_id == row.id, Task.kind == "trim", Task.state.in_(("queued", "running"))
        )
    )
    if busy.first() is not None:
        raise MillError("A trim of this scene is running already.", "Wait until it is done.")
    sizes = {str(s.image): s.limit for s in staged}
    queue.put(
        db, "trim", {"version": version.id, "sizes": sizes, "name": version.file_name}, row.id
    )
    return Done()


class ExportForm(BaseModel):
    """How a scene is to go out: an OBJ with its textures in a ZIP, or one USDZ."""

    format: Literal["obj", "usdz"]


@router.post("/jobs/{job}/exports")
def export(db: Db, job: int, form: ExportForm) -> Done:
    """Write the scene version in use in another format."""
    row = find_job(db, job)
    version = find_version(db, row)
    ending = {"obj": "zip", "usdz": "usdz"}[form.format]
    queue.put(
        db,
        "export",
        {"version": version.id, "number": version.number, "ending": ending, "format": form.format},
        row.id,
    )
    return Done()


class Reading(BaseModel):
    """How a file that says neither is to be read: its unit, and the axis that points up."""

    unit: Literal["m", "cm", "mm", "in", "ft"]
    up: Literal["y", "z"]


@router.post("/jobs/{job}/reading")
def read_again(db: Db, job: int, form: Reading) -> Done:
    """Read the scene in another unit, or with another axis up: a new version of it."""
    row = find_job(db, job)
    version = find_version(db, row)
    analysis = analysis_of(version)
    if analysis.read_as is None:
        raise MillError(
            "This scene says itself in which unit it is.", "Change the unit where it was made."
        )
    if analysis.read_as == (form.unit, form.up):
        return Done()
    payload = {
        "version": version.id,
        "name": version.file_name,
        "notes": analysis.notes,
        **form.model_dump(),
    }
    queue.put(db, "read_in", payload, row.id)
    return Done()


@router.put("/jobs/{job}/version")
def use_version(db: Db, job: int, version: Annotated[int, Body(embed=True)]) -> Done:
    """Go back, or forward, to another version of the scene."""
    row = find_job(db, job)
    found = db.get(SceneVersion, version)
    if found is None or found.job_id != row.id:
        raise HTTPException(404)
    row.version_id = found.id
    return Done()


@router.post("/jobs/{job}/runs")
def run_final(db: Db, job: int, frame: Annotated[int, Body(embed=True)] = 1) -> Done:
    """Render a frame at full size with the final recipe."""
    row = find_job(db, job)
    version = find_version(db, row)
    analysis = analysis_of(version)
    recipe, device = Recipe.model_validate(row.final), device_of(row.device)
    check_frame(frame, analysis.frames)
    check_fits(analysis, recipe, device, (recipe.width, recipe.height))
    whole = (0, 0, recipe.width, recipe.height)
    task = queue.put(db, "run", render_payload(db, version, Shot(recipe, whole, frame)), row.id)
    name = device.name + (" (simulated)" if device.simulated else "")
    db.add(
        Run(
            job_id=row.id,
            version_id=version.id,
            task_id=task.id,
            frame=frame,
            device=name,
            recipe=recipe.model_dump(mode="json"),
        )
    )
    return Done()
