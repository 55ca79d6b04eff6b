"""The record of a range that was rendered by command: a JSON file beside its frames."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from pydantic import BaseModel

from mill_lane.core.errors import MillError
from mill_lane.core.names import plain

NAME = "mill-lane-run.json"


class Record(BaseModel):
    """What was rendered, how, and what was measured.

    Attributes
    ----------
    scene, hash : str
        The file's name, and its SHA-256.
    triangles, textures : int
        Drawn, and how many there are.
    recipe, sheet, device : dict
        As they were at the end.
    predicted_bytes, peak_bytes : int
        Of memory.
    load_seconds, seconds : float
        Loading the scene, and all together, over all calls.
    fallbacks : list of str
        What was done for want of memory.
    warnings : list of str
        What was told before.
    frames : list of dict
        A row a frame.
    """

    scene: str
    hash: str
    triangles: int
    textures: int
    recipe: dict[str, Any]
    sheet: dict[str, Any]
    device: dict[str, Any]
    predicted_bytes: int
    peak_bytes: int = 0
    load_seconds: float = 0.0
    seconds: float = 0.0
    fallbacks: list[str] = []
    warnings: list[str] = []
    frames: list[dict[str, Any]] = []

    def write(self, folder: Path, camera: str = "") -> None:
        """Write it beside the frames, in one step; of several cameras each has its own."""
        folder.mkdir(parents=True, exist_ok=True)
        name = name_of(camera)
        part = folder / f".{name}.part"
        part.write_text(self.model_dump_json(indent=1))
        part.replace(folder / name)


def name_of(camera: str) -> str:
    """The file of a record; with the camera where there are several."""
    return f"{Path(NAME).stem}-{plain(camera, 'camera')}.json" if camera else NAME


def read_record(folder: Path, camera: str = "") -> Record:
    """Read the record of a folder of frames, or a record by its own name.

    Raises
    ------
    MillError
        Where there is none.
    """
    path = folder if folder.is_file() else folder / name_of(camera)
    try:
        return Record.model_validate_json(path.read_text())
    except OSError as e:
        raise MillError(
            f"There is no record of a run in {folder}: {e.strerror}.",
            "Name the folder that was given to run with --out.",
        ) from e
    except ValueError as e:
        raise MillError(f"{path} is no record of a run: {e}", "Render the range again.") from e
