"""A trial as the viewer shows it: its picture, or one of its layers."""

from __future__ import annotations

from dataclasses import dataclass
from urllib.parse import urlencode

from mill_lane.core.denoise.names import DENOISED
from mill_lane.core.render.display import MADE, Display, displays
from mill_lane.store.models import Render
from mill_lane.web.stations.trials import log
from mill_lane.web.stations.trials.denoising import Blend, blended_url


@dataclass(frozen=True)
class Shown:
    """A trial in the viewer: its picture, or one of its layers with the scale of a map."""

    id: int
    number: int
    url: str | None
    rect: str
    task: int | None
    preview: int  # version of the picture so far, 0 for none
    scale: tuple[str, str, str] | None  # low, high, unit
    paused: bool
    size: str  # of the trial's whole picture, pixels


def shown(
    trial: Render | None, layer: str = "beauty", blend: Blend | None = None, stops: float = 0.0
) -> Shown | None:
    """A trial as the viewer shows it; None where there is none.

    Parameters
    ----------
    trial : Render or None
    layer : str
        Of `displays`, one of a light, or `DENOISED`.
    blend : Blend, optional
        How much of the clean picture is shown.
    stops : float
        Brighter.
    """
    if trial is None:
        return None
    url = f"/files/{trial.picture}.png" if trial.picture else None
    scale = None
    entry = trial.layers.get(layer)
    if entry is not None and entry["hash"]:
        url = f"/files/{entry['hash']}.png"
        if "unit" in entry:
            scale = (f"{entry['low']:g}", f"{entry['high']:g}", entry["unit"])
    display = _display(trial, layer)
    brighter = stops and (entry is None or display.name == layer)
    if trial.exr and display.show.takes_gain and (brighter or display.name in MADE):
        query = urlencode({"stops": f"{stops:.4g}", "layer": display.name, "v": trial.exr[:12]})
        url, scale = f"/trials/{trial.id}/exposed.png?{query}", fixed_scale(display, stops)
    if layer == DENOISED and blend is not None:
        clean = blended_url(trial, blend)
        url = f"{clean}&stops={stops:.4g}" if clean and stops else clean or url
    task = trial.task
    return Shown(
        id=trial.id,
        number=trial.number,
        url=url,
        rect=",".join(f"{x:.6f}" for x in log.shares(trial)),
        task=trial.task_id,
        preview=int((task.live if task else {}).get("preview", 0)),
        scale=scale,
        paused=task is not None and task.state == "paused",
        size=f"{trial.recipe['width']},{trial.recipe['height']}",
    )


def _display(trial: Render, layer: str) -> Display:
    """What is shown of a trial: the picture where it has not kept what a layer is made of."""
    known = displays()
    found = known.get(layer, known["beauty"])
    kept = {"beauty"} | {name for name, entry in trial.layers.items() if entry["hash"]}
    return found if set(found.pictures) <= kept else known["beauty"]


def fixed_scale(display: Display, stops: float) -> tuple[str, str, str] | None:
    """Its ramp's ends as text, and their unit; None where each picture has its own, or none."""
    scale = display.show.scale(stops)
    return None if scale is None else (f"{scale.low:g}", f"{scale.high:.3g}", scale.unit)
