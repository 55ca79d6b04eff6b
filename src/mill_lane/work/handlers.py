"""What the child process can do, by kind of task.

Each takes a payload and a reporter and returns a result.
"""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from dataclasses import asdict
from pathlib import Path
from typing import Any

import numpy as np
import psutil

from mill_lane.core.formats.exr import write_exr
from mill_lane.core.formats.gltf import write_glb
from mill_lane.core.formats.gltf.turn import read_in
from mill_lane.core.formats.opening import check_vertices, open_scene
from mill_lane.core.formats.pictures import read_sky, write_pixels
from mill_lane.core.formats.saving import save_scene
from mill_lane.core.formats.units import NAMES, reading, said
from mill_lane.core.image.maps import layer_picture
from mill_lane.core.image.srgb import view
from mill_lane.core.progress import Cancelled, part
from mill_lane.core.recipe import Recipe
from mill_lane.core.render.load import Loaded, load
from mill_lane.core.render.session import Session, threads_to_use
from mill_lane.core.render.settings import Preview
from mill_lane.core.scene.defaults import world_bounds
from mill_lane.core.trim.textures import shrink
from mill_lane.core.weigh.analysis import Analysis
from mill_lane.core.weigh.full import weigh_full
from mill_lane.core.weigh.measure import weigh
from mill_lane.demo.make import make_demo
from mill_lane.work.child import Paused, Reporter
from mill_lane.work.memory import give_back, peak_since, reset_peak, resident
from mill_lane.work.warm import prepare

CHECKPOINT_SECONDS = 15.0
# The scene that was loaded last, kept for the next trial of it.  This process has no other state.
_warm: dict[str, Loaded] = {}


def handle_prepare(payload: dict[str, Any], report: Reporter) -> dict[str, Any]:
    """Compile the kernels, or load them from the cache."""
    return {"seconds": prepare(report)}


def handle_demo(payload: dict[str, Any], report: Reporter) -> dict[str, Any]:
    """Build the demo scene unless it is there, and weigh it."""
    path = Path(payload["path"])
    if not path.exists():
        make_demo(path, payload["size"], 2, part(report, 0.0, 0.85))
    return _weighed(path, part(report, 0.85, 1.0))


def handle_open(payload: dict[str, Any], report: Reporter) -> dict[str, Any]:
    """Read a file that came in, check every vertex, pack it as one GLB, and weigh it."""
    source, path = Path(payload["source"]), Path(payload["path"])
    report(0.02, "reading the file")
    if payload.get("uploaded"):
        # Under the name that the artist knows: meshes and messages are called by it.
        named = Path(payload["folder"]) / "sent" / payload["name"]
        named.parent.mkdir(exist_ok=True)
        named.unlink(missing_ok=True)
        named.symlink_to(source.absolute())
        source = named
    scene = open_scene(source, part(report, 0.02, 0.4))
    check_vertices(scene, part(report, 0.4, 0.6))
    write_glb(scene, path, part(report, 0.6, 0.85))
    result = _weighed(path, part(report, 0.85, 1.0))
    result["analysis"]["notes"] = [(n.level, n.text) for n in scene.notes]
    result["analysis"]["read_as"] = scene.read_as
    return result


def handle_read_in(payload: dict[str, Any], report: Reporter) -> dict[str, Any]:
    """Read a scene in another unit or with another axis up: a new version, all else as it was."""
    unit, up = payload["unit"], payload["up"]
    scene, path = open_scene(Path(payload["scene"])), Path(payload["path"])
    write_glb(read_in(scene, reading(unit, up)), path, part(report, 0.0, 0.8))
    result = _weighed(path, part(report, 0.8, 1.0))
    low, high = world_bounds(open_scene(path))
    note = said(unit, up, float((high - low).max()))
    # What was told when the file came in still holds, but for the unit.
    kept = [n for n in payload["notes"] if "nor which way is up" not in n[1]]
    result["analysis"] |= {"read_as": (unit, up), "notes": [(note.level, note.text), *kept]}
    result["changes"] = [{"name": path.stem, "text": f"read as {NAMES[unit]} with {up.upper()} up"}]
    return result


def _weighed(path: Path, report: Callable[[float, str], None]) -> dict[str, Any]:
    scene = open_scene(path)
    return {"path": str(path), "analysis": weigh(scene, progress=report).model_dump(mode="json")}


