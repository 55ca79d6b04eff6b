"""Masks made by hand for a denoised trial: painted or loaded pictures, picked objects."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image
from sqlalchemy.orm import Session

from mill_lane.core.denoise.masks import from_picture
from mill_lane.core.denoise.names import MASK
from mill_lane.core.denoise.showing import Kept
from mill_lane.core.errors import MillError
from mill_lane.core.formats.pictures import read_header, write_pixels
from mill_lane.store.files import Taken, list_file
from mill_lane.store.home import Home
from mill_lane.store.models import Render

F32 = NDArray[np.float32]
HEADER = 1 << 16  # bytes of a file in which its size stands
MOST_UNDONE = 50
FORMATS = ("PNG", "JPEG", "WEBP")


def take_mask(home: Home, trial: Render, path: Path, name: str) -> Taken:
    """Look a painted or loaded picture over, and get it ready to be kept as a trial's mask.

    Parameters
    ----------
    home : Home
    trial : Render
    path, name
        The file as it came, in the home, and how the sender calls it.

    Returns
    -------
    Taken
        A grey PNG of the trial's crop, to be listed; white is what is cleaned.

    Raises
    ------
    MillError
        For what is no picture, or is neither as large as the crop nor as the whole picture.
    """
    with path.open("rb") as f:
        header = read_header(f.read(HEADER), name)
    x0, y0, x1, y1 = trial.region
    whole = trial.recipe["width"], trial.recipe["height"]
    crop = x1 - x0, y1 - y0
    size = header.width, header.height
    if size not in (whole, crop):
        or_whole = f" or {whole[0]} and {whole[1]}" if whole != crop else ""
        raise MillError(
            f"The mask “{name}” is {size[0]} pixels wide and {size[1]} high; the trial needs "
            f"{crop[0]} and {crop[1]}{or_whole}.",
            "Paint it over the picture in its own size.",
            "The mask of before is kept.",
        )
    try:
        with Image.open(path, formats=FORMATS) as picture:
            plain = (
                picture if picture.mode in ("L", "LA", "RGB", "RGBA") else picture.convert("RGBA")
            )
            shares = from_picture(np.asarray(plain))
    except (OSError, SyntaxError, ValueError) as e:
        raise MillError(
            f"The mask “{name}” cannot be read.",
            "Save it again as PNG.",
            "The mask of before is kept.",
        ) from e
    if size != crop:
        shares = shares[y0:y1, x0:x1]
    grey = path.with_suffix(".mask.png")
    write_pixels(grey, np.rint(shares * 255).astype(np.uint8)[..., None])
    return home.files.put(grey, "mask.png")


def use_mask(db: Session, trial: Render, taken: Taken | None) -> None:
    """Keep a picture as the trial's mask; None for no mask.  The ones of before can come back."""
    before = _masks(trial)
    _set(trial, [list_file(db, taken), *before] if taken is not None else ["", *before])


def undo_mask(trial: Render) -> None:
    """Go back to the mask of before.  Raises MillError where there is none."""
    before = _masks(trial)
    if not before:
        raise MillError("There is no mask to take back.", "Paint one over the picture.")
    _set(trial, before[1:])


def _masks(trial: Render) -> list[str]:
    """Hashes of the trial's masks, the newest first; an empty one is no mask."""
    entry = (trial.layers or {}).get(MASK, {})
    return [entry.get("hash", ""), *entry.get("before", [])] if entry else []


def _set(trial: Render, masks: list[str]) -> None:
    others = {k: v for k, v in (trial.layers or {}).items() if k != MASK}
    entry = {"hash": masks[0], "before": masks[1 : 1 + MOST_UNDONE]} if masks else None
    trial.layers = others | ({MASK: entry} if entry else {})


def mask_picture(home: Home, trial: Render) -> F32 | None:
    """The mask (H, W) that was painted or loaded for a trial; None where there is none."""
    newest = next(iter(_masks(trial)), "")
    if not newest:
        return None
    data = home.files.path(newest).read_bytes()
    return from_picture(np.asarray(Image.open(io.BytesIO(data), formats=("PNG",))))


def object_at(kept: Kept, trial: Render, x: float, y: float) -> int:
    """The number of the object at a place of a denoised trial; 0 where there is none.

    Parameters
    ----------
    kept : Kept
    trial : Render
    x, y : float
        Shares of the whole picture, 0 to 1.

    Raises
    ------
    MillError
        Outside the crop, or where objects have no numbers.
    """
    x0, y0, x1, y1 = trial.region
    column = int(x * trial.recipe["width"]) - x0
    row = int(y * trial.recipe["height"]) - y0
    if not (0 <= column < x1 - x0 and 0 <= row < y1 - y0):
        raise MillError("The trial has no picture there.", "Pick an object inside its crop.")
    if kept.objects is None:
        raise MillError(
            "The picture has no layer “object”.", "Paint the mask, or denoise the trial again."
        )
    return int(kept.objects[row, column])
