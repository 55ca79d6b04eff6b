"""Pictures that were changed, as images of a scene, and choices that name one."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import replace
from functools import partial

from mill_lane.core.errors import MillError
from mill_lane.core.formats.pictures import Pixels, decode, encode
from mill_lane.core.progress import Progress
from mill_lane.core.render.mip_chain import chain_values
from mill_lane.core.render.sizes import image_bytes
from mill_lane.core.scene.edit import replace_images
from mill_lane.core.scene.model import Image, Scene
from mill_lane.core.trim.model import Change, Choice
from mill_lane.core.weigh.analysis import Analysis, TextureRow

QUALITY = 92  # of a JPEG that was one before, and is encoded anew
Encoded = tuple[Pixels, str, bytes]  # pixels, the kind of the file, its bytes


def decoded(image: Image) -> Pixels:
    """The pixels of a picture, (H, W, channels)."""
    return decode(image.read(), image.mime, image.name)


def kept_kind(image: Image) -> str:
    """The kind that a changed picture is written as: its own, but a Basis texture is a PNG."""
    return "image/png" if image.mime == "image/ktx2" else image.mime


def with_pixels(image: Image, pixels: Pixels, mime: str, data: bytes | None = None) -> Image:
    """The image with other pixels (H, W, channels); encoded anew where no bytes are given."""
    found = encode(pixels, mime, QUALITY) if data is None else data
    height, width, channels = pixels.shape
    return replace(
        image,
        mime=mime,
        width=width,
        height=height,
        channels=channels,
        bits=8 * pixels.dtype.itemsize,
        file_bytes=len(found),
        read=partial(bytes, found),
    )


def chosen_images(scene: Scene, choices: Iterable[Choice]) -> dict[int, Choice]:
    """The choices by the image that they are about; those of missing pictures are left out.

    Raises
    ------
    MillError
        Where the scene has no such image.
    """
    out = {}
    for choice in choices:
        index = choice.target.index
        if choice.target.kind != "image" or not 0 <= index < len(scene.images):
            raise MillError(
                f"The scene has no texture “{choice.target.name}”.",
                "Stage it again.",
            )
        if not scene.images[index].missing:
            out[index] = choice
    return out


def edit_pictures(
    scene: Scene,
    choices: Sequence[Choice],
    edit: Callable[[int, Image, Choice], Image | None],
    kind: str,
    progress: Progress,
) -> tuple[Scene, list[Change]]:
    """Change chosen pictures one after another.

    Parameters
    ----------
    scene : Scene
    choices : sequence of Choice
        About images.
    edit : callable
        Gets the number of an image, the image and the choice; gives the new image, or None where
        nothing is to be done.
    kind : str
        Of the changes.
    progress : callable

    Returns
    -------
    scene : Scene
    changes : list of Change
        From and to [width, height, channels, bits, kind of file].
    """
    wanted = chosen_images(scene, choices)
    images: dict[int, Image] = {}
    changes = []
    for k, (index, choice) in enumerate(sorted(wanted.items())):
        old = scene.images[index]
        new = edit(index, old, choice)
        if new is not None:
            images[index] = new
            changes.append(change_of(kind, index, old, new))
        progress((k + 1) / len(wanted), f"textures: {k + 1} of {len(wanted)}")
    return replace_images(scene, images), changes


def change_of(kind: str, index: int, old: Image, new: Image) -> Change:
    """What became of a picture."""
    return Change(
        kind=kind,
        target=old.name,
        key=f"image:{index}",
        from_=form_of(old),
        to=form_of(new),
        memory_saved_bytes=image_bytes(old) - image_bytes(new),
        file_saved_bytes=old.file_bytes - new.file_bytes,
    )


def form_of(x: Image | TextureRow) -> list[int | str]:
    """What is told of a picture in a change: width, height, channels, bits, kind of file."""
    return [x.width, x.height, x.channels, x.bits, x.mime.removeprefix("image/")]


def held_bytes(row: TextureRow) -> int:
    """What a texture of a row holds with all mip levels; 0 where no drawn material uses it."""
    wide = 2 if row.bits > 8 else 1
    return chain_values(row.width, row.height, row.channels) * wide if row.memory_bytes else 0


def with_rows(analysis: Analysis, rows: Mapping[int, TextureRow]) -> Analysis:
    """The analysis with other textures, by the index of their image."""
    textures = [rows.get(t.index, t) for t in analysis.textures]
    return analysis.model_copy(update={"textures": textures})