def handle_weigh(payload: dict[str, Any], report: Reporter) -> dict[str, Any]:
    """Weigh a scene version in full; each stage is handed over as soon as it is done."""
    # The kernels look for what is seen as well.
    prepare(part(report, 0.0, 0.02))
    _warm.clear()

    def ready(analysis: Analysis) -> None:
        report.live = {"stage": analysis.stage}
        report.partly({"analysis": analysis.model_dump(mode="json")})

    try:
        scene = open_scene(Path(payload["scene"]))
        threads = threads_to_use(64)
        found = weigh_full(
            scene, payload["aspect"], threads=threads, progress=part(report, 0.02, 1.0), ready=ready
        )
        return {"analysis": found.model_dump(mode="json")}
    finally:
        give_back()


def handle_trim(payload: dict[str, Any], report: Reporter) -> dict[str, Any]:
    """Make the staged textures smaller and write the scene anew."""
    scene = open_scene(Path(payload["scene"]))
    sizes = {int(k): int(v) for k, v in payload["sizes"].items()}
    trimmed, changes = shrink(scene, sizes, part(report, 0.0, 0.8))
    path = Path(payload["path"])
    write_glb(trimmed, path, part(report, 0.8, 0.95))
    return {**_weighed(path, part(report, 0.95, 1.0)), "changes": [vars(c) for c in changes]}


def handle_export(payload: dict[str, Any], report: Reporter) -> dict[str, Any]:
    """Write a scene version in another format."""
    scene, path = (
        open_scene(Path(payload["scene"])),
        Path(payload["folder"]) / f"scene.{payload['ending']}",
    )
    notes = save_scene(scene, path, report)
    return {"path": str(path), "notes": [n.text for n in notes]}


def handle_render(payload: dict[str, Any], report: Reporter) -> dict[str, Any]:
    """Render a crop or a frame, with previews and checkpoints; stopped by hand it keeps what it
    has.
    """
    folder = Path(payload["folder"])
    load_before = psutil.getloadavg()[0]
    started = time.perf_counter()
    scene_path = payload["scene"]
    # Before the baseline is read, the machine code and the libraries are there: they belong to no
    # scene.
    prepare(part(report, 0.0, 0.01))
    warm = scene_path in _warm
    baseline = payload.get("baseline") or resident()
    if not warm:
        _warm.clear()
        baseline = resident()
    reset_peak()
    if not warm:
        scene = open_scene(Path(scene_path))
        report(0.0, "reading the scene")
        _warm[scene_path] = load(scene, int(payload["threads"]), _loading(report))
        give_back()
        _baseline[scene_path] = baseline
    loaded = _warm[scene_path]
    recipe = Recipe.model_validate(payload["recipe"])
    region = payload["region"]
    session = Session(
        loaded,
        recipe,
        region=(region[0], region[1], region[2], region[3]) if region else None,
        frame=payload["frame"],
        threads=int(payload["threads"]),
        key=payload["key"],
        preview=Preview(**payload.get("preview", {})),
        sky=read_sky(Path(payload["sky"]), recipe.environment_picture.split("/")[2])
        if recipe.environment_picture
        else None,
        about=payload.get("about", ""),
    )
    checkpoint = folder / "state.npz"
    resumed = checkpoint.exists()
    if resumed:
        session.restore(checkpoint)
    setup = time.perf_counter() - started
    stopped = _render(session, report, folder, checkpoint)
    noise = session.noise()
    files = _write(session, folder)
    more: dict[str, Any] = {}
    if payload.get("kind") == "trial":
        more = {"layers": _layer_pictures(session, folder), "profile": asdict(session.profile())}
    return {
        "files": files,
        "stopped": stopped,
        **more,
        "measured": {
            "seconds": session.seconds,
            "setup_seconds": setup,
            "warm": warm,
            "resumed": resumed,
            "samples_mean": session.samples_mean,
            "passes": session.index,
            "noise": noise.rms if np.isfinite(noise.rms) else None,
            "noise_p95": noise.p95 if np.isfinite(noise.p95) else None,
            "rays": session.rays_by_kind(),
            "converged_fraction": session.converged_fraction,
            "light_lost": session.light_lost,
            "peak_memory_bytes": peak_since(_baseline[scene_path]),
            "threads": session.threads,
            "ended_by": "hand" if stopped else session.done,
            "load_before": load_before,
            "load_after": psutil.getloadavg()[0],
        },
    }


