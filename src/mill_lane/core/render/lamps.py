"""Gathering what shines into one table: punctual lights, glowing triangles, the sky."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.image.srgb import LUMA
from mill_lane.core.render import world as w
from mill_lane.core.render.lights import FAR, sky_radiance
from mill_lane.core.render.sizes import levels
from mill_lane.core.render.texture import Textures
from mill_lane.core.render.traverse import Accel
from mill_lane.core.render.world import Lights, Surfaces
from mill_lane.core.scene.model import Environment, Light, Scene

SKY_HEIGHT, SKY_WIDTH = 128, 1  # the gradient does not change round the horizon
SKY_SHARE = 0.3  # of the light rays go to the sky at most where there are other lights
KINDS = {"point": w.POINT, "spot": w.SPOT, "directional": w.SUN}


def gather_lights(scene: Scene, matrices: NDArray[np.float64], accel: Accel, surfaces: Surfaces, textures: Textures) -> Lights:
    """The light table of a posed scene; `surfaces.instances` receives the first row of each glowing instance.

    A light is picked in proportion to its power: 4 pi I for a point, area x pi x radiance for a glowing triangle, and
    for what comes from outside the power through a disc round the scene, the sky capped at a share.
    """
    radius = 1.0
    if len(accel.top_order):
        box = accel.top_boxes[0].astype(float)
        radius = float(np.linalg.norm(box[3:] - box[:3])) / 2
    rows: list[NDArray[np.float64]] = []
    powers: list[float] = []
    for node, index in scene.lamps:
        light = scene.lights[index]
        row = _punctual(light, matrices[node])
        luma = float(row[10:13] @ np.array(LUMA))
        if luma > 0:
            rows.append(row)
            powers.append(luma * (math.pi * radius * radius if light.kind == "directional" else 4 * math.pi))
    for inst in range(len(surfaces.instances)):
        glow = _glowing(inst, accel, surfaces, textures)
        if glow is not None:
            surfaces.instances[inst, 2] = len(rows)
            rows.extend(glow[0])
            powers.extend(glow[1].tolist())
    environment = scene.environment or Environment()
    sky = np.array([*environment.zenith, *environment.horizon, *environment.ground], float)
    sky_row, by_row, by_column = -1, np.zeros(2), np.zeros((1, 2))
    if sky.max() > 0:
        by_row, by_column, mean = _sky_table(sky)
        sky_row = len(rows)
        rows.append(np.array([w.SKY] + [0.0] * 15, float))
        powers.append(mean * math.pi * math.pi * radius * radius)
        # Most of the sky's power passes by; a room that sees a little of it should not spend all its rays on it.
        others = sum(powers[:-1])
        if others > 0:
            powers[-1] = min(powers[-1], others * SKY_SHARE / (1 - SKY_SHARE))
    table = np.array(rows, float).reshape(-1, 16)
    total = sum(powers)
    chance = np.array(powers, float) / total if total > 0 else np.zeros(0)
    if total <= 0:
        table = table[:0]
    return Lights(table, chance, np.cumsum(chance), sky, sky_row, by_row, by_column)


def _punctual(light: Light, m: NDArray[np.float64]) -> NDArray[np.float64]:
    row = np.zeros(16)
    row[0] = KINDS[light.kind]
    row[1:4] = m[:3, 3]
    axis = -m[:3, 2]
    row[4:7] = axis / (np.linalg.norm(axis) or 1.0)
    row[10:13] = np.array(light.color) * light.intensity
    row[13] = light.range if math.isfinite(light.range) else FAR
    row[14], row[15] = math.cos(light.inner_cone), math.cos(light.outer_cone)
    return row


def _glowing(
    inst: int, accel: Accel, surfaces: Surfaces, textures: Textures
) -> tuple[NDArray[np.float64], NDArray[np.float64]] | None:
    part, material, _ = (int(x) for x in surfaces.instances[inst])
    factors = surfaces.factors[material]
    luma = float(factors[w.M_EMIT_R : w.M_EMIT_R + 3] @ np.array(LUMA))
    if luma <= 0:
        return None
    luma *= _mean(textures, int(surfaces.slots[material, w.EMISSION]))
    first = int(surfaces.parts[part, 2])
    last = int(surfaces.parts[part + 1, 2]) if part + 1 < len(surfaces.parts) else len(accel.triangles)
    m = surfaces.to_world[inst].reshape(3, 4)
    corners = accel.positions[accel.triangles[first:last]].astype(float) @ m[:, :3].T + m[:, 3]
    e1, e2 = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    area = np.linalg.norm(np.cross(e1, e2), axis=1) / 2
    rows = np.zeros((last - first, 16))
    rows[:, 0] = w.TRIANGLE
    rows[:, 1:4], rows[:, 4:7], rows[:, 7:10] = corners[:, 0], e1, e2
    rows[:, 10] = math.copysign(1.0, float(np.linalg.det(m[:, :3])))
    rows[:, 11] = factors[w.M_TWO_SIDED]
    rows[:, 13], rows[:, 14], rows[:, 15] = area, inst, np.arange(first, last)
    sides = 2.0 if factors[w.M_TWO_SIDED] > 0 else 1.0
    return rows, area * math.pi * luma * sides


def _mean(textures: Textures, index: int) -> float:
    """The mean linear value of a texture, from the last level of its chain, and a little more than nothing."""
    if index < 0:
        return 1.0
    wide, at, width, height, channels = (int(x) for x in textures.table[index, :5])
    for a, b in levels(width, height)[:-1]:
        at += a * b * channels
    source: NDArray[Any] = textures.wide if wide else textures.narrow
    values = source[at : at + min(channels, 3)].astype(float)
    linear = (values / 65535) ** 2.2 if wide else textures.decode[values.astype(int)]
    return max(float(np.mean(linear)), 1e-3)


def _sky_table(sky: NDArray[np.float64]) -> tuple[NDArray[np.float64], NDArray[np.float64], float]:
    """Running sums for sampling the sky, and its mean radiance over the sphere."""
    edges = np.cos(np.pi * np.arange(SKY_HEIGHT + 1) / SKY_HEIGHT)
    share = (edges[:-1] - edges[1:]) / 2  # of the sphere
    # The brightest of a few heights in each band, so that no direction that shines is left unlikely.
    heights = edges[:-1, None] + (edges[1:] - edges[:-1])[:, None] * np.linspace(0, 1, 5)
    luma = np.array([[np.dot(sky_radiance(sky, y), LUMA) for y in row] for row in heights])
    weight = luma.max(1) * share
    mean = float((luma.mean(1) * share).sum())
    # A trace everywhere keeps the density above zero wherever a path may look.
    p = weight / weight.sum() * 0.999 + share * 0.001
    by_row = np.concatenate([[0], np.cumsum(p)])
    by_row /= by_row[-1]
    return by_row, np.tile([0.0, 1.0], (SKY_HEIGHT, 1)), mean
