"""The computing side of a render: what is measured of it, and the files that are written."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import asdict
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.formats.exr import write_exr
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.formats.pictures import write_pixels, write_thumbnail
from mill_lane.core.formats.sky_pictures import read_sky
from mill_lane.core.image.maps import layer_picture
from mill_lane.core.image.srgb import view
from mill_lane.core.plan.frame_output import write_frame
from mill_lane.core.plan.parts_check import add_up
from mill_lane.core.progress import part
from mill_lane.core.recipe import Recipe
from mill_lane.core.render.layers import exr_names, show_of
from mill_lane.core.render.picture_header import axis_cosines, picture_header, with_axis_depth
from mill_lane.core.render.session import Session
from mill_lane.store.files import hash_of
from mill_lane.work.kept_scene import forget_scene
from mill_lane.work.kinds.base import Report
from mill_lane.work.kinds.render_parts import THUMBNAIL, Layer, Request, Result
from mill_lane.work.machine_state import state_now
from mill_lane.work.memory import peak_since
from mill_lane.work.pieces import render_pieces
from mill_lane.work.put_aside import Layers
from mill_lane.work.stepping import when_there_is_room, when_written
from mill_lane.work.warm import prepare


def render(request: Request, report: Report) -> Result:
    """Render a crop or a frame, with previews and checkpoints; stopped by hand it keeps what it
    has.

    Raises
    ------
    Cancelled
        When there is nothing to keep yet.
    Paused
        When it was put aside; its state lies in its folder.
    """
    before = state_now()
    started = time.perf_counter()
    # Before the baseline is read, the machine code and the libraries are there: they belong to no
    # scene.
    prepare(part(report, 0.0, 0.01))
    prepared = time.perf_counter() - started
    sky = sky_pixels(request.sky, request.recipe)
    compared = _compared(request, sky, report) if request.compare else {}
    done = render_pieces(request, report, sky)
    session, stopped = done.session, done.stopped
    scene = session.loaded.scene
    cosines = axis_cosines(scene, request.recipe, request.region)

    def layers() -> Layers:
        return with_axis_depth(done.layers(), cosines)

    header = picture_header(
        scene, request.recipe, request.frame, done.figures["samples_mean"], hash_of(request.scene)
    )
    exposure = request.recipe.exposure
    exr, png = when_there_is_room(report, lambda: _write(layers, exposure, request.folder, header))
    after = state_now()
    measured: dict[str, Any] = (
        done.figures
        | compared
        | {
            "setup_seconds": prepared + done.setup,
            "warm": done.warm,
            "resumed": done.resumed,
            "peak_memory_bytes": peak_since(done.baseline),
            # What is mapped from files: what of it was read is in the peak.
            "mapped_bytes": session.loaded.held["mapped"],
            "ended_by": "hand" if stopped else done.figures["ended_by"],
            "load_before": before.load,
            "load_after": after.load,
            "memory_free_after": after.memory_free,
            "temperature_after": after.temperature,
        }
    )
    small: dict[str, Layer] = {}
    output, state = request.output, None
    if output is not None and not stopped:
        measured |= when_written(
            report,
            lambda: write_frame(
                output.sheet, output.folder, request.frame, layers, exposure, header
            ),
        )
        path = when_there_is_room(report, lambda: write_thumbnail(png, request.folder))
        small[THUMBNAIL] = Layer(path=path)
        if output.sheet.keep_states and request.means.pieces == 1:
            state = request.folder / "ended.npz"
            when_there_is_room(report, lambda: session.save(state))
    measured["whole_seconds"] = time.perf_counter() - started
    result = Result(
        picture=png, exr=exr, stopped=stopped, layers=small, measured=measured, state=state
    )
    if request.taken_apart:
        pictures = when_there_is_room(report, lambda: _layer_pictures(session, request.folder))
        profile = asdict(session.profile())
        result = result.model_copy(update={"layers": pictures, "time_profile": profile})
    return result


def _compared(request: Request, sky: NDArray[np.float32] | None, report: Report) -> dict[str, Any]:
    """How the parts of the scene add up, on a small frame; see `parts_check`."""
    forget_scene()
    found = add_up(
        open_scene(request.scene),
        request.recipe,
        request.means,
        request.images,
        request.frame,
        request.threads,
        sky,
        report,
    )
    return {"parts": {"light": found.light, "difference": found.difference, "said": found.words}}


def sky_pixels(path: Path | None, recipe: Recipe) -> NDArray[np.float32] | None:
    """The recipe's sky picture (H, W, 3), linear light; None where it has none."""
    return None if path is None else read_sky(path, recipe.environment_picture.split("/")[2])


def _write(
    layers: Callable[[], Layers], exposure: float, folder: Path, header: dict[str, Any]
) -> tuple[Path, Path]:
    exr, png = folder / "picture.exr", folder / "picture.png"
    write_exr(exr, layers(), header, names=exr_names())
    beauty = next(layers())[1]
    write_pixels(png, view(beauty, exposure))
    return exr, png


def _layer_pictures(session: Session, folder: Path) -> dict[str, Layer]:
    """A PNG of each layer that can be looked at, with its scale where it is a map."""
    out: dict[str, Layer] = {}
    for i, (name, plane) in enumerate(session.each_layer()):
        show = show_of(name)
        # A component without any light has nothing to show.
        if name == "beauty" or show is None or (plane.ndim == 3 and not plane.any()):
            continue
        spent = session.seconds * session.threads
        picture, scale = layer_picture(plane, show, session.recipe.exposure, spent)
        path = folder / f"layer-{i}.png"
        write_pixels(path, picture)
        out[name] = Layer(path=path, **(asdict(scale) if scale else {}))
    return out
