"""The trial book: a row for each trial, what was changed since the one before it."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from mill_lane.core.recipe_versions import upgraded
from mill_lane.jobs.elsewhere import TOLD
from mill_lane.jobs.lookup import is_elsewhere
from mill_lane.store.models import Render
from mill_lane.web.shared.devices import device_words
from mill_lane.web.shared.format import duration, percent
from mill_lane.web.shared.recipe_words import as_text, setting_changes
from mill_lane.web.stations.trials.time_profile import component_name

PREVIEWS = {
    "indirect": "no indirect light",
    "shadows": "no shadows",
    "refraction": "no refraction",
    "fog": "no fog",
    "motion": "no motion blur",
    "depth_of_field": "no depth of field",
}
VIEWS = {"occlusion": "occlusion", "wires": "wireframe"}
Values = dict[str, Any]
ENDED = {"hand": "stopped by hand", "time": "its time was over", "noise": "clean enough"}
SHAPE = 0.01  # of an aspect: less apart is the same, cut to whole pixels
ALIKE = 0.02  # a share of the light, within which two pictures are alike in it
ALMOST_BLACK = 0.004
"""Mean linear luminance below which a picture shows nothing on a screen: an sRGB code of 13
of 255."""


@dataclass(frozen=True)
class Ratios:
    """A trial's time, noise and mean light over those of the base; empty where it has none."""

    time: str = ""
    noise: str = ""
    light: str = ""


@dataclass(frozen=True)
class Row:
    """A row of the trial book."""

    id: int
    number: int
    what: str
    crop: str
    time: str
    noise_text: str
    note: str
    state: str
    ended: str
    against: Ratios
    task: int | None
    over: bool
    black: bool
    title: str
    small: str  # the address of its picture for a row; empty for none
    starred: bool
    told: dict[str, str] | None  # what was typed of a picture made elsewhere; None for others

    @property
    def time_words(self) -> str:
        """The time; one that was told, and not measured here, says so."""
        return f"{self.time} as told" if self.time and self.told is not None else self.time

    @property
    def words(self) -> str:
        """All that it is found by."""
        star = "starred" if self.starred else ""
        return f"{self.number} {self.what} {self.note} {self.crop} {self.title} {star}".lower()


def preview_text(preview: dict[str, Any] | None) -> str:
    """What was left out for looking."""
    preview = preview or {}
    words = [PREVIEWS[k] for k, v in preview.items() if k in PREVIEWS and v is False]
    if preview.get("only_object"):
        words.append(f"only {preview['only_object']}")
    if preview.get("only_component"):
        words.append(f"only {component_name(preview['only_component'])}")
    if preview.get("view"):
        words.append(VIEWS.get(preview["view"], preview["view"]))
    return ", ".join(words)


def changes(trial: Render, before: Render | None) -> str:
    """What was changed since the trial before it, in a few words."""
    if before is None:
        return "base"
    out = setting_changes(upgraded(before.recipe), upgraded(trial.recipe))
    if shares(trial) != shares(before):
        out.append("other crop")
    if preview_text(trial.preview) != preview_text(before.preview):
        out.append(preview_text(trial.preview) or "nothing left out")
    if trial.version_id != before.version_id:
        out.append(f"scene version {before.version.number} → {trial.version.number}")
    if trial.frame != before.frame:
        out.append(f"frame {before.frame} → {trial.frame}")
    return ", ".join(out) or "same again"


def shares(trial: Render) -> tuple[float, float, float, float]:
    """The crop as shares of its picture, 0 to 1."""
    w, h = trial.recipe["width"], trial.recipe["height"]
    x0, y0, x1, y1 = trial.region
    return x0 / w, y0 / h, x1 / w, y1 / h


def is_whole(crop: Sequence[float]) -> bool:
    """Whether a crop, as shares of its picture, is all of it."""
    return all(abs(a - b) < 0.005 for a, b in zip(crop, (0, 0, 1, 1), strict=True))


def almost_black(measured: Values | None) -> bool:
    """Whether a picture's mean luminance is so low that its noise says nothing of it."""
    return measured is not None and measured.get("mean_luminance", 1.0) < ALMOST_BLACK


def _mapped(m: Mapping[str, Any]) -> str:
    """What of the textures lies on the disk: the peak has as much of it as was read."""
    mapped = m.get("mapped_bytes")
    return f", {mapped / 1e9:.2f} GB mapped from the disk" if mapped else ""


def _of_elsewhere(t: Render) -> str:
    """All that is kept of a picture made elsewhere, in one line."""
    r, m = t.recipe, t.measured
    said = [
        f"{m['samples_mean']:g} samples a pixel" if m.get("samples_mean") else "",
        f"peak {m['peak_memory_bytes'] / 1e9:.2f} GB" if m.get("peak_memory_bytes") else "",
    ]
    how = "measured from two pictures" if m.get("noise_measured") else "estimated from the picture"
    return (
        f"made elsewhere, from “{t.device.get('file', '')}”; beside scene version "
        f"{t.version.number}, {r['width']} x {r['height']}; as told: "
        f"{', '.join(x for x in said if x) or 'nothing'}; noise {how}"
    )


def _told(m: Values) -> dict[str, str]:
    """What was told of a picture made elsewhere, as it is typed."""
    figures = {name: m.get(kept) or 0 for name, kept in TOLD.items()}
    figures["gigabytes"] /= 1e9
    return {name: f"{value:g}" if value else "" for name, value in figures.items()}


