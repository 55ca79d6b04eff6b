"""Looking at a whole shot, frame after frame, until more frames change nothing."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from mill_lane.core.progress import Progress, silent
from mill_lane.core.render.pose import pose
from mill_lane.core.weigh.frames import stands_still
from mill_lane.core.weigh.hits import (
    I64,
)
from mill_lane.core.weigh.visibility import (
    INSIDE,
    MOST_FRAMES,
    OFTEN,
    PASSES,
    RARE,
    STEADY,
    Observer,
    Seen,
    View,
)


def spread(frames: tuple[int, int]) -> list[list[int]]:
    """Frames of a range in the order of looking:

    both ends and the middle first, then always halfway between.
    """
    first, last = frames
    n = last - first + 1
    most = min(n, MOST_FRAMES)
    chosen: list[int] = []
    out: list[list[int]] = []
    steps = 2
    while len(chosen) < most:
        wanted = [first + round(i * (n - 1) / steps) for i in range(steps + 1)]
        new = sorted(set(wanted) - set(chosen))[: most - len(chosen)]
        if new:
            out.append(new)
            chosen += new
        steps *= 2
    return out


def observe(observer: Observer, progress: Progress = silent) -> View:
    """Visibility at more and more frames until what is seen, and how sharply, stays the same.

    The answer is steady when the objects that the last round of frames brought into a higher class
    have less than a thousandth of the picture together, and no texel need of a texture that is met
    often moved by more than 5 %; otherwise all of a spread of 33 frames were looked at.
    """
    scene = observer.loaded.scene
    if stands_still(scene, [n for n, _ in (*scene.instances, *scene.placed_lights)]):
        observer = replace(observer, world=pose(observer.loaded, 0.0))
    rounds = [[(f, 0) for f in group] for group in spread(scene.frames)]
    if scene.frames[0] == scene.frames[1]:
        rounds = [[(scene.frames[0], i)] for i in range(PASSES)]
    planned = sum(len(r) for r in rounds)
    done: list[tuple[int, Seen]] = []
    before: tuple[I64, dict[int, tuple[float, float]]] | None = None
    steady = False
    for jobs in rounds:
        # One after another: numpy holds the interpreter most of the time, and two threads hinder
        # each other.
        for frame, turn in jobs:
            seen = observer.frame(frame, turn)
            done.append((frame, seen))
            progress(len(done) / planned, f"looking: frame {frame}, {len(done)} of up to {planned}")
        best = np.max([x.best for _, x in done], axis=0)
        needs = needs_of([x for _, x in done])
        if before is not None:
            fresh = np.mean([x.pixels for _, x in done], axis=0)[best > before[0]].sum()
            often = {
                i
                for i in needs
                if sum(len(a) for _, x in done for a in x.needs.get(i, [])) >= OFTEN
            }
            if fresh < RARE and still(before[1], needs, often):
                steady = True
                break
        before = best, needs
    every = [x for _, x in done]
    pixels = np.array([x.pixels for x in every])
    layers = [x.layers[0] for x in every]
    deepest = int(
        np.argmax(
            [int(x.max(initial=0)) * 1e6 + float(x.mean()) if len(x) else 0.0 for x in layers]
        )
    )
    whole = np.concatenate(layers)
    met = sum((x.stacked for x in every if len(x.stacked)), np.zeros((len(pixels[0]), 2)))
    rays = sum(x.rays for x in every)
    return View(
        frames=sorted({f for f, _ in done}),
        rays=rays,
        steady=steady or len(done) >= scene.frames[1] - scene.frames[0] + 1,
        best=best,
        most=pixels.max(0),
        where=np.array([done[i][0] for i in pixels.argmax(0)], np.int64),
        mean=pixels.mean(0),
        needs=needs,
        transparency_depth=int(whole.max(initial=0)),
        transparency_depth_p99=int(np.ceil(np.percentile(whole, 99))),
        overlap=layers[deepest].reshape(observer.rows, observer.wide),
        overlap_frame=done[deepest][0],
        fog=sum(x.fog for x in every) / max(rays, 1),
        fogs=[
            sum(x.fogs[k] for x in every if x.fogs) / max(rays, 1)
            for k in range(len(observer.loaded.scene.media))
        ],
        inside=_inside(done),
        stacked={int(i): float(met[i, 1] / met[i, 0]) for i in np.flatnonzero(met[:, 0])},
    )


def _inside(done: list[tuple[int, Seen]]) -> list[tuple[int, int, float]]:
    """Each object that the camera is inside of, in the frame where its back fills the most."""
    most: dict[int, tuple[int, float]] = {}
    for frame, seen in done:
        for i in np.flatnonzero(seen.backs >= INSIDE):
            if seen.backs[i] > most.get(int(i), (0, 0.0))[1]:
                most[int(i)] = frame, float(seen.backs[i])
    return [(frame, i, share) for i, (frame, share) in sorted(most.items())]


def needs_of(seen: list[Seen]) -> dict[int, tuple[float, float]]:
    """The 98th percentile over all places where a texture was met."""
    out = {}
    for image in {i for x in seen for i in x.needs}:
        found = np.concatenate([a for x in seen for a in x.needs.get(image, [])])
        if len(found):
            width, height = np.percentile(found, 98, axis=0)
            out[image] = (float(width), float(height))
    return out


def still(
    before: dict[int, tuple[float, float]], after: dict[int, tuple[float, float]], often: set[int]
) -> bool:
    """Whether texel needs moved by less than `STEADY` where they were met often."""
    return all(
        i in before
        and all(abs(a - b) <= STEADY * b for a, b in zip(after[i], before[i], strict=True))
        for i in often
    )
