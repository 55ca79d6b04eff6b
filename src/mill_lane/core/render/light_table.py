"""Gathering what shines into one table: punctual lights, emissive meshes, the sun, the sky."""

from __future__ import annotations

import math
from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.image.srgb import LUMA
from mill_lane.core.render import sky as skies
from mill_lane.core.render import slots as s
from mill_lane.core.render.emissive_texture import Patches, brightness_map, cut
from mill_lane.core.render.lights import FAR
from mill_lane.core.render.load import Loaded
from mill_lane.core.render.wide_nodes import NUMBERS
from mill_lane.core.render.world import Lights
from mill_lane.core.scene.model import Light
from mill_lane.core.scene.surroundings import Environment

BANDS = 128  # of a gradient sky, by height
SKY_SHARE = 0.3  # of the light rays go to the sky at most where there are other lights
KINDS = {"point": s.POINT, "spot": s.SPOT, "directional": s.SUN}
F64 = NDArray[np.float64]


class Gathering:
    """The table while it grows: rows, powers and names, and the triangles of emissive meshes."""

    def __init__(self, scales: Mapping[str, float]) -> None:
        self.scales = scales
        self.rows: list[F64] = []
        self.powers: list[float] = []
        self.names: list[str] = []
        self.areas: list[F64] = []
        self.slots: list[NDArray[np.int64]] = []
        self.ranges: list[NDArray[np.int64]] = []
        self.halves: list[F64] = []
        self.triangles = self.half_count = 0

    def add(self, row: F64, power: float, name: str) -> int:
        """Put a lamp into the table; returns its number."""
        row[s.L_SCALE] = max(self.scales.get(name, 1.0), 0.0)
        self.rows.append(row)
        self.powers.append(power * row[s.L_SCALE])
        self.names.append(name)
        return len(self.rows) - 1

    def add_triangles(
        self, slots: NDArray[np.int64], share: F64, patches: Patches | None
    ) -> tuple[int, int]:
        """Keep the triangles of an emissive mesh with their running share of its light."""
        first = self.triangles
        running = np.cumsum(share)
        self.areas.append(running / running[-1])
        self.slots.append(slots)
        ranges = np.zeros((len(slots), 2), np.int64)
        if patches is not None:
            ranges = patches.ranges + np.array([self.half_count, 0])
            self.halves.append(patches.halves)
            self.half_count += len(patches.halves)
        self.ranges.append(ranges)
        self.triangles += len(slots)
        return first, len(slots)


def gather_lights(
    loaded: Loaded,
    matrices: F64,
    instances: NDArray[np.int64],
    to_world: F64,
    radius: float,
    scales: Mapping[str, float] | None = None,
    place_names: tuple[str, ...] = (),
    environment: Environment | None = None,
) -> Lights:
    """The light table of a posed scene; the emissive instances receive their light's number.

    A lamp is picked in proportion to its power: 4 pi I for a point, area x pi x mean radiance for
    an emissive mesh, and for what comes from outside the power through a disc of `radius` (metres)
    round the scene, the sky capped at a share. `matrices` are those of the nodes, (N, 4, 4);
    `to_world` those of the instances, (P, 12); `scales` makes lamps by name weaker, stronger, or
    switches them off with 0.
    """
    scene, factors = loaded.scene, loaded.factors
    g = Gathering(scales or {})
    luma = np.array(LUMA)
    for node, index in scene.placed_lights:
        light = scene.lights[index]
        row = _punctual(light, matrices[node])
        row[s.L_LUMA] = float(row[s.L_RED : s.L_BLUE + 1] @ luma)
        if row[s.L_LUMA] > 0:
            across = math.pi * radius * radius if light.kind == "directional" else 4 * math.pi
            g.add(row, row[s.L_LUMA] * across, scene.nodes[node].name)
    for i in range(len(instances)):
        material = int(instances[i, s.P_MATERIAL])
        emission = float(factors[material, s.M_EMIT_R : s.M_EMIT_R + 3] @ luma)
        if emission > 0:
            name = place_names[i] if place_names else f"place {i}"
            _add_mesh(g, loaded, instances, i, to_world[i], emission, name)
    environment = environment or loaded.environment
    sky, pixels, by_row, by_column, mean = _sky(environment)
    sun = _sun(environment)
    if sun is not None:
        g.add(sun, sun[s.L_LUMA] * math.pi * radius * radius, "sun")
    if mean > 0:
        row = np.zeros(s.LAMP_COLUMNS)
        row[s.L_KIND], row[s.L_LUMA] = s.SKY, mean * math.pi
        power = mean * math.pi * math.pi * radius * radius
        # Most of the sky's power passes by; a room that sees a little of it should not spend all
        # its rays on it.
        others = sum(g.powers)
        if others > 0:
            power = min(power, others * SKY_SHARE / (1 - SKY_SHARE))
        g.add(row, power, "sky")
    table = np.array(g.rows, float).reshape(-1, s.LAMP_COLUMNS)
    total = sum(g.powers)
    chance = np.array(g.powers, float) / total if total > 0 else np.zeros(len(table))
    table[:, s.L_CHANCE] = chance
    none = np.zeros(1)
    return Lights(
        rows=np.ascontiguousarray(table),
        running=np.cumsum(chance) if len(chance) else none,
        areas=np.concatenate(g.areas) if g.areas else none,
        slots=np.concatenate(g.slots) if g.slots else np.zeros(1, np.int64),
        ranges=np.concatenate(g.ranges) if g.ranges else np.zeros((1, 2), np.int64),
        halves=np.concatenate(g.halves) if g.halves else np.zeros((1, 2)),
        names=tuple(g.names),
        sky=sky,
        sky_rows=by_row,
        sky_columns=np.ascontiguousarray(by_column),
        sky_pixels=pixels,
    )


