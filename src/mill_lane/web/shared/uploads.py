"""Files that come in as the body of a request."""

from __future__ import annotations

import fcntl
import os
import re
import tempfile
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager, suppress
from dataclasses import dataclass
from pathlib import Path
from typing import IO

from fastapi import Request
from fastapi.concurrency import run_in_threadpool

from mill_lane.core import disk
from mill_lane.core.errors import MillError
from mill_lane.core.names import short_name
from mill_lane.store.transactions import no_room

BATCH = 4 << 20  # bytes that are collected before they are written
PREFIX = "upload-"
ENDING = re.compile(r"\.[a-z0-9]{1,8}")


@dataclass
class Upload:
    """A file that came in; it is removed afterwards unless somebody took it over.

    While it is being received and until it is accepted its file is locked, so that whoever removes
    what nobody needs leaves it alone.
    """

    path: Path
    taken: bool = False


@asynccontextmanager
async def received(
    request: Request, folder: Path, name: str, limit: int, advice: str, again: str
) -> AsyncIterator[Upload]:
    """Write the body of a request into a file of its own, as it comes.

    Parameters
    ----------
    request : Request
    folder : Path
    name : str
        Under which the sender knows it, for messages.
    limit : int
        Bytes.
    advice, again : str
        What to do where it is too large, and where it is empty.

    Yields
    ------
    Upload
        On the disk; set `taken` where the file is kept.

    Raises
    ------
    MillError
        For an empty body, for one that is too large, and for one that the disk has no room for;
        nothing of it stays.
    """
    declared = _declared(request)
    if declared is not None:
        if declared > limit:
            raise _too_large(name, limit, advice)
        await run_in_threadpool(disk.check_room, folder, declared, f"“{name}”")
    name = short_name(name, "the file")
    file = await run_in_threadpool(_locked_file, folder, _ending(name))
    upload = Upload(Path(file.name))
    try:
        try:
            await _write(request, file, name, limit, advice, again)
        except OSError as e:
            if not no_room(e):
                raise
            raise disk.full(folder, declared, f"“{name}”") from e
        yield upload
    finally:
        await run_in_threadpool(_let_go, file, upload)


def _declared(request: Request) -> int | None:
    """The length that the sender says the body has."""
    said = request.headers.get("content-length", "")
    return int(said) if said.isdigit() and len(said) < 16 else None


def _too_large(name: str, limit: int, advice: str) -> MillError:
    return MillError(f"“{name}” is over {limit / 10**9:g} GB.", advice, "Nothing was imported.")


def _ending(name: str) -> str:
    """The ending of a name, by which readers choose; none where it is none that a file has."""
    ending = Path(name).suffix.lower()
    return ending if ENDING.fullmatch(ending) else ""


def _locked_file(folder: Path, suffix: str) -> IO[bytes]:
    try:
        handle, name = tempfile.mkstemp(suffix, PREFIX, folder)
    except OSError as e:
        if not no_room(e):
            raise
        raise disk.full(folder, None, "the file") from e
    fcntl.flock(handle, fcntl.LOCK_SH)
    return open(name, "wb", opener=lambda *_: handle)


async def _write(
    request: Request, file: IO[bytes], name: str, limit: int, advice: str, again: str
) -> None:
    written, batch = 0, bytearray()
    async for block in request.stream():
        written += len(block)
        if written > limit:
            raise _too_large(name, limit, advice)
        batch += block
        if len(batch) >= BATCH:
            await run_in_threadpool(file.write, bytes(batch))
            batch.clear()
    if written == 0:
        raise MillError(f"“{name}” is empty (0 bytes).", again, "Nothing was imported.")

    def end() -> None:
        file.write(batch)
        file.flush()
        os.fsync(file.fileno())  # what is accepted is there after a power cut, too

    await run_in_threadpool(end)


def _let_go(file: IO[bytes], upload: Upload) -> None:
    if not upload.taken:
        upload.path.unlink(missing_ok=True)
    # What was still to be written may find no room; it is gone anyway.
    with suppress(OSError):
        file.close()
