"""Normal maps made smaller: directions are averaged as such, and what of the bumps is lost can go
into roughness.

The mean of unit normals is the shorter the more they differ, and its length tells how wide a
highlight they would make together (Toksvig, "Mipmapping Normal Maps", 2005; Olano and Baker,
"LEAN Mapping", 2010).
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.formats.pictures import Pixels
from mill_lane.core.scene.edit import replace_material
from mill_lane.core.scene.model import Material, Scene, Texture, TextureUse
from mill_lane.core.trim.pictures import decoded, with_pixels

F64 = NDArray[np.float64]


def mean_normals(pixels: Pixels, halvings: int) -> F64:
    """Means of the unit normals of a normal map (H, W, 3 or more) over blocks of texels.

    Parameters
    ----------
    pixels : array of uint8 or uint16
    halvings : int
        Blocks have 2^halvings texels each way, as the mip chain has them.

    Returns
    -------
    array of float64, (H', W', 3)
        No longer of unit length: the shorter, the more the normals of a block differ.
    """
    v = pixels[..., :3].astype(np.float64) / np.iinfo(pixels.dtype).max * 2 - 1
    v /= np.maximum(np.linalg.norm(v, axis=2, keepdims=True), 1e-12)
    for _ in range(halvings):
        h, w = v.shape[:2]
        rows, columns = max(1, h // 2), max(1, w // 2)
        y = np.minimum(2 * np.arange(rows)[:, None] + [0, 1], h - 1)
        x = np.minimum(2 * np.arange(columns)[:, None] + [0, 1], w - 1)
        v = v[y].mean(1)[:, x].mean(2)
    return v


def as_codes(normals: F64, like: Pixels) -> Pixels:
    """Normals (H, W, 3) as the codes of a normal map, of unit length again."""
    unit = normals / np.maximum(np.linalg.norm(normals, axis=2, keepdims=True), 1e-12)
    top = np.iinfo(like.dtype).max
    return np.round((unit + 1) / 2 * top).astype(like.dtype)


def rougher(roughness: F64, length: F64) -> F64:
    """The roughness that makes a highlight as wide as bumps do whose mean normal is so long.

    Parameters
    ----------
    roughness : array of float64
        0 to 1; its square is the width alpha of the microfacets.
    length : array of float64
        0 to 1.

    Notes
    -----
    By Toksvig's factor the exponent s of a Blinn lobe becomes s L / (L + s (1 - L)), that is
    1 / s' = 1 / s + (1 - L) / L; with s = 2 / alpha^2 - 2 (Walter et al. 2007, section 5.2) the
    squared widths add: alpha'^2 = alpha^2 + 2 (1 - L) / L, for widths that are not large.
    """
    spread = 2 * (1 - length) / np.maximum(length, 1e-6)
    return np.asarray(np.minimum(roughness**4 + spread, 1.0) ** 0.25)


def into_roughness(scene: Scene, image: int, lengths: F64) -> Scene:
    """Put what a smaller normal map lost into the roughness of the materials that use it.

    Parameters
    ----------
    scene : Scene
    image : int
        Of the normal map.
    lengths : array of float64, (H, W)
        Of its mean normals, at its new size.

    Returns
    -------
    Scene
        With a roughness picture of that size for each such material; materials whose roughness
        picture lies otherwise on the surface are left as they are.
    """
    made: dict[tuple[int, float], TextureUse] = {}
    for index, m in enumerate(scene.materials):
        use = m.normal_texture
        if use is None or scene.textures[use.texture].image != image or m.unlit:
            continue
        if m.roughness_texture is not None and not _alike(scene, m.roughness_texture, use):
            continue
        shown = m.roughness_texture.texture if m.roughness_texture else -1
        key = (shown, m.roughness)
        if key not in made:
            scene, made[key] = _with_picture(scene, m, use, lengths)
        changed = replace(m, roughness=1.0, roughness_texture=made[key])
        scene = replace_material(scene, index, changed)
    return scene


def _alike(scene: Scene, a: TextureUse, b: TextureUse) -> bool:
    """Whether two pictures lie on the surface in the same way."""
    s, t = scene.textures[a.texture], scene.textures[b.texture]
    same = (s.wrap_u, s.wrap_v) == (t.wrap_u, t.wrap_v)
    image = scene.images[s.image]
    return (
        same
        and not image.missing
        and replace(a, texture=0, strength=1.0) == replace(b, texture=0, strength=1.0)
    )


def _with_picture(
    scene: Scene, m: Material, normal: TextureUse, lengths: F64
) -> tuple[Scene, TextureUse]:
    """The scene with one more picture: green the wider roughness, blue the metal as it was."""
    height, width = lengths.shape
    green, blue = np.full((height, width), m.roughness), np.ones((height, width))
    if m.roughness_texture is not None:
        old = decoded(scene.images[scene.textures[m.roughness_texture.texture].image])
        top = np.iinfo(old.dtype).max
        k = (1, 2) if old.shape[2] > 2 else (0, 0)
        green = resized(old[..., k[0]] / top, height, width) * m.roughness
        blue = resized(old[..., k[1]] / top, height, width)
    # A normal map of less strength has bumps of less height: its means are longer.
    flat = np.sqrt(np.maximum(1 - lengths**2, 0)) * min(abs(normal.strength), 1.0)
    codes = np.stack([np.ones_like(green), rougher(green, np.sqrt(1 - flat**2)), blue], 2)
    pixels = np.round(np.clip(codes, 0, 1) * 255).astype(np.uint8)
    bumps = scene.textures[normal.texture]
    like = replace(scene.images[bumps.image], name=f"{m.name} roughness", source=-1, path="")
    image = with_pixels(like, pixels, "image/png")
    texture = Texture(image.name, len(scene.images), bumps.wrap_u, bumps.wrap_v)
    use = replace(normal, texture=len(scene.textures), strength=1.0)
    scene = replace(scene, images=(*scene.images, image), textures=(*scene.textures, texture))
    return scene, use


def resized(plane: F64, height: int, width: int) -> F64:
    """A plane (H, W) at another size: means over areas where smaller, repeated where larger."""
    for axis, n in ((0, height), (1, width)):
        have = plane.shape[axis]
        if have == n:
            continue
        if have > n:
            edges = np.arange(n) * have // n
            counts = np.diff([*edges, have])
            shape = (-1, 1) if axis == 0 else (1, -1)
            plane = np.add.reduceat(plane, edges, axis) / counts.reshape(shape)
        else:
            plane = np.take(plane, np.arange(n) * have // n, axis)
    return plane