def _punctual(light: Light, m: F64) -> F64:
    row = np.zeros(s.LAMP_COLUMNS)
    row[s.L_KIND] = KINDS[light.kind]
    row[s.L_X : s.L_Z + 1] = m[:3, 3]
    axis = -m[:3, 2]
    row[s.L_DX : s.L_DZ + 1] = axis / (np.linalg.norm(axis) or 1.0)
    row[s.L_RED : s.L_BLUE + 1] = np.array(light.color) * light.intensity
    row[s.L_RANGE] = light.range if math.isfinite(light.range) else FAR
    row[s.L_INNER], row[s.L_OUTER] = math.cos(light.inner_cone), math.cos(light.outer_cone)
    if light.kind == "directional":
        row[s.L_OUTER] = 1.0  # no disc
    return row


def _add_mesh(
    g: Gathering,
    loaded: Loaded,
    instances: NDArray[np.int64],
    i: int,
    to_world: F64,
    emission: float,
    name: str,
) -> None:
    first, material = int(instances[i, s.P_LEAF]), int(instances[i, s.P_MATERIAL])
    leaves = loaded.leaves[first : first + loaded.leaf_counts[first]]
    numbers = leaves[:, NUMBERS:].view(np.int32)  # (B, 8)
    at, lane = np.nonzero(numbers >= 0)
    corners = leaves[:, :72].reshape(-1, 3, 3, 8)[at, :, :, lane].astype(float)  # (T, corner, axis)
    m = to_world.reshape(3, 4)
    corners = corners @ m[:, :3].T + m[:, 3]
    e1, e2 = corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]
    area = np.linalg.norm(np.cross(e1, e2), axis=1) / 2
    keep = area > 0
    if not keep.any():
        return
    slots = (first + at[keep]) * 8 + lane[keep]
    corners, area = corners[keep], area[keep]
    low, high, share = corners.min((0, 1)), corners.max((0, 1)), area
    patches = None
    use = loaded.transforms[material, s.EMISSION]
    uv_at = int(instances[i, s.P_UV_SECOND if use[s.U_SET] > 0 else s.P_UV])
    index = int(loaded.slots[material, s.EMISSION])
    if index >= 0:
        if uv_at < 0:  # all of it lies at the texture's corner
            uvs = np.zeros((len(area), 3, 2))
        else:
            start = int(instances[i, s.P_TRIANGLE])
            vertices = loaded.triangles[start + numbers[at, lane][keep].astype(np.int64)]
            uvs = loaded.uvs[uv_at + vertices.astype(np.int64)].astype(float)
        rgb = loaded.factors[material, s.M_EMIT_R : s.M_EMIT_R + 3]
        key = (index, *rgb.tolist())
        if key not in loaded.brightness:
            loaded.brightness[key] = brightness_map(loaded.textures, index, rgb)
        row = loaded.textures.table[index]
        wraps = (int(row[s.T_WRAP_U]), int(row[s.T_WRAP_V]))
        patches = cut(loaded.brightness[key], uvs, corners, area, use, wraps)
        if patches is None:
            return
        (low, high), share, emission = patches.box, patches.share, patches.mean
    row = np.zeros(s.LAMP_COLUMNS)
    row[s.L_KIND], row[s.L_PATCHED] = s.MESH, float(patches is not None)
    row[s.L_X : s.L_Z + 1] = (low + high) / 2
    row[s.L_RADIUS] = float(np.linalg.norm(high - low)) / 2
    two_sided = loaded.factors[material, s.M_TWO_SIDED]
    row[s.L_LUMA], row[s.L_TWO_SIDED], row[s.L_INSTANCE] = emission, two_sided, i
    row[s.L_UNSEEN] = int(instances[i, s.P_FLAGS]) & s.UNSEEN
    row[s.L_AREA] = float(area.sum()) * math.copysign(1.0, float(np.linalg.det(m[:, :3])))
    row[s.L_FIRST], row[s.L_COUNT] = g.add_triangles(slots.astype(np.int64), share, patches)
    sides = 2.0 if two_sided > 0 else 1.0
    power = abs(row[s.L_AREA]) * math.pi * emission * sides
    instances[i, s.P_LAMP] = g.add(row, power, name)


