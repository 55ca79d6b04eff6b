"""The Trials station: the well, the form of the next trial, the trial book."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

from mill_lane.core.recipe import MOST_SAMPLES, Recipe
from mill_lane.store.models import Trial
from mill_lane.web.format import duration, percent
from mill_lane.web.presenters.profile import component_name

PREVIEWS = {
    "indirect": "no indirect light",
    "shadows": "no shadows",
    "refraction": "no refraction",
    "fog": "no fog",
    "motion": "no motion blur",
    "depth_of_field": "no depth of field",
}


@dataclass(frozen=True)
class Row:
    """A row of the trial book."""

    id: int
    number: int
    what: str
    crop: str
    time: str
    samples: str
    noise: str
    note: str
    state: str
    task: int | None
    over: bool
    url: str | None
    title: str
    seconds: float | None
    grain: float | None
    same_crop: bool


def name_of(setting: str) -> str:
    """A setting in running text."""
    title = str(Recipe.model_fields[setting].title or setting)
    return {
        "noise": "noise threshold",
        "radiance_limit_indirect": "clamp",
        "samples": "samples",
    }.get(setting, title[0].lower() + title[1:])


def as_text(setting: str, value: Any) -> str:
    if setting in ("noise", "converged_fraction"):
        return f"{value * 100:g} %"
    if setting == "samples" and value >= MOST_SAMPLES:
        return "no end"
    if setting == "environment_picture":
        return value.split("/")[2] if value else "none"
    if isinstance(value, bool):
        return "on" if value else "off"
    return f"{value:g}" if isinstance(value, float) else "none" if value is None else str(value)


def light_changes(old: dict[str, float], new: dict[str, float]) -> list[str]:
    """Lamps that were made weaker, stronger, or switched off."""
    names = sorted(n for n in {*old, *new} if old.get(n, 1.0) != new.get(n, 1.0))
    return [f"{n} × {new.get(n, 1.0):g}" if new.get(n, 1.0) else f"{n} off" for n in names]


def preview_text(preview: dict[str, Any] | None) -> str:
    """What was left out for looking."""
    preview = preview or {}
    words = [PREVIEWS[k] for k, v in preview.items() if k in PREVIEWS and v is False]
    if preview.get("only_object"):
        words.append(f"only {preview['only_object']}")
    if preview.get("only_component"):
        words.append(f"only {component_name(preview['only_component'])}")
    if preview.get("view"):
        words.append(
            {"occlusion": "occlusion", "wires": "wireframe"}.get(preview["view"], preview["view"])
        )
    return ", ".join(words)


def changes(trial: Trial, before: Trial | None) -> str:
    """What was changed since the trial before it, in a few words."""
    if before is None:
        return "base"
    out = []
    for field, (old, new) in (
        Recipe.model_validate(trial.recipe)
        .changed_from(Recipe.model_validate(before.recipe))
        .items()
    ):
        if field == "light_scales":
            out += light_changes(old, new)
        elif field == "layers":
            out.append("layers changed")
        else:
            out.append(f"{name_of(field)} {as_text(field, old)} → {as_text(field, new)}")
    if shares(trial) != shares(before):
        out.append("other crop")
    if preview_text(trial.preview) != preview_text(before.preview):
        out.append(preview_text(trial.preview) or "nothing left out")
    if trial.version_id != before.version_id:
        out.append(f"scene version {before.version.number} → {trial.version.number}")
    if trial.frame != before.frame:
        out.append(f"frame {before.frame} → {trial.frame}")
    return ", ".join(out) or "same again"


def shares(trial: Trial) -> tuple[float, float, float, float]:
    """The crop as shares of its picture, 0 to 1."""
    w, h = trial.recipe["width"], trial.recipe["height"]
    x0, y0, x1, y1 = trial.region
    return x0 / w, y0 / h, x1 / w, y1 / h


def is_whole(trial: Trial) -> bool:
    return all(abs(a - b) < 0.005 for a, b in zip(shares(trial), (0, 0, 1, 1), strict=True))


def rows(trials: list[Trial]) -> list[Row]:
    """The trial book, newest first."""
    out = []
    latest = trials[0] if trials else None
    for i, t in enumerate(trials):
        before = trials[i + 1] if i + 1 < len(trials) else None
        m = t.measured
        x0, y0, x1, y1 = t.region
        state = "done" if m else t.task.state if t.task else "failed"
        if m and m.get("ended_by") == "hand":
            state = "stopped"
        r = t.recipe
        title = (
            f"{r['width']} x {r['height']}, crop {x0},{y0} to {x1},{y1}, frame {t.frame}, {t.device}; "
            f"{as_text('samples', r['samples'])} samples at most, {r['bounces']} bounces, seed {r['seed']}"
        )
        if m:
            title += (
                f"; setup {duration(m['setup_seconds'])}, {m['threads']} threads, peak {m['peak_memory_bytes'] / 1e9:.2f} GB, "
                f"machine load {m['load_before']:.1f} to {m['load_after']:.1f}"
            )
            if m.get("light_lost"):
                title += f"; clamping took {percent(m['light_lost'])} of the light"
        out.append(
            Row(
                id=t.id,
                number=t.number,
                what=changes(t, before),
                crop="whole" if is_whole(t) else f"{x1 - x0} × {y1 - y0}",
                time=duration(m.get("seconds")),
                samples=f"{m['samples_mean']:.1f}" if m else "–",
                noise=percent(m.get("noise")),
                note=t.note,
                state=state,
                task=t.task_id,
                over=t.task is None or t.task.over,
                url=f"/files/{t.picture}.png" if t.picture else None,
                title=title,
                seconds=m.get("seconds"),
                grain=m.get("noise"),
                same_crop=latest is not None and shares(t) == shares(latest) and bool(m),
            )
        )
    return out


@dataclass(frozen=True)
class Shown:
    """A trial in the well: its picture, or one of its layers with the scale of a map."""

    number: int
    url: str | None
    rect: str
    task: int | None
    preview: int  # version of the picture so far, 0 for none
    layers: dict[str, Any]
    scale: str  # "0|20|%", empty where there is none
    paused: bool
    size: str  # of the trial's whole picture, pixels


def shown(trial: Trial | None, layer: str = "beauty") -> Shown | None:
    if trial is None:
        return None
    rect = ",".join(f"{x:.6f}" for x in shares(trial))
    url = f"/files/{trial.picture}.png" if trial.picture else None
    scale = ""
    entry = trial.layers.get(layer)
    if entry is not None:
        url = f"/files/{entry['hash']}.png"
        if "unit" in entry:
            scale = f"{entry['low']:g}|{entry['high']:g}|{entry['unit']}"
    live = trial.task.live if trial.task is not None else {}
    paused = trial.task is not None and trial.task.state == "paused"
    size = f"{trial.recipe['width']},{trial.recipe['height']}"
    return Shown(
        trial.number,
        url,
        rect,
        trial.task_id,
        int(live.get("preview", 0)),
        trial.layers,
        scale,
        paused,
        size,
    )


@dataclass(frozen=True)
class Point:
    number: int
    x: float
    y: float
    mark: str


@dataclass(frozen=True)
class Chart:
    """Time against noise on log axes, laid out for SVG."""

    points: list[Point]
    x_ticks: list[tuple[float, str]]
    y_ticks: list[tuple[float, str]]
    steps: str


def chart(
    book: list[Row], a: int | None, b: int | None, width: float = 400, height: float = 190
) -> Chart | None:
    """Every trial of the newest crop; None when there are fewer than two."""
    data = [r for r in book if r.same_crop and r.seconds and r.grain]
    if len(data) < 2:
        return None
    left, right, top, bottom = 62.0, width - 14, 22.0, height - 24

    def scale(values: list[float], low: float, high: float) -> Any:
        a0, b0 = math.log10(min(values) / 1.3), math.log10(max(values) * 1.3)
        return lambda v: low + (math.log10(v) - a0) / (b0 - a0) * (high - low)

    times, grains = [r.seconds or 1.0 for r in data], [r.grain or 1.0 for r in data]
    fx, fy = scale(times, left, right), scale(grains, bottom, top)
    points = [
        Point(
            r.number,
            round(fx(r.seconds), 1),
            round(fy(r.grain), 1),
            "a" if r.number == a else "b" if r.number == b else "",
        )
        for r in data
    ]
    x_ticks = [(round(fx(v), 1), duration(v)) for v in ticks(min(times) / 1.3, max(times) * 1.3)]
    y_ticks = [(round(fy(v), 1), percent(v)) for v in ticks(min(grains) / 1.3, max(grains) * 1.3)]
    best = math.inf
    steps: list[str] = []
    for r in sorted(data, key=lambda r: (r.seconds or 0, r.grain or 0)):
        if (r.grain or math.inf) < best:
            best = r.grain or math.inf
            x, y = round(fx(r.seconds), 1), round(fy(r.grain), 1)
            steps.append(f"H{x}V{y}" if steps else f"M{x},{top}V{y}")
    return Chart(points, x_ticks, y_ticks, "".join(steps) + f"H{right}")


def ticks(low: float, high: float) -> list[float]:
    """Round numbers along a log axis:

    1, 2, 5 of each decade, or finer ones where that leaves fewer than three.
    """
    for steps in ((1, 2, 5), (1, 1.5, 2, 3, 4, 5, 6, 8), tuple(k / 10 for k in range(10, 100, 2))):
        found = [m * 10.0**e for e in range(-4, 6) for m in steps if low <= m * 10.0**e <= high]
        if len(found) >= 3:
            break
    return found[:: max(1, len(found) // 5)]
