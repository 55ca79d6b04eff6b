"""Looking at what is wanted last, in the process that computes; see `kinds.live_look`."""

from __future__ import annotations

import json
import time
from collections.abc import Mapping
from contextlib import suppress
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.denoise.denoise import denoise
from mill_lane.core.errors import MillError
from mill_lane.core.formats.pictures import quick_png
from mill_lane.core.progress import Cancelled
from mill_lane.core.recipe_versions import stored
from mill_lane.core.render.live import WORK, Limits, LiveLook, Wanted, choices, quick_view
from mill_lane.core.render.settings import Preview
from mill_lane.work.kept_scene import forget_scene, loaded_scene
from mill_lane.work.kinds.base import Report
from mill_lane.work.live_files import LiveFiles, Request, Wish
from mill_lane.work.memory import free_now, resident
from mill_lane.work.put_aside import frame_key
from mill_lane.work.rendering import sky_pixels
from mill_lane.work.warm import prepare

STEP = 0.06  # seconds of rendering between two looks at what is wanted
RHYTHM, SLOWEST = 0.12, 0.45  # seconds between two pictures, at first and later
SHARE = 4.0  # times as long as drawing a picture takes that is rendered in between
ALONE = 20.0  # seconds without anybody looking after which it stops by itself
NOISE_EVERY = 1.0  # seconds between two looks at the noise
CLEAN_FROM = 2  # samples that a quick denoise needs
# What was looked at last, by scene: it goes on where nothing else is wanted.
_kept: dict[str, LiveLook] = {}
_frozen: set[int] = set()  # the number of the state that was saved last


def run(request: Request, report: Report) -> tuple[int, str]:
    """Look until there is nothing more to see.

    Returns
    -------
    number : int
        Of the wish that was looked at last.
    why : str
        "samples", "noise", "paused", "left alone", "another scene".

    Raises
    ------
    Cancelled
        When something goes before it; what it has stays in memory, as far as that is not needed.
    """
    files = LiveFiles(request.folder, request.job)
    wish = files.wanted()
    if wish is None:
        return 0, "paused"
    try:
        look = _look_of(request, _Loading(report, files, wish))
        return _Running(request, report, files, look).run()
    except Cancelled:
        if free_now() < 2 * resident():  # whatever goes before it may need the room
            _kept.clear()
            forget_scene()
        raise
    except MillError as e:
        files.tell({"number": wish.number, "phase": "wrong", **e.as_json()}, b"")
        return wish.number, "wrong"


class _Loading:
    """Passes on how far loading is, and says it beside the picture that was there before."""

    def __init__(self, report: Report, files: LiveFiles, wish: Wish) -> None:
        self._report, self._files, self._wish = report, files, wish
        self._last = 0.0
        self.live: dict[str, Any] = {}

    def __call__(self, share: float, text: str) -> None:
        self._report.live = self.live
        self._report(share, text)
        if time.monotonic() - self._last > 0.3:
            self._last = time.monotonic()
            said = {"number": self._wish.number, "phase": "loading", "text": text, **self.live}
            self._files.tell(said, b"")

    def hear(self) -> Mapping[str, Any]:
        return self._report.hear()

    def partly(self, result: Any) -> None:
        self._report.partly(result)

    def wait_for_room(self, share: float, why: str = "the disk is full") -> None:
        self._report.wait_for_room(share, why)


def _look_of(request: Request, report: Report) -> LiveLook:
    """The look at the scene; begun where another was loaded last."""
    before = _kept.get(request.file_hash)
    prepare(lambda share, text: report(0.0, text))
    loaded, _ = loaded_scene(request.scene, {}, request.threads, report, textures=request.textures)
    if before is not None and before.loaded is loaded:
        return before
    _kept.clear()
    _kept[request.file_hash] = look = LiveLook(loaded, request.threads)
    return look


def _manner(wish: Wish) -> tuple[str, bool, float, float]:
    """How a picture is shown: which layer, whether denoised, exposure and gain."""
    return wish.layer, wish.clean, wish.recipe.exposure, wish.stops


