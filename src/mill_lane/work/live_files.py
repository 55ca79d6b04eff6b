"""How the page and the process that looks speak with each other: by files, at once.

For each job lies there what is wanted last, the picture so far with what is said of it, and a sign
that somebody looks.  All are replaced as a whole, so that nobody reads half of one.
"""

from __future__ import annotations

import json
import os
import struct
import time
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from pydantic import BaseModel, ConfigDict, FiniteFloat, ValidationError

from mill_lane.core.recipe import Recipe

SIZE = struct.Struct("<I")  # of what is said, in front of it and of the picture


class Wish(BaseModel):
    """What is looked at, how it is shown, and whether it goes on.

    A later wish has a larger `number`.  `file_hash` is that of the scene, `crop` a share of the
    frame, `preview` as trials keep it, `stops` how much brighter it is shown, `place` a point that
    is refined first, in shares, `freeze` the number of the last trial that was asked to be made of
    it.
    """

    model_config = ConfigDict(extra="forbid")

    number: int
    file_hash: str
    recipe: Recipe
    crop: tuple[FiniteFloat, FiniteFloat, FiniteFloat, FiniteFloat] | None = None
    frame: int = 1
    preview: dict[str, Any] = {}
    sky: Path | None = None
    layer: str = "beauty"
    clean: bool = False
    place: tuple[FiniteFloat, FiniteFloat] | None = None
    paused: bool = False
    stops: FiniteFloat = 0.0
    samples: int = 256
    clean_share: float = 0.99
    freeze: int = 0


class Request(BaseModel):
    """The scene, the folder of decoded textures, where wishes and pictures lie, what may be
    used.
    """

    scene: Path
    file_hash: str
    textures: Path
    folder: Path
    job: int
    threads: int
    memory_limit: int


@dataclass(frozen=True)
class LiveFiles:
    """The files of one job's look.

    Attributes
    ----------
    folder : Path
    job : int
    """

    folder: Path
    job: int

    @property
    def wish(self) -> Path:
        """What is wanted last."""
        return self.folder / f"{self.job}.json"

    @property
    def picture(self) -> Path:
        """What is said, and the picture."""
        return self.folder / f"{self.job}.look"

    @property
    def seen(self) -> Path:
        """Touched whenever somebody looks."""
        return self.folder / f"{self.job}.seen"

    def frozen(self, number: int) -> Path:
        """The state that is to become a trial."""
        return self.folder / f"{self.job}-{number}.state"

    # --- the page's side ---
    def ask(self, wish: Wish) -> None:
        """Want something else from now on."""
        _replace(self.wish, wish.model_dump_json().encode())

    def look(self) -> None:
        """Say that somebody looks."""
        self.folder.mkdir(parents=True, exist_ok=True)
        self.seen.touch()

    def stamp(self) -> str:
        """Changes with the picture, or with what is said of it; empty while there is none."""
        try:
            return str(self.picture.stat().st_mtime_ns)
        except OSError:
            return ""

    def read(self) -> tuple[dict[str, Any], bytes]:
        """What is said, and the picture as PNG; nothing where there is none."""
        try:
            data = self.picture.read_bytes()
            (size,) = SIZE.unpack_from(data)
            said: dict[str, Any] = json.loads(data[SIZE.size : SIZE.size + size])
            return said, data[SIZE.size + size :]
        except (OSError, ValueError, struct.error):
            return {}, b""

    # --- the side of the process that looks ---
    def wanted(self) -> Wish | None:
        """What is wanted last; None where nothing is, or another edition wrote it."""
        try:
            return Wish.model_validate_json(self.wish.read_bytes())
        except (OSError, ValidationError):
            return None

    def changed(self) -> int:
        """A number that changes with what is wanted."""
        try:
            return self.wish.stat().st_mtime_ns
        except OSError:
            return 0

    def alone(self) -> float:
        """Seconds since somebody looked."""
        try:
            return max(0.0, time.time() - self.seen.stat().st_mtime)
        except OSError:
            return float("inf")

    def tell(self, said: dict[str, Any], picture: bytes) -> None:
        """Show a picture, and say what it is."""
        words = json.dumps(said).encode()
        _replace(self.picture, SIZE.pack(len(words)) + words + picture)

    def forget_frozen(self) -> None:
        """Remove states that nobody took."""
        for path in self.folder.glob(f"{self.job}-*.state*"):
            path.unlink(missing_ok=True)


def _replace(path: Path, data: bytes) -> None:
    path.parent.mkdir(parents=True, exist_ok=True)
    beside = path.with_name(f"{path.name}.{os.getpid()}.part")
    try:
        beside.write_bytes(data)
        os.replace(beside, path)
    finally:
        with suppress(OSError):
            beside.unlink(missing_ok=True)
