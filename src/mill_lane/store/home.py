"""The folder where everything of one installation lies."""

from __future__ import annotations

import errno
import fcntl
import os
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import IO

import platformdirs

from mill_lane.core.errors import MillError
from mill_lane.store.bell import FILE
from mill_lane.store.database import Sessions, open_sessions
from mill_lane.store.files import Files

DATABASE = "mill-lane.sqlite"


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

    @property
    def frames(self) -> Path:
        """Where frames are read and written by their names, where no other folder is named."""
        return self.folder / "frames"

    @property
    def textures(self) -> Path:
        """Where decoded textures are kept by their content; it may be emptied at any time."""
        return self.folder / "cache" / "textures"

    @property
    def looks(self) -> Path:
        """What is looked at in each job, and the picture so far; it may be emptied at any time."""
        return self.folder / "cache" / "looks"

    @property
    def database(self) -> Path:
        """The file of the database."""
        return self.folder / DATABASE

    @property
    def bell(self) -> Path:
        """What is rung when work is queued; see `store.bell`."""
        return self.folder / FILE

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
        raise unusable(folder, e) from e


def unusable(folder: Path, error: OSError) -> MillError:
    """The error for a folder that nothing can be kept in."""
    if error.errno in (errno.EACCES, errno.EPERM):
        why, what = "it belongs to another user", "Choose a folder of your own with --home."
    elif error.errno == errno.EROFS:
        why, what = "its disk can only be read", "Choose a folder elsewhere with --home."
    elif error.errno in (errno.ENOSPC, errno.EDQUOT):
        why, what = "its disk is full", "Make room there, or choose another folder with --home."
    else:
        why, what = str(error.strerror), "Choose another folder with --home."
    return MillError(f"{folder} cannot be used: {why}.", what)


def open_home(folder: Path, migrated: bool = False) -> Home:
    """Open or make an installation.

    Parameters
    ----------
    folder : Path
    migrated : bool
        Whether somebody else brought its database up to date already.

    Raises
    ------
    MillError
        When the folder cannot be written.
    """
    make_folder(folder)
    sessions = open_sessions(folder / DATABASE, migrated)
    return Home(folder, sessions, Files(folder / "files"))


@contextmanager
def hold(path: Path, rest: Callable[[float], None]) -> Iterator[None]:
    """Hold a file alone among processes; `rest` is called again and again until it can be had.

    The system lets go of it with the process.
    """
    with path.open("w") as file:
        while True:
            try:
                fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
                break
            except OSError:
                rest(0.2)
        yield


def lock(folder: Path) -> IO[str]:
    """Hold the folder for one server.

    Raises MillError when another one has it; keep the file open.
    """
    make_folder(folder)
    try:
        file = (folder / "lock").open("w")
    except OSError as e:
        raise unusable(folder, e) from e
    try:
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError as e:
        file.close()
        raise MillError(
            f"Another Mill Lane is already serving {folder}.",
            "Use that one, stop it, or start with another --home.",
        ) from e
    return file
