"""Frames as a small film, and as a sheet of small pictures, to be shown to somebody."""

from __future__ import annotations

import fractions
import math
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path

import av
import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageDraw

from mill_lane.core.errors import MillError
from mill_lane.core.formats.film_rates import check_rate

Pixels = NDArray[np.uint8]
CODEC = {".mp4": "libx264", ".webm": "libvpx-vp9"}
QUALITY: dict[str, dict[str, object]] = {
    ".mp4": {"crf": "18", "preset": "medium"},
    ".webm": {"crf": "28", "b": "0"},
}
LARGEST = 1920  # of a side, pixels
PANEL, CAPTION, GAP = (240, 180), 16, 8  # of a sheet: a picture, its number, between


def write_film(
    path: Path,
    frames: Iterable[Pixels],
    rate: float,
    progress: Callable[[int], None] | None = None,
) -> int:
    """Write pictures as a film, H.264 in MP4 or VP9 in WebM by the ending, without sound.

    Parameters
    ----------
    path : Path
    frames : iterable of uint8 arrays (H, W, 3)
        With the view transform; all of one size.  Sides above `LARGEST` are made smaller, and odd
        ones lose a pixel, since colour is kept for every second one.
    rate : float
        Frames a second.
    progress : callable, optional
        Told the frames that are written; may stop it by raising.

    Returns
    -------
    int
        How many frames there are.

    Raises
    ------
    MillError
        Where there is none, the ending is none that is written, or no film has such a rate.
    """
    check_rate(rate)
    if path.suffix not in CODEC:
        raise MillError(f"“{path.name}” is no film that is written.", "Call it .mp4 or .webm.")
    count = 0
    with av.open(str(path), "w") as film:
        stream: av.VideoStream | None = None
        for picture in frames:
            shown = _fitting(picture)
            if stream is None:
                steps = fractions.Fraction(rate).limit_denominator(1001)
                added = film.add_stream(CODEC[path.suffix], rate=steps)
                assert isinstance(added, av.VideoStream)
                stream = added
                stream.height, stream.width = shown.shape[:2]
                stream.pix_fmt = "yuv420p"
                stream.options = QUALITY[path.suffix]
            elif shown.shape[:2] != (stream.height, stream.width):
                raise MillError("The frames have different sizes.", "Render them alike.")
            frame = av.VideoFrame.from_ndarray(np.ascontiguousarray(shown), format="rgb24")
            for packet in stream.encode(frame):
                film.mux(packet)
            count += 1
            if progress is not None:
                progress(count)
        if stream is None:
            raise MillError("There is no frame to make a film of.", "Render some first.")
        for packet in stream.encode():
            film.mux(packet)
    return count


def _fitting(picture: Pixels) -> Pixels:
    """The picture with even sides of at most `LARGEST` pixels."""
    height, width = picture.shape[:2]
    times = min(1.0, LARGEST / max(height, width))
    if times < 1.0:
        size = max(2, round(width * times)), max(2, round(height * times))
        smaller = Image.fromarray(picture[..., :3]).resize(size, Image.Resampling.BOX)
        picture = np.asarray(smaller)
        height, width = picture.shape[:2]
    if min(height, width) < 2:
        raise MillError("The frames are too small for a film.", "Render them larger.")
    return picture[: height // 2 * 2, : width // 2 * 2, :3]


def contact_sheet(pictures: Sequence[tuple[str, Path]], columns: int = 0) -> Pixels:
    """Lay pictures out in rows, each with a line of text below.

    Parameters
    ----------
    pictures : sequence of (str, Path)
        What is written below, and the file.
    columns : int
        0 for about as many as rows times the shape of a screen.

    Returns
    -------
    array of uint8, (H, W, 3)
    """
    count = len(pictures)
    columns = columns or max(1, min(count, math.ceil(math.sqrt(count * 1.6))))
    rows = max(1, math.ceil(count / columns))
    wide, high = PANEL[0] + GAP, PANEL[1] + CAPTION + GAP
    sheet = Image.new("RGB", (columns * wide + GAP, rows * high + GAP), "white")
    pen = ImageDraw.Draw(sheet)
    for k, (text, path) in enumerate(pictures):
        x, y = GAP + k % columns * wide, GAP + k // columns * high
        with Image.open(path, formats=("PNG",)) as found:
            small = found.convert("RGB")
        small.thumbnail(PANEL)
        sheet.paste(small, (x, y))
        pen.text((x, y + small.height + 2), text, fill="black")
    return np.asarray(sheet)
