"""`mill-lane compare`: how far two pictures are apart."""

from __future__ import annotations

import contextlib
import sys
from argparse import ArgumentParser
from pathlib import Path
from typing import TYPE_CHECKING

from mill_lane.cli.command import Arguments, Command, Result

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray


def add_arguments(sub: ArgumentParser) -> None:
    """Add the arguments of the command."""
    sub.add_argument("a", type=Path, metavar="A", help="an EXR, PNG or JPEG")
    sub.add_argument("b", type=Path, metavar="B", help="the truth that it is held against")


def run(args: Arguments) -> Result:
    """Compare a picture with the truth."""
    from mill_lane.core.image.compare import psnr, relative_mse, rmse, ssim
    from mill_lane.core.image.srgb import from_linear

    a, b = _light(args.a), _light(args.b)
    shown = from_linear(a), from_linear(b)
    found = {
        "rmse": rmse(a, b),
        "relative_mse": relative_mse(a, b),
        "psnr": psnr(*shown),
        "ssim": ssim(*shown),
        "light_change": float(a.sum()) / float(b.sum()) - 1 if b.sum() > 0 else 0.0,
    }
    if not args.json:
        for name, value in found.items():
            print(f"{name:>13}  {value:.6g}")
    return found


def _light(path: Path) -> NDArray[np.float32]:
    """A picture as linear light, (H, W, 3)."""
    import numpy as np

    from mill_lane.core.formats.exr import read_exr
    from mill_lane.core.formats.pictures import read_pixels
    from mill_lane.core.image.srgb import to_linear

    if path.suffix.lower() == ".exr":
        with contextlib.redirect_stdout(sys.stderr):  # the binding tells of damage there
            return read_exr(path)["beauty"]
    pixels = read_pixels(path, path.name)
    codes = pixels[..., :3] if pixels.shape[2] > 2 else pixels[..., :1].repeat(3, 2)
    if codes.dtype.kind == "f":  # what is kept as numbers is light already
        return codes.astype(np.float32)
    return to_linear(codes / np.iinfo(pixels.dtype).max).astype(np.float32)


COMPARE = Command("compare", "Tell how far two pictures are apart.", add_arguments, run)
