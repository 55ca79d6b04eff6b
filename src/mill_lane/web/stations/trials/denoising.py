"""The panel about noise that is taken out: a trial denoised, and how few samples hold."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any, Protocol
from urllib.parse import urlencode

from sqlalchemy.orm import Session

from mill_lane.core.crop import crop_text, shares_of
from mill_lane.core.denoise.found import Found
from mill_lane.core.denoise.names import (
    DENOISED,
    KEPT_EXR,
    LOST,
    MASK,
    MASKS,
    MOST_BESIDE,
    OBJECTS,
    PICKED,
    PICTURE,
    STRENGTH,
)
from mill_lane.core.denoise.verdict import Verdict
from mill_lane.core.recipe import Recipe
from mill_lane.jobs.denoising import denoising_of
from mill_lane.jobs.holding import TARGET, found_of, newest, seconds_of
from mill_lane.jobs.lookup import recipe_of
from mill_lane.jobs.summary import Summary
from mill_lane.store.models import Render, Task
from mill_lane.web.shared.format import duration, percent
from mill_lane.web.stations.trials.chart import apart, ticks
from mill_lane.work.kinds.denoise import frames_beside

MODES = (
    ("quality", "thorough"),
    ("preview", "quick"),
    ("fireflies", "only the bright dots"),
)


@dataclass(frozen=True)
class Blend:
    """How a denoised trial is shown, as the address says."""

    strength: float | None = None  # None: as measurement says
    mask: str = ""
    objects: tuple[int, ...] = ()
    detail: float = 0.0


@dataclass(frozen=True)
class Place:
    """Where detail was lost: a crop as shares of the frame."""

    number: int
    crop: str


@dataclass(frozen=True)
class Denoising:
    """A trial that can be denoised: the task that does, what was measured, how it is shown."""

    id: int
    number: int
    address: str
    task: Task | None
    wanted: dict[str, Any]
    measured: dict[str, Any]
    places: list[Place]
    components: list[str]
    download: str
    beside: int  # frames before and after that there are pictures of
    objects: list[tuple[int, str]]  # the largest ones by number, and how much of it they take
    mask: str  # the address of the picture that was painted or loaded; empty where there is none
    can_undo: bool
    verdict: Verdict | None  # which is nearer to the truth, where the halves tell it


class Links(Protocol):
    """Makes addresses of the same view with something changed."""

    def link(self, **changes: Any) -> str:
        """The address."""
        ...


def denoising(db: Session, trial: Render | None, asked: Links) -> Denoising | None:
    """What there is to say of denoising a trial; None where it has no picture."""
    if trial is None or not trial.exr:
        return None
    task = denoising_of(db, trial)
    done = task is not None and task.state == "done"
    measured = task.result.get("measured", {}) if task is not None and done else {}
    left, top = trial.region[:2]
    width, height = trial.recipe["width"], trial.recipe["height"]
    worst = [
        (x0 + left, y0 + top, x1 + left, y1 + top) for x0, y0, x1, y1 in measured.get("worst", [])
    ]
    places = [Place(k + 1, crop_text(shares_of(w, width, height))) for k, w in enumerate(worst)]
    return Denoising(
        id=trial.id,
        number=trial.number,
        address=asked.link(b=trial.number, layer=DENOISED, panel="denoise"),
        task=task,
        wanted=dict(task.payload) if task is not None else {},
        measured=measured,
        places=places,
        components=[n for n in trial.layers if n.startswith(("direct_", "indirect_"))],
        download=f"/trials/{trial.id}/denoised.exr" if KEPT_EXR in trial.layers else "",
        beside=len(frames_beside(db, trial, MOST_BESIDE)),
        objects=[(n, percent(share)) for n, share in measured.get("objects", [])],
        mask=_mask_url(trial),
        can_undo=MASK in trial.layers,
        verdict=Verdict(**measured["verdict"]) if "verdict" in measured else None,
    )


def _mask_url(trial: Render) -> str:
    painted = trial.layers.get(MASK, {}).get("hash")
    return f"/files/{painted}.png" if painted else ""


def usual_strength(trial: Render | None) -> float:
    """The share of the clean picture that has the smallest error, told by the trial's halves; in
    steps of a twentieth.  Where that was not measured, `STRENGTH`.
    """
    share = trial.layers.get(DENOISED, {}).get("share") if trial is not None else None
    return STRENGTH if share is None else round(20 * share) / 20


def blended_url(trial: Render, blend: Blend) -> str | None:
    """Where the blend of a denoised trial is; None where it was not denoised."""
    entry = trial.layers.get(KEPT_EXR)
    if entry is None:
        return None
    mask, painted = blend.mask, trial.layers.get(MASK, {}).get("hash", "")
    missing = (mask == "noise" and LOST not in trial.layers) or (mask == PICTURE and not painted)
    values = {
        "strength": f"{usual_strength(trial) if blend.strength is None else blend.strength:g}",
        "mask": "" if missing else mask,
        "detail": f"{blend.detail:g}",
        "v": entry["hash"][:12],
    }
    if mask == OBJECTS:
        values["objects"] = ",".join(map(str, blend.objects))
    if mask == PICTURE and painted:
        values["painted"] = painted[:12]
    return f"/trials/{trial.id}/denoised.png?{urlencode(values)}"


def blend_of(strength: float | None, mask: str, objects: str, detail: float) -> Blend:
    """What an address asks for, held within what there is."""

    def share(x: float, otherwise: float) -> float:
        return min(max(x, 0.0), 1.0) if math.isfinite(x) else otherwise

    known = mask if mask in MASKS or mask in PICKED else ""
    wanted = None if strength is None or not math.isfinite(strength) else share(strength, STRENGTH)
    return Blend(wanted, known, numbers_of(objects), share(detail, 0.0))


def numbers_of(text: str) -> tuple[int, ...]:
    """Numbers with commas between, in order; what is none is left out."""
    found = {int(part) for part in text.split(",") if part.strip().isascii() and part.isdigit()}
    return tuple(sorted(found))


@dataclass(frozen=True)
class Curve:
    """A curve laid out for SVG: its path, and the bars of what it is unsure by (x, top, bottom)."""

    path: str
    dots: list[tuple[float, float]]
    bars: list[tuple[float, float, float]]


@dataclass(frozen=True)
class Curves:
    """Error against samples on log axes, laid out for SVG: raw, denoised, target and answer."""

    raw: Curve
    clean: Curve
    x_ticks: list[tuple[float, str]]
    y_ticks: list[tuple[float, str]]
    target: float
    answer: float | None
    width: float
    height: float
    left: float
    bottom: float


def curves(found: Found, width: float = 360, height: float = 130) -> Curves | None:
    """Lay the curves of a pilot out; None where it told too little."""
    known = [p for p in found.points if p.clean > 0 and p.raw > 0]
    if len(known) < 2:
        return None
    left, right, top, bottom = 54.0, width - 10, 18.0, height - 20
    ends = [float(p.samples) for p in known]
    if found.samples:
        ends.append(min(float(found.samples), 64 * max(ends)))
    errors = [math.sqrt(x) for p in known for x in (p.raw, p.clean)] + [math.sqrt(found.target)]
    x0, x1 = math.log10(min(ends) / 1.2), math.log10(max(ends) * 1.2)
    y0, y1 = math.log10(min(errors) / 1.3), math.log10(max(errors) * 1.2)

    def x(samples: float) -> float:
        return round(left + (math.log10(samples) - x0) / (x1 - x0) * (right - left), 1)

    def y(error: float) -> float:
        at = (math.log10(max(error, 1e-9)) - y0) / (y1 - y0)
        return round(bottom - min(max(at, 0.0), 1.0) * (bottom - top), 1)

    def curve(values: Sequence[tuple[int, float, float]]) -> Curve:
        dots = [(x(n), y(math.sqrt(e))) for n, e, _ in values]
        path = "".join(f"{'L' if k else 'M'}{a},{b}" for k, (a, b) in enumerate(dots))
        bars = [
            (x(n), y(math.sqrt(e + d)), y(math.sqrt(max(e - d, 0.0))))
            for n, e, d in values
            if math.isfinite(d)
        ]
        return Curve(path, dots, bars)

    def of(kind: str) -> list[tuple[int, float, float]]:
        return [(p.samples, getattr(p, kind), getattr(p, f"{kind}_spread")) for p in known]

    return Curves(
        curve(of("raw")),
        curve(of("clean")),
        apart([(x(v), f"{v:g}") for v in ticks(10**x0, 10**x1)], 30),
        [(y(v), percent(v)) for v in ticks(10**y0, 10**y1)],
        y(math.sqrt(found.target)),
        x(found.samples) if found.samples and found.samples <= 64 * max(ends) else None,
        width,
        height,
        left,
        bottom,
    )


@dataclass(frozen=True)
class Holding:
    """How few samples hold: the task, what it found in words, and what the recipe says now."""

    task: Task | None
    target: float  # in percent
    curves: Curves | None
    samples: int | None
    range: str
    confirmed: str
    time: str
    now: str
    is_set: bool
    crop: str
    before: int


def holding(db: Session, summary: Summary) -> Holding:
    """What there is to say of how few samples hold."""
    task = newest(db, summary.job)
    found = found_of(task)
    recipe = recipe_of(db, summary.job, "final")
    target = math.sqrt(task.payload["target"]) if task is not None else TARGET
    shown = found.samples if found is not None else None
    return Holding(
        task=task,
        target=round(100 * target, 2),
        curves=curves(found) if found is not None else None,
        samples=shown,
        range=f"{found.low} to {found.high}" if found is not None and shown else "",
        confirmed=_confirmed(found) if found is not None else "",
        time=duration(seconds_of(found, recipe, shown)) if found is not None and shown else "",
        now=_now(found, recipe) if found is not None else "",
        is_set=shown == recipe.samples and recipe.noise == 0,
        crop=",".join(map(str, found.region)) if found is not None else "",
        before=recipe.samples,
    )


def _confirmed(found: Found) -> str:
    """The error that a render of its own had at the answer, with what it is unsure by."""
    if found.confirmed is None:
        return ""
    error = math.sqrt(max(found.confirmed, 0.0))
    if not found.confirmed_spread or not math.isfinite(found.confirmed_spread):
        return percent(error)
    high = math.sqrt(max(found.confirmed + found.confirmed_spread, 0.0))
    return f"{percent(error)} ± {percent(high - error)}"


def _now(found: Found, recipe: Recipe) -> str:
    return duration(seconds_of(found, recipe, recipe.samples))
