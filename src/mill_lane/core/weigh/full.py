"""Weighing in full, in stages whose results can be shown as they come."""

from __future__ import annotations

import base64
from collections.abc import Callable
from dataclasses import replace

import numpy as np

from mill_lane.core.errors import MillError
from mill_lane.core.formats.pictures import encode
from mill_lane.core.progress import Progress, part, silent
from mill_lane.core.render.in_order import in_order
from mill_lane.core.render.load import load
from mill_lane.core.scene.edit import replace_images
from mill_lane.core.scene.model import Scene
from mill_lane.core.weigh.analysis import LETTERS, Analysis, TextureRow, Visibility
from mill_lane.core.weigh.images import ImageUse, inspect_image
from mill_lane.core.weigh.lighting import LightView, light_view, reach, strong_and_small
from mill_lane.core.weigh.measure import PICTURE_HEIGHT, weigh
from mill_lane.core.weigh.observe import observe
from mill_lane.core.weigh.visibility import CLASSES, WIDE, Observer, View

LIT_FRAMES = 3  # frames of the small renders: first, middle, last
STACKED = 1.5  # transparent layers along rays through an object, from which on it is told
Ready = Callable[[Analysis], None]


def weigh_full(
    scene: Scene,
    aspect: float = 16 / 9,
    camera: str | None = None,
    threads: int = 1,
    progress: Progress = silent,
    ready: Ready | None = None,
) -> Analysis:
    """Count and measure, decode every picture, look at the shot from all over its frames, light it.

    Parameters
    ----------
    scene : Scene
    aspect : float
        Width over height of the picture.
    camera : str or None
    threads : int
    progress : callable
        Told how far it is, from 0 to 1, and may stop it.
    ready : callable, optional
        Gets the analysis after each stage.

    Returns
    -------
    Analysis

    Raises
    ------
    MillError
        Where the scene is damaged.

    Notes
    -----
    Pictures are decoded one after another and kept small, so that this takes little more memory
    than the meshes.
    """
    tell = ready or (lambda analysis: None)
    analysis = weigh(scene, aspect, camera, part(progress, 0.0, 0.3), exact=True)
    tell(analysis)
    looks = []
    for i, found in enumerate(in_order(lambda k: _image(scene, k), len(scene.images), threads)):
        looks.append(found)
        progress(
            0.3 + 0.3 * (i + 1) / len(scene.images), f"textures: {i + 1} of {len(scene.images)}"
        )
    analysis = with_images(analysis, looks)
    tell(analysis)
    small = replace_images(scene, {i: x.small for i, x in enumerate(looks)})
    loaded = load(small, threads, part(progress, 0.6, 0.7))
    observer = Observer(loaded, aspect, PICTURE_HEIGHT, camera, WIDE)
    view = observe(observer, part(progress, 0.7, 0.9))
    analysis = with_view(analysis, scene, view, aspect)
    tell(analysis)
    first, last = scene.frames
    frames = sorted(
        {first + round(i * (last - first) / (LIT_FRAMES - 1)) for i in range(LIT_FRAMES)}
    )
    lit = light_view(
        loaded, frames, aspect, threads, camera=camera, progress=part(progress, 0.9, 1.0)
    )
    return with_lights(analysis, scene, lit)


def _image(scene: Scene, index: int) -> ImageUse:
    image = scene.images[index]
    try:
        return inspect_image(image)
    except MillError:
        return ImageUse(
            image.channels, image.bits, "cannot be decoded", "", replace(image, missing=True)
        )


def with_images(analysis: Analysis, looks: list[ImageUse]) -> Analysis:
    """The analysis with what decoding told."""
    first: dict[str, int] = {}
    rows: list[TextureRow] = []
    for row in analysis.textures:
        found = looks[row.index]
        same = first.setdefault(found.digest, row.index) if found.digest else row.index
        rows.append(
            row.model_copy(
                update={
                    "channels_used": found.channels,
                    "bits_used": found.bits,
                    "why": found.why,
                    "constant": found.constant,
                    "jpeg_bytes": found.jpeg_bytes,
                    "same_as": same if same != row.index else None,
                }
            )
        )
    return analysis.model_copy(update={"textures": rows, "stage": 2})


