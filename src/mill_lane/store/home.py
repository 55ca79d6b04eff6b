"""The folder where everything of one installation lies."""

from __future__ import annotations

import fcntl
import os
from dataclasses import dataclass
from pathlib import Path
from typing import IO

import platformdirs

from mill_lane.core.errors import MillError
from mill_lane.store.database import Sessions, open_sessions
from mill_lane.store.files import Files


@dataclass(frozen=True)
class Home:
    """Paths of an installation; `sessions` makes database sessions."""

    folder: Path
    sessions: Sessions
    files: Files

    @property
    def scratch(self) -> Path:
        """Work in progress:

        uploads, checkpoints, previews.  A folder for each task, gone when it is over.
        """
        return self.folder / "scratch"

    def task_folder(self, task: int) -> Path:
        """The folder of a task, made where it is not there."""
        path = self.scratch / f"task-{task}"
        path.mkdir(parents=True, exist_ok=True)
        return path


def default_folder() -> Path:
    """Where an installation lies when nobody says otherwise."""
    named = os.environ.get("MILL_LANE_HOME")
    return Path(named) if named else platformdirs.user_data_path("mill-lane")


def make_folder(folder: Path) -> None:
    """Make the folder of an installation.  Raises MillError when it cannot be written."""
    try:
        folder.mkdir(parents=True, exist_ok=True)
        (folder / "scratch").mkdir(exist_ok=True)
    except OSError as e:
        raise MillError(
            f"{folder} cannot be used: {e.strerror}.", "Choose another folder with --home."
        ) from e


def open_home(folder: Path) -> Home:
    """Open or make an installation.  Raises MillError when the folder cannot be written."""
    make_folder(folder)
    return Home(folder, open_sessions(folder / "mill-lane.sqlite"), Files(folder / "files"))


def lock(folder: Path) -> IO[str]:
    """Hold the folder for one server.

    Raises MillError when another one has it; keep the file open.
    """
    make_folder(folder)
    file = (folder / "lock").open("w")
    try:
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError as e:
        file.close()
        raise MillError(
            f"Another Mill Lane is already serving {folder}.",
            "Use that one, stop it, or start with another --home.",
        ) from e
    return file