def title_of(t: Render) -> str:
    """All that is kept of a trial, in one line."""
    if is_elsewhere(t):
        return _of_elsewhere(t)
    r, m = t.recipe, t.measured
    x0, y0, x1, y1 = t.region
    out = (
        f"scene version {t.version.number}, {r['width']} x {r['height']}, "
        f"crop {x0},{y0} to {x1},{y1}, frame {t.frame}, "
        f"{device_words(t.device)}; {as_text('samples', r['samples'])} samples at most, "
        f"{r['bounces']} bounces, seed {r['seed']}"
    )
    if m:
        out += f"; {m['samples_mean']:.3g} samples a pixel reached" if m.get("samples_mean") else ""
        out += f", {ENDED[m['ended_by']]}" if m.get("ended_by") in ENDED else ""
        out += (
            f"; setup {duration(m['setup_seconds'])}, {m['threads']} threads, "
            f"peak {m['peak_memory_bytes'] / 1e9:.2f} GB{_mapped(m)}, "
            f"machine load {m['load_before']:.1f} to {m['load_after']:.1f}"
        )
        if almost_black(m):
            out += "; almost black: hardly any light reaches the picture, so its noise says little"
        if m.get("light_lost"):
            out += f"; clamping took {percent(m['light_lost'])} of the light"
    return out


def ended(measured: Values) -> str:
    """What ended a trial before all samples were taken, and how many there are; else nothing."""
    how = measured.get("ended_by")
    if how not in ENDED:
        return ""
    return f"{ENDED[how]}, {measured['samples_mean']:.3g} samples a pixel"


def ratios(measured: Values | None, base: Values | None, sure: bool = True) -> Ratios:
    """How a trial compares with the base; light only where it differs by more than a fiftieth.

    Where the noise of either is no measurement, its ratio says so.
    """
    if not measured or not base:
        return Ratios()

    def over(name: str) -> float | None:
        mine, theirs = measured.get(name), base.get(name)
        return mine / theirs if mine and theirs else None

    time, noise, light = (over(name) for name in ("seconds", "noise", "mean_luminance"))
    return Ratios(
        time=f"× {time:.3g}" if time else "",
        noise=f"{'' if sure else 'about '}× {noise:.3g}" if noise else "",
        light=f"light × {light:.3g}" if light and abs(light - 1) > ALIKE else "",
    )


def _what(t: Render, before: Render | None, base: Render | None, aspect: float) -> str:
    """What makes it another than the base, or else than the one before."""
    if t is base:
        return "the base"
    if is_elsewhere(t):
        own = t.recipe["width"] / t.recipe["height"]
        alike = math.isclose(own, aspect, rel_tol=SHAPE)
        return "made elsewhere" if alike else "made elsewhere, another shape than the frame"
    return changes(t, before if base is None or is_elsewhere(base) else base)


def _row(t: Render, before: Render | None, base: Render | None, aspect: float) -> Row:
    m = t.measured
    x0, y0, x1, y1 = t.region
    few = bool(m) and m.get("noise") is None and m.get("passes", 2) < 2
    state = "done" if m else t.task.state if t.task else "failed"
    if m and m.get("ended_by") == "hand":
        state = "stopped"
    return Row(
        id=t.id,
        number=t.number,
        what=_what(t, before, base, aspect),
        crop="whole" if is_whole(shares(t)) else f"{x1 - x0} × {y1 - y0}",
        time=duration(m.get("seconds")),
        noise_text="too few samples" if few else _noise(t),
        note=t.note,
        state=state,
        ended=ended(m) if m else "",
        task=t.task_id,
        against=_against(t, base),
        over=t.task is None or t.task.over,
        black=almost_black(m),
        title=title_of(t),
        small=f"/trials/{t.id}/small.jpg?v={t.picture[:12]}" if t.picture else "",
        starred=t.starred,
        told=_told(m) if is_elsewhere(t) else None,
    )


def _against(t: Render, base: Render | None) -> Ratios:
    if base is None or t is base:
        return Ratios()
    return ratios(t.measured, base.measured, _is_measured(t) and _is_measured(base))


def _is_measured(t: Render) -> bool:
    """Whether a trial's noise is, and not only estimated."""
    return not is_elsewhere(t) or bool(t.measured.get("noise_measured"))


def _noise(t: Render) -> str:
    """The noise; what is only estimated says so."""
    text = percent(t.measured.get("noise"))
    return text if _is_measured(t) or not text else f"about {text}"


def found(table: Sequence[Row], asked: str) -> list[Row]:
    """The rows that say all of what is asked for, parted by commas."""
    words = [w.strip() for w in asked.lower().split(",") if w.strip()]
    return [r for r in table if all(word in r.words for word in words)]


def rows(trials: Sequence[Render], base: Render | None, aspect: float) -> list[Row]:
    """The trial book, newest first; each told against the base, or else the one before it whose
    settings are known.

    Parameters
    ----------
    trials : sequence of Render
        Newest first.
    base : Render or None
    aspect : float
        Width over height of the final frame.
    """
    out: list[Row] = []
    before: Render | None = None
    for t in reversed(trials):
        out.append(_row(t, before, base, aspect))
        if not is_elsewhere(t):
            before = t
    return out[::-1]