def with_view(analysis: Analysis, scene: Scene, view: View, aspect: float) -> Analysis:
    """The analysis with what looking told."""
    placed = [mesh for _, mesh in scene.instances]
    best: dict[int, int] = {}
    most: dict[int, tuple[float, int]] = {}
    for index, mesh in enumerate(placed):
        best[mesh] = max(best.get(mesh, 0), int(view.best[index]))
        most[mesh] = max(
            most.get(mesh, (-1.0, 0)), (float(view.most[index]), int(view.where[index]))
        )
    pixels = PICTURE_HEIGHT**2 * aspect
    meshes, by_image = [], dict.fromkeys(range(len(analysis.textures)), -1)
    for row in analysis.meshes:
        share, frame = most[row.index]
        for image in row.images:
            by_image[image] = max(by_image[image], best[row.index])
        covered = share > 0
        meshes.append(
            row.model_copy(
                update={
                    "seen": CLASSES[best[row.index]],
                    "share": share,
                    "share_frame": frame if covered else None,
                    "triangles_per_px": row.triangles / (share * pixels) if covered else None,
                }
            )
        )
    textures = [
        row.model_copy(
            update={
                "texel_need": view.needs.get(row.index),
                "seen": CLASSES[by_image[row.index]] if by_image[row.index] >= 0 else None,
            }
        )
        for row in analysis.textures
    ]
    outlines = [
        f.model_copy(
            update={"seen": CLASSES[int(view.best[f.object])], "share": float(view.most[f.object])}
        )
        for f in analysis.outlines
    ]
    shown = np.minimum(view.overlap, 255).astype(np.uint8)[..., None]
    found = Visibility(
        frames=view.frames,
        rays=view.rays,
        steady=view.steady,
        height=PICTURE_HEIGHT,
        transparency_depth=view.transparency_depth,
        transparency_depth_p99=view.transparency_depth_p99,
        overlap=base64.b64encode(encode(shown, "image/png")).decode(),
        overlap_frame=view.overlap_frame,
        fog=view.fog,
        objects="".join(tuple(LETTERS)[k] for k in view.best),
        stacked=[(i, round(n, 2)) for i, n in view.stacked.items() if n >= STACKED],
        inside=[
            (scene.nodes[scene.instances[i][0]].name, frame, round(share, 3))
            for frame, i, share in view.inside
        ],
    )
    return analysis.model_copy(
        update={
            "meshes": meshes,
            "textures": textures,
            "outlines": outlines,
            "visibility": found,
            "fogs": [
                fog.model_copy(update={"seen": share})
                for fog, share in zip(analysis.fogs, view.fogs, strict=True)
            ],
            "stage": 3,
        }
    )


def with_lights(analysis: Analysis, scene: Scene, lit: LightView) -> Analysis:
    """The analysis with what the small renders told."""
    assert analysis.visibility is not None
    names = [scene.nodes[node].name for node, _ in scene.instances]
    alike: dict[str, int] = {}
    for row in analysis.lights:
        alike[row.name] = alike.get(row.name, 0) + 1
    lights = [
        row.model_copy(
            update={
                "share": lit.shares.get(row.name, 0.0) if lit.shares is not None else None,
                "together": alike[row.name],
                "reach_m": reach(row.candela, lit.mean),
                "noisy": strong_and_small(row.radiance, row.size_m, row.nearest_m, lit.mean),
            }
        )
        for row in analysis.lights
    ]
    found = analysis.visibility.model_copy(
        update={
            "light_frames": lit.frames,
            "mean": lit.mean,
            "sky_share": None
            if lit.shares is None
            else sum(share for name, share in lit.shares.items() if name not in alike),
            "blown": [(names[t], share) for t, share in lit.blown],
        }
    )
    return analysis.model_copy(update={"lights": lights, "visibility": found, "stage": 4})