_baseline: dict[str, int] = {}  # resident bytes before the warm scene was loaded


def _loading(report: Reporter) -> Callable[[float, str], None]:
    def tell(share: float, text: str) -> None:
        report.live = {"phase": "loading", "load_share": share}
        report(0.0, text)

    return tell


def _render(session: Session, report: Reporter, folder: Path, checkpoint: Path) -> bool:
    """Step until the session is done; returns whether it was stopped by hand.

    Raises Cancelled with nothing to keep.
    """
    preview, version = folder / "preview.png", 0
    next_preview = next_state = 0.0
    next_state = session.clock() + CHECKPOINT_SECONDS
    noise: float | None = None
    passes = session.index
    while not session.done:
        wants = report.hear()
        if wants.get("pause"):
            session.save(checkpoint)
            _preview(session, preview)
            raise Paused
        if wants.get("finish") and session.index >= 1:
            return True
        point = wants.get("priority")
        session.priority = (float(point[0]), float(point[1])) if point else None
        session.step(0.25)
        now = session.clock()
        if now >= next_preview or session.done:
            version += 1
            _preview(session, preview)
            if session.index != passes and session.index >= 2:
                passes = session.index
                rms = session.noise().rms
                noise = rms if np.isfinite(rms) else None
            # Often at first, when much changes; never more than a tenth of the time.
            next_preview = now + max(min(0.4 * version, 3.0), 10 * (session.clock() - now))
        if now >= next_state:
            session.save(checkpoint)
            next_state = session.clock() + CHECKPOINT_SECONDS
        share = session.share
        report.live = {
            "phase": "rendering",
            "preview": version,
            "seconds": session.seconds,
            "samples": session.samples_mean,
            "noise": noise,
            "converged_fraction": session.converged_fraction if session.recipe.noise > 0 else None,
            "priority": session.priority,
            "left": session.seconds * (1 - share) / share if share > 0.002 else None,
        }
        try:
            number = f"sample {min(session.index + 1, session.recipe.samples)}"
            report(
                share,
                f"{number}, no end"
                if session.recipe.endless
                else f"{number} of {session.recipe.samples}",
            )
        except Cancelled:
            if session.index < 1:
                raise
            return True
    return False


def _preview(session: Session, path: Path) -> None:
    """What there is so far, with the view transform; pixels without a sample stay the grey of the
    well.
    """
    film = session.film
    picture = np.full((*film.samples.shape, 3), 0x76, np.uint8)
    for y in range(0, len(picture), 128):
        rows = slice(y, y + 128)
        n = np.maximum(film.samples[rows], 1).astype(np.float32)[..., None]
        have = film.samples[rows] > 0
        picture[rows][have] = view(film.light[rows] / n, session.recipe.exposure)[have]
    temporary = path.with_name("next.png")
    write_pixels(temporary, picture)
    os.replace(temporary, path)


def _write(session: Session, folder: Path) -> dict[str, str]:
    exr, png = folder / "picture.exr", folder / "picture.png"
    write_exr(exr, session.each_layer())
    beauty = next(session.each_layer())[1]
    write_pixels(png, view(beauty, session.recipe.exposure))
    return {"exr": str(exr), "picture": str(png)}


def _layer_pictures(session: Session, folder: Path) -> dict[str, dict[str, Any]]:
    """A PNG of each layer that can be looked at, with its scale where it is a map."""
    out: dict[str, dict[str, Any]] = {}
    for i, (name, plane) in enumerate(session.each_layer()):
        if name == "beauty" or (plane.ndim == 3 and not plane.any()):
            continue  # a component without any light has nothing to show
        try:
            picture, scale = layer_picture(
                name, plane, session.recipe.exposure, session.seconds * session.threads
            )
        except KeyError:
            continue
        path = folder / f"layer-{i}.png"
        write_pixels(path, picture)
        out[name] = {"path": str(path), **(asdict(scale) if scale else {})}
    return out


Handler = Callable[[dict[str, Any], Reporter], dict[str, Any]]
HANDLERS: dict[str, Handler] = {
    "prepare": handle_prepare,
    "demo": handle_demo,
    "open": handle_open,
    "trim": handle_trim,
    "read_in": handle_read_in,
    "weigh": handle_weigh,
    "export": handle_export,
    "trial": handle_render,
    "run": handle_render,
}
