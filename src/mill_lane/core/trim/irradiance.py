"""The light that falls on what a shot sees: of some lights alone, and of skies.

Everything is made dull white, so that the first thing a ray meets gives back its irradiance over
pi; light that bounces is left out of both sides.
"""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass, replace

import numpy as np

from mill_lane.core.image.srgb import LUMA
from mill_lane.core.least_squares import nonnegative
from mill_lane.core.progress import Progress, part, silent
from mill_lane.core.recipe import Recipe
from mill_lane.core.render import slots as s
from mill_lane.core.render.load import Loaded, load
from mill_lane.core.render.session import Session
from mill_lane.core.scene.model import F64, Material, Scene
from mill_lane.core.scene.surroundings import Environment, Vec3

WIDE, HIGH, SAMPLES = 64, 36, 64
FRAMES = 3  # first, middle, last
BLACK, WHITE = (0.0, 0.0, 0.0), (1.0, 1.0, 1.0)
# Low order first: light from all round, which three hats along the height add up to.
HATS = (
    Environment(zenith=WHITE),
    Environment(horizon=WHITE),
    Environment(ground=WHITE),
)


@dataclass(frozen=True)
class MatchingSky:
    """A gradient that gives what is seen the mean irradiance of some lights, by colour.

    irradiance : W/m², the mean luminance.  apart : root mean square of the difference over the
    mean, from place to place.
    """

    zenith: Vec3
    horizon: Vec3
    ground: Vec3
    irradiance: float
    apart: float
    frames: list[int]


def matching_sky(
    scene: Scene,
    camera: str | None,
    nodes: Collection[int],
    materials: Collection[int],
    progress: Progress = silent,
    threads: int = 1,
) -> MatchingSky | None:
    """Find the gradient that lights what a shot sees as some lights do.

    Parameters
    ----------
    scene : Scene
    camera : str or None
    nodes, materials : collections of int
        Nodes that place the lights, materials that emit.
    progress : callable
    threads : int

    Returns
    -------
    MatchingSky or None
        None where the lights, or skies, light nothing that is seen.

    Notes
    -----
    The shape is that of the least squares over pixels without negative radiance; each colour is
    then scaled to have exactly the mean.
    """
    first, last = scene.frames
    frames = sorted({first + round(i * (last - first) / (FRAMES - 1)) for i in range(FRAMES)})
    white = dull(scene, nodes, materials)
    loaded = load(white, threads, part(progress, 0.0, 0.3))
    named = camera if camera in scene.camera_names else None
    wanted = irradiance(loaded, frames, named, threads)
    progress(0.5, "light of weak lights")
    dark = unlit(loaded)
    skies = []
    for k, hat in enumerate(HATS):
        lit = replace(dark, scene=replace(dark.scene, environment=hat))
        skies.append(irradiance(lit, frames, named, threads))
        progress(0.5 + 0.5 * (k + 1) / len(HATS), "light of the sky in their place")
    luma = np.array(LUMA)
    columns = np.stack([x @ luma for x in skies], 1)
    goal = wanted @ luma
    mean = float(goal.mean()) if len(goal) else 0.0
    if mean <= 0 or columns.sum() <= 0:
        return None
    shape = nonnegative(columns.T @ columns, columns.T @ goal)
    given = columns @ shape
    if given.mean() <= 0:
        return None
    tint = wanted.mean(0) / given.mean()
    apart = float(np.sqrt(np.mean((given * mean / given.mean() - goal) ** 2))) / mean
    zenith, horizon, ground = (
        (float(k * tint[0]), float(k * tint[1]), float(k * tint[2])) for k in shape
    )
    return MatchingSky(zenith, horizon, ground, np.pi * mean, apart, frames)


def irradiance(loaded: Loaded, frames: list[int], camera: str | None, threads: int) -> F64:
    """Irradiance over pi where the shot's rays end, (pixels, 3), of all frames together."""
    recipe = Recipe(
        width=WIDE,
        height=HIGH,
        samples=SAMPLES,
        min_samples=SAMPLES,
        bounces=0,
        layers=("components",),
    )
    out = []
    for frame in frames:
        session = Session(
            loaded, recipe, frame=frame, camera=camera, threads=threads, profiled=False
        )
        while not session.done:
            session.step(1.0)
        sums = session.film["components"][:, :, 3 * s.DIFFUSE : 3 * s.DIFFUSE + 3]
        out.append(sums.astype(float).reshape(-1, 3) / SAMPLES)
    return np.concatenate(out)


def dull(scene: Scene, nodes: Collection[int], materials: Collection[int]) -> Scene:
    """The scene in dull white, with some lights alone."""
    own = tuple(
        n if i in nodes or n.light < 0 else replace(n, light=-1) for i, n in enumerate(scene.nodes)
    )
    dressed = tuple(_white(m, i in materials) for i, m in enumerate(scene.materials))
    return replace(scene, nodes=own, materials=dressed, environment=Environment(), media=())


def unlit(loaded: Loaded) -> Loaded:
    """The same scene without any light."""
    scene = loaded.scene
    factors = loaded.factors.copy()
    factors[:, s.M_EMIT_R : s.M_EMIT_B + 1] = 0.0
    nodes = tuple(replace(n, light=-1) for n in scene.nodes)
    return replace(loaded, scene=replace(scene, nodes=nodes), factors=factors)


def _white(m: Material, lit: bool) -> Material:
    """A material that gives all light back evenly; its holes stay, and glass stays glass."""
    holes = m.alpha_mode != "OPAQUE"
    if m.transmission > 0:
        return replace(m, emissive=m.emissive if lit else BLACK)
    return Material(
        m.name,
        (1.0, 1.0, 1.0, m.base_color[3]),
        metallic=0.0,
        specular=0.0,
        emissive=m.emissive if lit else BLACK,
        emissive_texture=m.emissive_texture if lit else None,
        base_texture=m.base_texture if holes else None,
        alpha_mode=m.alpha_mode,
        alpha_cutoff=m.alpha_cutoff,
        double_sided=m.double_sided,
    )