class _Running:
    """One stretch of looking."""

    def __init__(self, request: Request, report: Report, files: LiveFiles, look: LiveLook) -> None:
        self.request, self.report, self.files, self.look = request, report, files, look
        self.wish: Wish | None = None
        self.stamp = -1
        self.sky: tuple[Any, NDArray[np.float32] | None] = None, None
        self.next_picture, self.next_noise, self.pictures = 0.0, 0.0, 0
        self.noise: float | None = None
        self.began = time.monotonic()
        self.wrong: dict[str, Any] = {}

    def run(self) -> tuple[int, str]:
        while True:
            self._hear()
            wish = self.wish
            assert wish is not None
            why = self._over(wish)
            if not why:
                self.look.step(STEP)
                why = self._over(wish)
            now = time.monotonic()
            if why or now >= self.next_picture:
                self._show(wish, why)
            if wish.freeze:
                self._freeze(wish)
            self.report.live = {"phase": "looking"}
            self.report(self._share(), "looking")
            if why and self.files.changed() == self.stamp:
                return wish.number, why

    def _over(self, wish: Wish) -> str:
        if wish.file_hash != self.request.file_hash:
            return "another scene"
        if self.wrong:
            return "wrong"
        waits = wish.freeze and (self.look.session is None or self.look.session.index < 1)
        if waits:
            return ""  # a trial needs a whole sample at least
        if wish.paused:
            return "paused"
        if self.files.alone() > ALONE:
            return "left alone"
        return self.look.done

    def _share(self) -> float:
        session = self.look.session
        return min(1.0, session.index / self.look.limits.samples) if session is not None else 0.0

    def _hear(self) -> None:
        """Take up what is wanted, where that is something else."""
        stamp = self.files.changed()
        if stamp == self.stamp:
            return
        wish = self.files.wanted()
        if wish is None:
            raise Cancelled
        self.stamp, before, self.wish = stamp, self.wish, wish
        if wish.file_hash != self.request.file_hash:
            return
        self.look.limits = Limits(wish.samples, wish.clean_share)
        wanted = Wanted(
            wish.recipe, wish.crop, wish.frame, Preview(**wish.preview), wish.layer == WORK
        )
        self.wrong = {}
        try:
            anew = self.look.want(wanted, self._sky(wish))
        except MillError as e:
            self.wrong = e.as_json()
            anew = True
        self.look.look_at(wish.place)
        if anew:
            self.pictures, self.noise, self.began = 0, None, time.monotonic()
        if anew or before is None or _manner(wish) != _manner(before):
            self.next_picture = 0.0

    def _sky(self, wish: Wish) -> NDArray[np.float32] | None:
        key = wish.sky, wish.recipe.environment_picture
        if self.sky[0] != key:
            self.sky = key, sky_pixels(wish.sky, wish.recipe)
        return self.sky[1]

    def _show(self, wish: Wish, why: str) -> None:
        start = time.monotonic()
        look, session = self.look, self.look.session
        said: dict[str, Any] = {
            "number": wish.number,
            "phase": "wrong" if self.wrong else why or "looking",
            "layer": wish.layer,
            "crop": wish.crop,
            "samples": look.samples,
            "seconds": session.seconds if session is not None else 0.0,
            "freeze": wish.freeze,
            **self.wrong,
        }
        if session is not None and session.index >= 2 and (why or start >= self.next_noise):
            self.next_noise = start + NOISE_EVERY
            noise = session.noise().rms
            self.noise = noise if np.isfinite(noise) else None
        said |= {"noise": self.noise}
        picture = b""
        if look.shown and not self.wrong:
            # Quickly rather than small, as long as more of them come.
            picture = quick_png(self._picture(wish), 1 if why else 0)
            if look.scale is not None and choices()[wish.layer].show.scale() is None:
                said |= {"scale": [look.scale.low, look.scale.high, look.scale.unit]}
            self.pictures += 1
        self.files.tell(said, picture)
        # Soon again at first; drawing never takes more than a fifth of the time.
        took = time.monotonic() - start
        pause = min(RHYTHM + 0.03 * self.pictures, SLOWEST)
        self.next_picture = time.monotonic() + (max(pause, SHARE * took) if self.pictures else 0.0)

    def _picture(self, wish: Wish) -> NDArray[np.uint8]:
        session, exposure = self.look.session, wish.recipe.exposure
        ready = session is not None and session.index >= CLEAN_FROM
        if wish.clean and wish.layer == "beauty" and ready and session is not None:
            # Too small a crop, or no room: then it is shown as it is.
            with suppress(MillError, MemoryError):
                clean = denoise(session.layers(), "preview", threads=session.threads).picture
                return quick_view(clean, exposure + wish.stops)
        return self.look.picture(wish.layer, exposure, wish.stops)

    def _freeze(self, wish: Wish) -> None:
        """Save what there is as a trial's state, once for each time that it is asked for."""
        path = self.files.frozen(wish.freeze)
        session = self.look.session
        if wish.freeze in _frozen or session is None or session.index < 1:
            return
        shown = {"region": session.bounds, "frame": wish.frame, "preview": wish.preview}
        recipe = session.recipe.model_copy(update={"exposure": wish.recipe.exposure})
        about = {"file_hash": wish.file_hash, "recipe": stored(recipe), **shown, "note": ""}
        session.key = frame_key(wish.file_hash, recipe, shown)
        session.about = json.dumps(about)
        beside = path.with_name(f"{path.name}.part.npz")
        session.save(beside)
        beside.replace(path)
        _frozen.clear()
        _frozen.add(wish.freeze)
