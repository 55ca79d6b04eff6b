"""The trial book as data, and what a trial's file says of a single pixel."""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Iterable, Mapping
from typing import Any

from sqlalchemy.orm import Session

from mill_lane.core.crop import shares_of
from mill_lane.core.errors import MillError
from mill_lane.core.formats.exr_rows import ExrRows
from mill_lane.core.recipe_versions import read_recipe, stored
from mill_lane.core.render.layers import exr_names
from mill_lane.jobs.lookup import analysis_of, is_elsewhere, trial_figures, trial_log
from mill_lane.store.home import Home
from mill_lane.store.models import Job, Render

# A spreadsheet takes a text that begins so for a formula.
FORMULA = ("=", "+", "-", "@", "\t", "\r")
READ = ("beauty", "albedo", "normal", "depth", "samples", "noise", "object")
MEASURED = (
    "seconds",
    "setup_seconds",
    "samples_mean",
    "noise",
    "noise_p95",
    "mean_luminance",
    "peak_memory_bytes",
    "threads",
    "ended_by",
)


def book(db: Session, job: Job) -> list[dict[str, Any]]:
    """Every trial of a job, the oldest first: what it is, its recipe, what was measured."""
    numbers = {f.number for f in trial_figures(db, job)}
    return [_entry(t) for t in reversed(trial_log(db, job, numbers))]


def _entry(t: Render) -> dict[str, Any]:
    recipe = read_recipe(t.recipe)
    x0, y0, x1, y1 = t.region
    crop = shares_of((x0, y0, x1, y1), recipe.width, recipe.height)
    measured: Mapping[str, Any] = t.measured or {}
    return {
        "number": t.number,
        "note": t.note,
        "scene_version": t.version.number,
        "frame": t.frame,
        "width": recipe.width,
        "height": recipe.height,
        "crop": ",".join(f"{v:.6g}" for v in crop),
        "device": t.device.get("name", ""),
        "simulated": bool(t.device.get("simulated")),
        "elsewhere": is_elsewhere(t),
        "noise_measured": not is_elsewhere(t) or bool(measured.get("noise_measured")),
        "starred": t.starred,
        **{name: measured.get(name) for name in MEASURED},
        "left_out": t.preview or {},
        # What it was rendered with nobody knows here.
        "recipe": {} if is_elsewhere(t) else stored(recipe),
    }


def as_csv(entries: Iterable[Mapping[str, Any]]) -> str:
    """The book as a table, each setting in a column of its own."""
    rows = []
    for entry in entries:
        recipe = {f"recipe.{k}": v for k, v in entry["recipe"].items()}
        rows.append({k: v for k, v in entry.items() if k != "recipe"} | recipe)
    out = io.StringIO()
    names = list(dict.fromkeys(name for row in rows for name in row))
    table = csv.DictWriter(out, names)
    table.writeheader()
    for row in rows:
        table.writerow({name: _plain(value) for name, value in row.items()})
    return out.getvalue()


def _plain(value: Any) -> Any:
    if isinstance(value, dict):
        value = "; ".join(f"{k}={v}" for k, v in value.items())
    elif isinstance(value, list):
        value = "; ".join(map(str, value))
    if isinstance(value, str) and value.startswith(FORMULA):
        return f"'{value}"
    return value


def pixel_of(db: Session, home: Home, trial: Render, x: float, y: float) -> dict[str, Any]:
    """What a trial's file has at a place: linear values, samples, noise, the object.

    Parameters
    ----------
    db : Session
    home : Home
    trial : Render
    x, y : float
        Shares of the whole picture, 0 to 1.

    Raises
    ------
    MillError
        Outside the crop, or where there is no file.
    """
    x0, y0, x1, y1 = trial.region
    column, row = math.floor(x * trial.recipe["width"]), math.floor(y * trial.recipe["height"])
    if not trial.exr or not (x0 <= column < x1 and y0 <= row < y1):
        raise MillError("The trial has nothing there.", "Point at a place within its crop.")
    planes = ExrRows(home.files.path(trial.exr)).planes(row - y0, row - y0 + 1)
    known, values = exr_names(), {}
    for name in READ:
        channels = known.get(name, ())
        if channels and all(c in planes for c in channels):
            values[name] = [float(planes[c][0, column - x0]) for c in channels]
    found: dict[str, Any] = {"x": column, "y": row, "values": values}
    number = round(values.get("object", [0.0])[0])
    outlines = analysis_of(db, trial.version).outlines
    if number > 0:
        name = next((o.name for o in outlines if o.object == number - 1), "")
        found["object"] = name or f"object {number}"
    return found
