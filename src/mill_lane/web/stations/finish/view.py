"""What the Finish station shows."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from sqlalchemy.orm import Session

from mill_lane.core.denoise.names import DENOISED
from mill_lane.jobs.denoising import denoising_of
from mill_lane.jobs.looks import look_of
from mill_lane.jobs.preflight import check
from mill_lane.jobs.shelf import gone_from, kept
from mill_lane.jobs.summary import Summary
from mill_lane.store.models import Render
from mill_lane.web.shared.devices import device_words
from mill_lane.web.shared.format import predicted
from mill_lane.web.shared.light_words import light_words
from mill_lane.web.shared.recipe_card import card, usual_recipe
from mill_lane.web.shared.recipe_shelf import shelf_of
from mill_lane.web.shared.station import Figure


def figure(summary: Summary) -> Figure:
    """How far the frame is, that it is done, or how long it will take."""
    frame, estimate = summary.newest_frame, summary.estimate
    task = frame.task if frame is not None else None
    if summary.night is not None:
        done, every = summary.night
        return Figure(f"{done} of {every} frames", "order" if done == every else "todo")
    if task is not None and not task.over:
        return Figure(f"{task.share * 100:.0f} %", "order", task=task.id)
    if frame is not None and frame.measured and frame.version_id == summary.version.id:
        return Figure(f"frame {frame.frame} done", "order")
    if estimate is not None:
        return Figure(predicted(estimate.seconds, estimate.margin), "todo", predicted=True)
    return Figure("try a crop first", "todo")


def context(
    db: Session,
    summary: Summary,
    frames: Sequence[Render],
    run: int | None,
    layer: str = "beauty",
    gone: int | None = None,
) -> dict[str, Any]:
    """All that the page needs beside what every station has."""
    shown = next((r for r in frames if r.number == run), frames[0] if frames else None)
    task = shown.task if shown is not None else None
    first, last = summary.analysis.frames
    cleaning = denoising_of(db, shown) if shown is not None else None
    clean = (shown.layers or {}).get(DENOISED) if shown is not None else None
    return {
        "cleaning": cleaning,
        "cleaned": (cleaning.result or {}).get("measured") if cleaning is not None else None,
        "clean_picture": clean["hash"] if clean else "",
        "shows_clean": bool(clean) and layer == DENOISED,
        "runs": frames,
        "shown": shown,
        "look": look_of(db, summary) if shown is None else None,
        "rendered_on": device_words(shown.device) if shown is not None else "",
        "running": task is not None and not task.over,
        "recipe": summary.final,
        "kept": shelf_of(kept(db, summary.job), summary.final),
        "gone_recipe": gone_from(db, summary.job, gone),
        "checks": check(summary),
        "estimate": summary.estimate,
        "frame_count": last - first + 1,
        "card": card(
            summary.final,
            summary.analysis,
            summary.final,
            usual_recipe("final"),
            light_words(summary.analysis),
        ),
        "frame": shown.frame if shown is not None else first,
    }
