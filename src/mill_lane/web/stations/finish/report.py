"""The report of a run: which scene, what was changed, how it was rendered, what was told."""

from __future__ import annotations

import statistics
from dataclasses import dataclass
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from mill_lane.core.devices.model import Device
from mill_lane.core.errors import NotFoundError
from mill_lane.core.plan.frames import frames_in_words
from mill_lane.core.recipe import Recipe
from mill_lane.core.recipe_versions import read_recipe
from mill_lane.core.trim.report import report_rows
from mill_lane.core.weigh.counts import texture_counts
from mill_lane.core.weigh.ledger import draw_up
from mill_lane.jobs import run_lookup
from mill_lane.jobs.costs import Cost, costs_of_changes
from mill_lane.jobs.lookup import analysis_of
from mill_lane.jobs.summary import Summary
from mill_lane.jobs.versions import changes_since_opened, line_of
from mill_lane.store.models import Render, SceneVersion
from mill_lane.web.shared.devices import device_words
from mill_lane.web.shared.format import count, duration, gigabytes, percent, predicted

MOST_PICTURES = 24
MOST_LOOKS = 6


@dataclass(frozen=True)
class Scene:
    """A scene version in figures."""

    title: str
    file: str
    hash: str
    triangles: str
    textures: int
    memory: str


def report_context(db: Session, summary: Summary, run: int) -> dict[str, Any]:
    """All that the report needs.

    Raises
    ------
    NotFoundError
        Where there is no such run.
    """
    group = next((g for g in run_lookup.runs_of(db, summary.job) if g.number == run), None)
    if group is None:
        raise NotFoundError("run of that number")
    seen = run_lookup.overview(db, group)
    settings = seen.settings
    recipe, device = read_recipe(settings.recipe), Device.model_validate(settings.device)
    version = db.get_one(SceneVersion, settings.version)
    line = line_of(db, version)
    shown = [line[0], version] if line[0].id != version.id else [version]
    done = [row for row in seen.rows if row.picture]
    pictured = done[:: max(1, -(-len(done) // MOST_PICTURES))]
    return {
        "seen": seen,
        "written": frames_in_words([row.frame for row in done]) or "none",
        "scenes": [_scene(db, v, recipe, device) for v in shown],
        "changes": report_rows(changes_since_opened(db, version)),
        "looks": _looks(costs_of_changes(db, line)),
        "parts": _parts(db, seen),
        "facts": _facts(recipe, settings.device),
        "times": _times(db, seen),
        "pictures": pictured,
        "marked": [row for row in seen.rows if row.troubles],
    }


@dataclass(frozen=True)
class Look:
    """A crop before and after what was changed: where its pictures lie, and what is told of it."""

    address: str  # below the job's own
    what: str
    frame: int
    size: tuple[int, int]
    rms: float
    ssim: float
    verdict: str


def _looks(costs: list[Cost]) -> list[Look]:
    """The crops that changed most, one of each change that was measured."""
    out = []
    for cost in costs[:MOST_LOOKS]:
        worst = max(cost.pairs, key=lambda p: p.difference.rms)
        names = list(dict.fromkeys(c.target.name for c in cost.choices))
        more = f" and {len(names) - 2} more" if len(names) > 2 else ""
        x0, y0, x1, y1 = worst.crop.region
        alike = worst.difference.less_than_grain
        out.append(
            Look(
                address=f"crops/{cost.task.id}/{worst.number}",
                what=", ".join(names[:2]) + more,
                frame=worst.crop.frame,
                size=(x1 - x0, y1 - y0),
                rms=worst.difference.rms,
                ssim=worst.difference.ssim,
                verdict="less than the grain" if alike else "more than the grain",
            )
        )
    return out


def _parts(db: Session, seen: run_lookup.Overview) -> str:
    """How the parts of the scene added up, where it was rendered in parts."""
    told = run_lookup.parts_told(db, seen.group)
    if told is None:
        return ""
    light, difference = told
    return (
        f"On a small frame the parts added up to {light:+.2%} of light, with a difference of "
        f"{difference:.1%} (RMS) from the whole"
    )


def _scene(db: Session, version: SceneVersion, recipe: Recipe, device: Device) -> Scene:
    analysis = analysis_of(db, version)
    return Scene(
        title=f"version {version.number}",
        file=version.file_name,
        hash=version.file_hash,
        triangles=count(analysis.triangles),
        textures=texture_counts(analysis).used,
        memory=gigabytes(draw_up(analysis, recipe, device).whole),
    )


def _facts(recipe: Recipe, device: dict[str, Any]) -> list[tuple[str, str]]:
    """How it was rendered, a line each."""
    ends = f"at most {recipe.samples} samples"
    if recipe.noise > 0:
        ends += f", noise below {percent(recipe.noise)}"
    if recipe.time_limit > 0:
        ends += f", {duration(recipe.time_limit)} a frame"
    denoised = {"no": "no", "with": "with each frame", "later": "after all of them"}
    return [
        ("Size", f"{recipe.width} × {recipe.height}"),
        ("Ends with", ends),
        ("Bounces", str(recipe.bounces)),
        ("Denoised", denoised[recipe.denoise]),
        ("Layers", ", ".join(("picture", *recipe.layers))),
        ("Rendered on", device_words(device)),
        ("Seed", str(recipe.seed)),
    ]


def _times(db: Session, seen: run_lookup.Overview) -> list[tuple[str, str]]:
    """Predicted beside measured."""
    first = seen.settings.predicted
    query = select(Render.measured).where(
        Render.group_id == seen.group.id, ~Render.removed, Render.picture.is_not(None)
    )
    measured = list(db.scalars(query))
    out = []
    if first.get("seconds") is not None:
        out.append(("A frame, predicted", predicted(first["seconds"], first["margin"])))
    taken = [m["whole_seconds"] for m in measured if m.get("whole_seconds")]
    if taken:
        out += [
            ("A frame, measured in the median", duration(statistics.median(taken))),
            ("All frames, measured", duration(sum(taken))),
        ]
    if first.get("memory_bytes") is not None:
        most, least = first["memory_bytes"], first["memory_bytes"] - first.get("mapped_bytes", 0)
        said = gigabytes(most) if most == least else f"{gigabytes(least)} to {gigabytes(most)}"
        out.append(("Memory, predicted", said))
    peaks = [m["peak_memory_bytes"] for m in measured if m.get("peak_memory_bytes")]
    if peaks:
        out.append(("Memory, the most measured", gigabytes(max(peaks))))
    mapped = [m["mapped_bytes"] for m in measured if m.get("mapped_bytes")]
    if mapped:  # why far less than predicted was measured
        out.append(("Mapped from the disk, counted once read", gigabytes(max(mapped))))
    loads = [m["load_after"] for m in measured if m.get("load_after") is not None]
    if loads:
        out.append(("Load of the computer, the most", f"{max(loads):.1f}"))
    free = [m["memory_free_after"] for m in measured if m.get("memory_free_after")]
    if free:
        out.append(("Memory free on it, the least", gigabytes(min(free))))
    heat = [m["temperature_after"] for m in measured if m.get("temperature_after")]
    if heat:
        out.append(("Hottest sensor, the most", f"{max(heat):.0f} °C"))
    elsewhere = sorted({m["machine"] for m in measured if m.get("machine")})
    if elsewhere:
        out.append(("Rendered by", ", ".join(elsewhere)))
    return out
