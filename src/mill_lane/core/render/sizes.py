"""How large the renderer's arrays will be, known before anything is loaded.

No compiler is needed here.
"""

from __future__ import annotations

from collections.abc import Sequence

from mill_lane.core.render.layers import FLOAT, LAYERS
from mill_lane.core.render.mip_chain import chain_values
from mill_lane.core.scene.model import Image, Scene

SIDE = 512  # of the map of a picture's brightness, at most

STATISTICS_BYTES = 24  # per pixel, at most, while the noise is measured or a preview is made
# Light 12, luminance and its square 8, samples 4, whether more are wanted 1.
BEAUTY_BYTES = 25
KEY_HEIGHT, KEY_WIDTH = 64, 128  # of the default light's picture
NODE_BYTES, LEAF_BYTES = 256, 320
SRGB_ROLES = ("base colour", "emission", "specular colour", "sheen colour")


def sky_bytes(width: int, height: int, turned: bool = False) -> int:
    """Bytes of a sky picture while it is set up:

    its pixels, once more where it is turned or made brighter, the table by which it is sampled, and
    what that is made from.
    """
    return width * height * (12 + (12 if turned else 0) + 8 + 16) + height * 16


def film_bytes(
    width: int, height: int, layers: Sequence[str], light_count: int = 0
) -> dict[str, int]:
    """Count the bytes held for each layer of a film.

    Parameters
    ----------
    width, height : int
        Pixels.
    layers : sequence of str
        Names of `layers.LAYERS`.
    light_count : int
        Lights of the scene.

    Returns
    -------
    dict
        Bytes by layer, the beauty first; a plane that two layers need counts with the first.
    """
    per_pixel = {"beauty": BEAUTY_BYTES}
    counted: set[str] = set()
    for name in layers:
        planes = [p for p in LAYERS[name].planes if p.name not in counted]
        counted |= {p.name for p in planes}
        per_pixel[name] = FLOAT * sum(p.depth(light_count) for p in planes)
    return {name: n * width * height for name, n in per_pixel.items()}


def srgb_images(scene: Scene) -> set[int]:
    """The images that hold colours rather than data, by where they are plugged in."""
    return {
        scene.textures[use.texture].image
        for m in scene.materials
        for role, use in m.uses()
        if role in SRGB_ROLES
    }


def loading_order(scene: Scene) -> list[tuple[int, int]]:
    """(texture, bytes in memory) of every texture a drawn material uses, largest first; shared
    images count once.
    """
    drawn = {p.material for _, mesh in scene.instances for p in scene.meshes[mesh].parts}
    used = {
        use.texture
        for i, m in enumerate(scene.materials)
        if i in drawn
        for role, use in m.uses()
        if role != "occlusion"
    }
    seen: set[int] = set()
    out = []
    for t in sorted(used):
        image = scene.textures[t].image
        out.append((t, 0 if image in seen else image_bytes(scene.images[image])))
        seen.add(image)
    return sorted(out, key=lambda x: (-x[1], x[0]))


def image_bytes(image: Image) -> int:
    """Bytes held for an image with its mip chain."""
    return chain_values(image.width, image.height, image.channels) * (2 if image.bits > 8 else 1)


def brightness_size(width: int, height: int) -> tuple[int, int]:
    """Rows and columns of the map that tells how bright an emissive picture is where."""
    return min(height, SIDE), min(width, SIDE)


def brightness_bytes(width: int, height: int) -> int:
    """What that map takes, float32."""
    rows, columns = brightness_size(width, height)
    return 4 * rows * columns
