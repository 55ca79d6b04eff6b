"""Checks of the final recipe."""

from __future__ import annotations

from collections.abc import Iterable

from mill_lane.core.plan.checks.model import Asked, Found, Mend
from mill_lane.core.recipe import DENOISE_LAYERS, FINAL
from mill_lane.core.render.layers import LAYER_WORDS


def denoising(asked: Asked) -> Iterable[Found]:
    """Whether the layers are there that denoising needs."""
    final = asked.shot.recipe
    missing = [n for n in DENOISE_LAYERS if n not in final.kept_layers]
    if final.denoise != "no":
        text = f"Denoised {final.denoise.replace('with', 'with each frame')}."
        yield Found("denoise", "ok", text)
    elif missing:
        named = " and ".join(LAYER_WORDS.get(n, n) for n in missing)
        text = f"Denoising later needs more in the files: {named}."
        mend = Mend("keep them", recipe={"layers": (*final.layers, *missing)})
        yield Found("denoise", "warning", text, "finish", mend)
    else:
        yield Found("denoise", "ok", "The files have all that denoising later needs.")


def samples(asked: Asked) -> Iterable[Found]:
    """Whether a frame ends."""
    if asked.shot.recipe.endless:
        least = max(FINAL.samples, asked.shot.recipe.min_samples)
        mend = Mend(f"at most {least} samples", recipe={"samples": least})
        yield Found("samples", "error", "The final recipe has no end.", "finish", mend)


def preview_means(asked: Asked) -> Iterable[Found]:
    """Whether means of a preview are still on."""
    final = asked.shot.recipe
    if final.russian_roulette_threshold > 0 or final.pattern_block > 1:
        text = "Preview means are on: they leave blotches."
        off = {"russian_roulette_threshold": 0.0, "pattern_block": 1}
        yield Found("preview", "warning", text, "finish", Mend("turn them off", recipe=off))


def noise_threshold(asked: Asked) -> Iterable[Found]:
    """Whether the noise threshold can ever count, and is sane."""
    final = asked.shot.recipe
    if final.noise <= 0:
        return
    if final.min_samples >= final.samples:
        text = "The noise threshold never counts: at least as many samples as at most."
        least = max(1, final.samples // 4)
        mend = Mend(f"at least {least} samples", recipe={"min_samples": least})
        yield Found("noise", "warning", text, "finish", mend)
    if final.min_samples < FINAL.min_samples <= final.samples:
        # Fewer miss rare bright paths, and pixels stop early: see docs/performance.md.
        text = f"The noise is judged from {final.min_samples} samples, which misses bright paths."
        mend = Mend(f"at least {FINAL.min_samples}", recipe={"min_samples": FINAL.min_samples})
        yield Found("noise", "warning", text, "finish", mend)