def _sky(e: Environment) -> tuple[F64, NDArray[np.float32], F64, F64, float]:
    """The sky as the kernels read it, its sampling table, and its mean luminance over the
    sphere.
    """
    nothing = np.zeros((1, 1, 3), np.float32)
    gradient = np.array([*e.zenith, *e.horizon, *e.ground, 0.0], float)
    pixels = e.pixels
    if e.sun_elevation is not None:
        day = skies.daylight(math.radians(e.sun_elevation))
        level = day.level(math.radians(e.sun_elevation))
        pixels = skies.clear_sky(math.radians(e.sun_elevation), math.radians(e.sun_azimuth))
        pixels = pixels * np.float32(e.strength * day.sky / level)
    if e.key is not None:
        pixels = skies.even_with_key(e.horizon, e.key)
    if pixels is not None:
        gradient[9] = 1.0
        pixels = np.ascontiguousarray(pixels, np.float32)
        return gradient, pixels, *skies.picture_table(pixels)
    if gradient.max() <= 0:
        return gradient, nothing, np.zeros(2), np.zeros((1, 2)), 0.0
    edges = np.cos(np.pi * np.arange(BANDS + 1) / BANDS)
    # The brightest of a few heights in each band, so that no direction that shines is left
    # unlikely.
    heights = edges[:-1, None] + (edges[1:] - edges[:-1])[:, None] * np.linspace(0, 1, 5)
    luma = gradient_radiance(gradient, heights) @ np.array(LUMA)
    rows, columns, _ = skies.sampling_table(luma.max(1)[:, None], edges)
    mean = float((luma.mean(1) * (edges[:-1] - edges[1:]) / 2).sum())
    return gradient, nothing, rows, columns, mean


def gradient_radiance(sky: F64, y: F64) -> F64:
    """The gradient's radiance at heights y in -1 to 1, (..., 3); the twin of
    `lights.sky_radiance`.
    """
    t = np.where(y < 0, np.minimum(1.0, -y * 8.0), np.sqrt(np.maximum(y, 0)))[..., None]
    other = np.where((y < 0)[..., None], sky[6:9], sky[0:3])
    return np.asarray(sky[3:6] + (other - sky[3:6]) * t)


def _sun(e: Environment) -> F64 | None:
    """The sun of a clear sky, as a disc."""
    if e.sun_elevation is None or e.sun_elevation <= 0:
        return None
    elevation = math.radians(e.sun_elevation)
    day = skies.daylight(elevation)
    lux = e.strength * day.sun_normal / day.level(elevation)
    row = np.zeros(s.LAMP_COLUMNS)
    row[s.L_KIND], row[s.L_LUMA] = s.SUN, lux
    row[s.L_DX : s.L_DZ + 1] = -skies.sun_direction(elevation, math.radians(e.sun_azimuth))
    row[s.L_OUTER] = math.cos(skies.SUN_RADIUS)
    # A disc that gives E across its rays has the radiance E / (pi sin^2).
    row[s.L_RED : s.L_BLUE + 1] = (
        skies.sun_colour(elevation) * lux / (math.pi * math.sin(skies.SUN_RADIUS) ** 2)
    )
    return row
