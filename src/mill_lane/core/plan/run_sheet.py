"""The run sheet: which frames, in which order, and what is written of each."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, field_validator

from mill_lane.core.errors import MillError
from mill_lane.core.formats.sequences import Pattern, pattern_of
from mill_lane.core.names import plain
from mill_lane.core.plan.frames import early, parse_frames
from mill_lane.core.plan.less_memory import RUNGS

EXAMPLE = "shot.####"
CAMERA = "{camera}"  # where a name has that of the camera
MOST_CAMERAS = 200
# All that leave the picture as it is; the others are allowed by hand.
USUAL_RUNGS = (
    "fewer_in_flight",
    "denoise_later",
    "fewer_layers",
    "strips",
    "lent_memory",
    "processor",
)


class RunSheet(BaseModel):
    """What a run of frames is to be; kept as JSON.

    `cameras` are those that all frames are rendered through, one after another; none for that of
    the recipe.  `name` is a path without ending and with a place for the frame's number, below the
    folder of frames.  `exr` is the kind of its numbers, empty for none; `jpeg` its quality, 0 for
    none.  `there` says what becomes of files that are there, `trouble` what a frame that looks
    wrong does; `rungs` what may be taken when memory fails, in their order (`less_memory.RUNGS`),
    `far_m` from how many metres on textures count as far away; `ready_by` the time of the day at
    which it should be done, HH:MM by the computer's clock, empty for none; `keep_states` whether
    the state of each frame is kept, so that it can get more samples later; `machines` whether this
    one renders, or those of a scheduler.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    frames: Annotated[str, Field(min_length=1, max_length=2000)] = "1"
    cameras: Annotated[tuple[str, ...], Field(max_length=MOST_CAMERAS)] = ()
    order: Literal["straight", "early"] = "early"
    name: Annotated[str, Field(min_length=1, max_length=400)] = EXAMPLE
    exr: Literal["", "half", "float"] = "half"
    layers: Literal["all", "beauty"] = "all"
    compression: Literal["zip", "piz", "none"] = "zip"
    png: bool = True
    jpeg: Annotated[int, Field(ge=0, le=100)] = 0
    there: Literal["refuse", "skip", "overwrite"] = "refuse"
    trouble: Literal["go on", "stop"] = "go on"
    rungs: tuple[str, ...] = USUAL_RUNGS
    far_m: Annotated[float, Field(ge=0, le=1e6)] = 5.0
    machines: Literal["this", "others"] = "this"
    keep_states: bool = False
    ready_by: Annotated[str, Field(pattern=r"^$|^([01]\d|2[0-3]):[0-5]\d$")] = ""

    @field_validator("rungs")
    @classmethod
    def _rungs_are_known(cls, value: tuple[str, ...]) -> tuple[str, ...]:
        unknown = [name for name in value if name not in RUNGS]
        if unknown:
            raise ValueError(f"are of {', '.join(RUNGS.names)}, not {unknown[0]}")
        return tuple(dict.fromkeys(value))

    def by_camera(self, known: Sequence[str], usual: str = "") -> list[tuple[str, RunSheet]]:
        """A sheet for each camera, with its name in that of the files.

        Parameters
        ----------
        known : sequence of str
            The cameras of the scene.
        usual : str
            The recipe's, for a sheet that names none.

        Raises
        ------
        MillError
            For a camera that the scene has not, and for several whose files would have one name.
        """
        wanted = list(dict.fromkeys(self.cameras)) or [usual]
        gone = [name for name in self.cameras if name not in known]
        if gone:
            has = ", ".join(known) or "none"
            raise MillError(f"The scene has no camera “{gone[0]}”.", f"It has: {has}.")
        if len(wanted) > 1 and CAMERA not in self.name:
            raise MillError(
                f"{len(wanted)} cameras would write the same files.",
                f"Put {CAMERA} into the name: {CAMERA}/{self.name}.",
            )
        out, taken = [], set[str]()
        for camera in wanted:
            words = plain(camera, "camera")
            while words.lower() in taken:  # names that differ in what no file name has
                words += "_"
            taken.add(words.lower())
            named = {"cameras": (), "name": self.name.replace(CAMERA, words)}
            out.append((camera, self.model_copy(update=named)))
        return out

    @property
    def endings(self) -> tuple[str, ...]:
        """Endings of the files that are written of each frame."""
        wanted = ((".exr", self.exr), (".png", self.png), (".jpg", self.jpeg))
        return tuple(ending for ending, on in wanted if on)

    def listed(self, known: tuple[int, int] | None = None) -> list[int]:
        """The frames in the order in which they are to be done.  Raises MillError."""
        frames = parse_frames(self.frames, known)
        return early(frames) if self.order == "early" else frames

    def pattern(self) -> Pattern:
        """The name as a pattern.

        Raises
        ------
        MillError
            Where it has no place for the number.
        """
        pattern = pattern_of(self.name)
        if pattern is None:
            raise MillError(
                f"“{self.name}” has no place for the frame's number.",
                "Write it like night/shot.####.",
            )
        return pattern

    def check_below(self, folder: Path) -> None:
        """Refuse names that lead out of the folder of frames.  Raises MillError."""
        path = self.pattern().path(1)
        inside = "\0" not in self.name and (folder / path).resolve().is_relative_to(
            folder.resolve()
        )
        if path.is_absolute() or not inside:
            raise MillError(
                f"“{self.name}” is not below the folder of frames.",
                "Name a place below it, or start with --frames FOLDER.",
            )

    def paths(self, folder: Path, frame: int) -> list[Path]:
        """The files of a frame below a folder."""
        stem = self.pattern().path(frame)
        return [folder / stem.with_name(stem.name + ending) for ending in self.endings]

    def begun(self, folder: Path, frames: list[int]) -> list[int]:
        """Frames of which some file is there already; the folder is read once."""
        pattern = self.pattern()
        place = folder / pattern.folder
        names = set(os.listdir(place)) if place.is_dir() else set()
        stems = ((n, pattern.path(n).name) for n in frames)
        return [n for n, stem in stems if any(stem + ending in names for ending in self.endings)]

    def standing(self, folder: Path, frames: list[int]) -> list[int]:
        """Frames of which every file is there already."""
        return [n for n in frames if all(p.exists() for p in self.paths(folder, n))]
