"""How much light a scene gives of itself: emissive surfaces by their textures, lamps, the sky."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.errors import MillError
from mill_lane.core.formats.pictures import decode
from mill_lane.core.image.srgb import LUMA, to_linear
from mill_lane.core.scene.framing import world_bounds
from mill_lane.core.scene.model import Geometry, Image, Material, Scene, TextureUse
from mill_lane.core.scene.pose import world_matrices

F64 = NDArray[np.float64]
SIDE = 512  # of a picture's map of means, at most
MOST_TRIANGLES = 20_000  # of a part that are looked at
# What a white surface in the middle of the scene would show, in radiance; below it a picture is
# next to black but for the lights themselves (0.025 is code 44 of 255).
FAINT = 0.025
# What is made brighter than any picture can show is meant as a lamp: then less is light enough.
LAMP, FAINT_LAMP = 1.0, FAINT / 20


def linear_means(image: Image) -> F64:
    """The picture in linear light, (H, W, 3), as means over blocks of texels.

    At most SIDE on either side.  Raises MillError for a picture that cannot be decoded.
    """
    if image.missing:
        return np.full((1, 1, 3), float(to_linear(np.array(188 / 255))))
    pixels = decode(image.read(), image.mime, image.name)
    top = 65535 if pixels.dtype == np.uint16 else 255
    curve = to_linear(np.arange(top + 1) / top).astype(np.float32)
    down, across = (-(-n // SIDE) for n in pixels.shape[:2])
    rows, columns = np.arange(0, pixels.shape[0], down), np.arange(0, pixels.shape[1], across)
    counts = np.diff([*rows, pixels.shape[0]])[:, None] * np.diff([*columns, pixels.shape[1]])
    channels = (0, 1, 2) if pixels.shape[2] > 2 else (0, 0, 0)
    sums = [
        np.add.reduceat(np.add.reduceat(curve[pixels[..., c]], rows, 0), columns, 1)
        for c in sorted(set(channels))
    ]
    return np.stack([sums[c] / counts for c in channels], -1).astype(float)


def emitted_luminance(material: Material, g: Geometry, means: F64 | None) -> float:
    """The mean luminance that a part gives off over its area, cd/m2.

    `means` is the emissive texture's `linear_means`, or None where it has none.
    """
    factors = np.array(material.emissive) * np.array(LUMA)
    use = material.emissive_texture
    if use is None or means is None:
        return float(factors.sum())
    laid = g.second_uvs if use.uv_set > 0 and g.second_uvs is not None else g.uvs
    bright = means @ factors
    if laid is None:
        return float(bright[0, 0])
    step = -(-len(g.triangles) // MOST_TRIANGLES) if len(g.triangles) else 1
    triangles = g.triangles[::step]
    p = g.positions[triangles].astype(float)
    area = np.linalg.norm(np.cross(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), axis=1)
    if not area.sum() > 0:
        return 0.0
    sums = _sums(bright)
    uv = _transformed(np.nan_to_num(laid[triangles].astype(float)), use)
    return float((_mean_in_box(sums, uv.min(1), uv.max(1)) * area).sum() / area.sum())


def _transformed(uv: F64, use: TextureUse) -> F64:
    """KHR_texture_transform of UVs (…, 2)."""
    c, s = math.cos(use.rotation), math.sin(use.rotation)
    x, y = uv[..., 0] * use.scale[0], uv[..., 1] * use.scale[1]
    return np.stack([c * x + s * y + use.offset[0], -s * x + c * y + use.offset[1]], -1)


def _sums(bright: F64) -> F64:
    """Running sums over rows and columns, with a row and a column of zeros before."""
    return np.pad(bright.cumsum(0).cumsum(1), ((1, 0), (1, 0)))


def _mean_in_box(sums: F64, low: F64, high: F64) -> F64:
    """The mean over boxes of the repeated picture, corners (N, 2) in UV: about a triangle's."""
    height, width = (n - 1 for n in sums.shape)
    size = np.array([width, height])
    first = np.floor(low * size)
    last = np.maximum(np.ceil(high * size), first + 1)
    # A box of a whole picture or more has the whole picture's mean.
    wide = (last - first >= size).any(1)
    shift = np.floor(first / size) * size
    first, last = first - shift, last - shift
    last = np.minimum(last, size)  # what lies over the seam is left out: about is enough
    x0, y0 = first.astype(np.int64).T
    x1, y1 = np.maximum(last, first + 1).astype(np.int64).T
    x0, x1 = np.clip(x0, 0, width - 1), np.clip(x1, 1, width)
    y0, y1 = np.clip(y0, 0, height - 1), np.clip(y1, 1, height)
    inside = sums[y1, x1] - sums[y0, x1] - sums[y1, x0] + sums[y0, x0]
    mean = inside / ((x1 - x0) * (y1 - y0))
    return np.asarray(np.where(wide, sums[-1, -1] / (width * height), mean))


def emissive_means(scene: Scene) -> dict[int, F64]:
    """`linear_means` of every emissive texture, by material; what cannot be decoded counts grey."""
    out: dict[int, F64] = {}
    known: dict[int, F64] = {}
    for i, m in enumerate(scene.materials):
        if m.emissive_texture is None or max(m.emissive) <= 0:
            continue
        image = scene.textures[m.emissive_texture.texture].image
        if image not in known:
            try:
                known[image] = linear_means(scene.images[image])
            except MillError:
                known[image] = np.full((1, 1, 3), 0.5)
        out[i] = known[image]
    return out


def light_at_hand(scene: Scene) -> float:
    """About the radiance of a white surface amid the scene, by all that shines in it, cd/m2.

    Flux over the sphere round the scene, as if nothing stood in the way.
    """
    if scene.environment is not None:
        e = scene.environment
        pictured = e.pixels is not None or e.picture is not None
        if pictured or e.sun_elevation is not None:
            return math.inf
        return float(np.mean([e.zenith, e.horizon, e.ground], axis=0) @ np.array(LUMA))
    lo, hi = world_bounds(scene)
    radius = max(float(np.linalg.norm(hi - lo)) / 2, 1e-6)
    matrices = world_matrices(scene, 0.0)
    total = 0.0
    for _, index in scene.placed_lights:
        light = scene.lights[index]
        strength = float(np.array(light.color) @ np.array(LUMA)) * light.intensity
        share = (1 - math.cos(light.outer_cone)) / 2 if light.kind == "spot" else 1.0
        total += strength / math.pi / (1 if light.kind == "directional" else radius**2 / share)
    if total >= FAINT:
        return total
    if any(m.unlit for m in scene.materials):
        return math.inf
    means, of_lamps = emissive_means(scene), 0.0
    for node, mesh in scene.instances:
        for p in scene.meshes[mesh].parts:
            if p.triangles and p.material >= 0 and max(scene.materials[p.material].emissive) > 0:
                g: Any = p.load()
                c = g.positions[g.triangles].astype(float) @ matrices[node][:3, :3].T
                cross = np.cross(c[:, 1] - c[:, 0], c[:, 2] - c[:, 0])
                area = float(np.linalg.norm(cross, axis=1).sum()) / 2
                given = emitted_luminance(scene.materials[p.material], g, means.get(p.material))
                total += given * area / (4 * math.pi * radius**2)
                of_lamps += given * area / (4 * math.pi * radius**2) if given > LAMP else 0.0
                if total >= FAINT:
                    return total
    return max(total, FAINT) if of_lamps >= FAINT_LAMP else total
