"""What the Trials station shows."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, fields
from typing import Any
from urllib.parse import urlencode

from sqlalchemy.orm import Session

from mill_lane.core.crop import Crop, crop_of, crop_text, pixels_of
from mill_lane.core.denoise.names import DENOISED, MASKS, PICKED, RADIUS
from mill_lane.core.devices.model import Device
from mill_lane.core.errors import MillError
from mill_lane.core.formats.outside_pictures import ENDINGS
from mill_lane.core.recipe import Recipe
from mill_lane.core.recipe_versions import read_recipe
from mill_lane.core.render.display import MADE, displays
from mill_lane.core.render.path_slots import COMPONENTS
from mill_lane.core.weigh.ledger import draw_up, judge
from mill_lane.jobs.exposed import MOST, stops_apart, within
from mill_lane.jobs.live import layers as look_layers
from mill_lane.jobs.looks import look_of
from mill_lane.jobs.lookup import (
    TrialFigures,
    chosen_recipe,
    is_elsewhere,
    lights_by_trial,
    newest_with_picture,
    trial_figures,
    trial_log,
    with_time_profile,
)
from mill_lane.jobs.shelf import gone_from, kept
from mill_lane.jobs.summary import Summary
from mill_lane.store.models import Render
from mill_lane.web.shared.light_words import light_words
from mill_lane.web.shared.recipe_card import card, usual_recipe
from mill_lane.web.shared.recipe_shelf import shelf_of
from mill_lane.web.stations.trials import log
from mill_lane.web.stations.trials.chart import chart
from mill_lane.web.stations.trials.denoising import (
    MODES,
    Blend,
    blend_of,
    denoising,
    holding,
    numbers_of,
    usual_strength,
)
from mill_lane.web.stations.trials.shown import Shown, fixed_scale, shown
from mill_lane.web.stations.trials.time_profile import (
    DIVISIONS,
    component_name,
    layer_choices,
    panel,
)

MOST_ALSO = 2  # in a row with the two that are compared
NEWEST = 12  # rows of the log; more on demand, so that a page of hundreds stays quick
PANELS = ("book", "profile", "denoise")
RANK = {"running": 0, "paused": 1, "queued": 2}


@dataclass
class Asked:
    """What the address asks for: the trials A and B, the crop of the next, what it leaves out, what
    is shown of them.
    """

    a: int | None = None
    b: int | None = None
    crop: str = ""  # as shares of the frame
    removed: int | None = None
    role: str = "draft"
    layer: str = ""  # empty: the clean picture where that is the better one, or else the raw
    panel: str = "book"
    division: str = "kinds"
    # How a denoised trial is shown.
    strength: float | None = None  # None: as measurement says
    mask: str = ""
    objects: str = ""
    detail: float = 0.0
    # For looking only: stops brighter, and the first as bright as the second.
    stops: float = 0.0
    level: bool = False
    also: str = ""  # numbers of trials that stand in a row with the two, with commas between
    find: str = ""  # words that a row of the log has
    gone: int | None = None  # a kept recipe that was removed
    all: bool = False  # every trial of the log, not only the newest
    # What the next trial leaves out while looking.
    hide: str = ""
    only_object: str = ""
    only_component: str = ""
    view: str = ""

    @property
    def in_a_row(self) -> tuple[int, ...]:
        """Trials beside the two that are compared; none without two."""
        if self.a is None or self.b is None:
            return ()
        return tuple(n for n in numbers_of(self.also) if n not in (self.a, self.b))[:MOST_ALSO]

    def with_also(self, number: int) -> str:
        """The same view with one more in the row, or one less."""
        row = [n for n in self.in_a_row if n != number]
        if number not in self.in_a_row:
            row = [*row, number][-MOST_ALSO:]
        return self.link(also=",".join(map(str, row)))

    @property
    def drawn(self) -> Crop | None:
        """The crop; None for the whole view, and for what is none."""
        try:
            return crop_of(self.crop)
        except MillError:
            return None

    def link(self, **changes: Any) -> str:
        """The address of the same view with something changed."""
        usual = {f.name: f.default for f in fields(self)}
        now = {
            name: getattr(self, name) for name in usual if name not in ("removed", "gone")
        } | changes
        # What a template leaves undefined is no text either.
        said = {k: v for k, v in now.items() if v is not None and str(v) and v != usual[k]}
        return f"?{urlencode({k: int(v) if v is True else v for k, v in said.items()})}"


def context(
    db: Session,
    summary: Summary,
    asked: Asked,
    devices: Sequence[tuple[int, Device]],
    cpu: int,
) -> dict[str, Any]:
    """All that the page needs beside what every station has."""
    figures = trial_figures(db, summary.job)
    shown_numbers = _numbers(figures, asked)
    pinned = {summary.job.base} if summary.job.base is not None else set()
    wanted = _with_the_ones_before(figures, shown_numbers) | pinned
    trials = trial_log(db, summary.job, wanted)
    base = next((t for t in trials if t.number == summary.job.base), None)
    first, second = _compared(trials, asked)
    role = asked.role if asked.role in ("draft", "final") else "draft"
    chosen = chosen_recipe(db, summary.job, role)
    recipe = read_recipe(chosen.data)
    ledger = draw_up(summary.analysis, recipe, summary.device)
    fits = judge(ledger, summary.device.free_bytes).fits
    running = _running(trials, second)
    table = [
        r
        for r in log.rows(trials, base, _aspect(summary))
        if r.number in shown_numbers or not r.over
    ]
    table = log.found(table, asked.find)
    blend = blend_of(asked.strength, asked.mask, asked.objects, asked.detail)
    layer = asked.layer or _usual_layer(first, second)
    stops, apart = within(asked.stops), stops_apart(first, second)
    first_stops = stops + (apart if apart and asked.level else 0.0)
    a, b = shown(first, layer, blend, first_stops), shown(second, layer, blend, stops)
    scales = [x.scale for x in (b, a) if x is not None and x.scale is not None]
    display = displays().get(layer)
    scale = scales[0] if scales else None
    if display is not None and first is None and second is None:  # the look alone is shown
        scale = fixed_scale(display, stops)
    under = newest_with_picture(
        db, summary.job, [f.number for f in figures if log.is_whole(f.crop)]
    )
    newest = trials[0] if trials else None
    gone = db.get(Render, asked.removed) if asked.removed else None
    return {
        "rows": table,
        "row_count": len(figures),
        "every_row": asked.all,
        "a": a,
        "b": b,
        "also": _also(trials, asked, layer, blend, stops) if a is not None else [],
        "under": under,
        "look": look_of(db, summary) if under is None else None,
        "recipe": recipe,
        "role": role,
        "card": card(
            recipe,
            summary.analysis,
            summary.final,
            _against(base, role),
            light_words(summary.analysis, *lights_by_trial(db, summary.version)),
        ),
        "pinned": base,
        "pinning": ("Tell all others against this one", "Tell each against the one before it"),
        "kept": shelf_of(kept(db, summary.job), recipe),
        "gone_recipe": gone_from(db, summary.job, asked.gone),
        "undoable": bool(chosen.before),
        "objects": sorted({o.name for o in summary.analysis.outlines}),
        "components": [(k, component_name(k)) for k in COMPONENTS],
        "previews": log.PREVIEWS,
        "asked": asked,
        "layer": layer,
        # The look that runs shows all of them, also before there is any trial.
        "layers": _layers(*(t for t in (first, second) if t is not None)),
        "scale": scale,
        "brighter": stops,
        "exposes": layer == DENOISED or (display is not None and display.show.takes_gain),
        "most_stops": MOST,
        "light_ratio": 2.0**apart if apart else None,
        "panel": asked.panel if asked.panel in PANELS else PANELS[0],
        "divisions": DIVISIONS,
        "profile": _profile(db, asked, first, second) if asked.panel == "profile" else None,
        "crop": crop_text(asked.drawn),
        "region": pixels_of(asked.drawn, recipe.width, recipe.height),
        "device_options": devices,
        "use_device": summary.job.device_id if fits else cpu,
        "fits": fits,
        "denoising": denoising(db, second, asked) if asked.panel == "denoise" else None,
        "blend": blend,
        "strength": usual_strength(second) if blend.strength is None else blend.strength,
        "usual_strength": usual_strength(second),
        "picture_endings": ",".join(ENDINGS),
        "masks": list((MASKS | PICKED).items()),
        "modes": MODES,
        "usual_radius": RADIUS,
        "hold": holding(db, summary) if asked.panel == "denoise" else None,
        # A clean picture is wiped against the raw one of the same trial.
        "left": shown(second, stops=stops) if layer == DENOISED and first is None else a,
        "live": shown(running),
        "live_task": running.task if running else None,
        "live_clean": bool(running and running.task and (running.task.wants or {}).get("clean")),
        "failed": newest if newest is not None and _failed(newest) else None,
        "gone": gone if gone is not None and gone.removed else None,
        "chart": chart(figures, first.number if first else None, second.number if second else None),
        "frame": newest.frame if newest else summary.analysis.frames[0],
    }


def book_context(db: Session, summary: Summary, find: str) -> dict[str, Any]:
    """The trial book to print: every trial that says what is looked for, with its picture."""
    trials = trial_log(db, summary.job, {f.number for f in trial_figures(db, summary.job)})
    pinned = next((t for t in trials if t.number == summary.job.base), None)
    pictures = {t.number: t.picture for t in trials}
    table = log.found(log.rows(trials, pinned, _aspect(summary)), find)
    return {"rows": [(r, pictures[r.number]) for r in table], "pinned": pinned, "find": find}


def _aspect(summary: Summary) -> float:
    return summary.final.width / summary.final.height


def _against(base: Render | None, role: str) -> Recipe:
    """What a recipe is told against: that of the base, or else what is usual."""
    usual = usual_recipe(role)
    if base is None or is_elsewhere(base):
        return usual
    found = read_recipe(base.recipe)
    same: dict[str, Any] = {"layers": usual.layers}
    return found.model_copy(update=same | ({"samples": usual.samples} if found.endless else {}))


def _numbers(figures: Sequence[TrialFigures], asked: Asked) -> set[int]:
    """The trials of the log: the newest, and those that are shown; all of them on demand."""
    newest = figures if asked.all or asked.find.strip() else figures[:NEWEST]
    named = (asked.a, asked.b, *asked.in_a_row)
    return {f.number for f in newest} | {n for n in named if n is not None}


def _with_the_ones_before(figures: Sequence[TrialFigures], numbers: set[int]) -> set[int]:
    """The same, and the trial before each whose settings are known, which it is told against."""
    out, before = set(numbers), None
    for f in reversed(figures):
        if f.number in numbers and before is not None:
            out.add(before)
        if f.here:
            before = f.number
    return out


def _compared(trials: list[Render], asked: Asked) -> tuple[Render | None, Render | None]:
    """The trials A and B; without any named, the newest is B."""
    by_number = {t.number: t for t in trials}
    first, second = by_number.get(asked.a or 0), by_number.get(asked.b or 0)
    if first is None and second is None and trials:
        second = trials[0]
    return first, second


def _also(
    trials: list[Render], asked: Asked, layer: str, blend: Blend, stops: float
) -> list[Shown]:
    """What stands in a row with the two that are compared, as far as it has a picture."""
    by_number = {t.number: t for t in trials}
    found = [shown(by_number.get(n), layer, blend, stops) for n in asked.in_a_row]
    return [x for x in found if x is not None and x.url]


def _layers(*shown: Render) -> list[tuple[str, str]]:
    """What can be shown, by name and title: what the trials have, and what the look that runs has
    beyond that; without a trial, all that it has.
    """
    of_trials = dict(layer_choices(*(t.layers for t in shown)))
    of_look = {name: title for name, title in look_layers() if name in MADE or not shown}
    return list((of_trials | of_look).items())


def _usual_layer(first: Render | None, second: Render | None) -> str:
    """What is shown where nothing else was asked for: the clean picture of all that are shown,
    unless it may be the worse one.
    """
    both = [t.layers.get(DENOISED) for t in (first, second) if t is not None]
    clean = both and all(entry and not entry.get("unsure") for entry in both)
    return DENOISED if clean else "beauty"


def _running(trials: list[Render], second: Render | None) -> Render | None:
    """The trial that is going on, or the next one that will."""
    going = [t for t in trials if t.task is not None and not t.task.over]

    def rank(t: Render) -> tuple[int, bool, int]:
        return RANK.get(t.task.state, 3) if t.task else 3, t is not second, t.number

    return min(going, key=rank, default=None)


def _failed(t: Render) -> bool:
    return t.task is not None and t.task.state in ("failed", "cancelled") and not t.measured


def _profile(db: Session, asked: Asked, first: Render | None, second: Render | None) -> Any:
    """Where the time of B goes, or of A where B has none."""
    for trial in (second, first):
        if trial is not None and trial.picture:
            kept = with_time_profile(db, trial).time_profile
            found = panel(kept, asked.division, trial.number)
            if found is not None:
                return found
    return None
