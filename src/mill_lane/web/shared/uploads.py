"""Files that come in as the body of a request."""

from __future__ import annotations

import tempfile
from pathlib import Path

from fastapi import Request
from fastapi.concurrency import run_in_threadpool

from mill_lane.core.errors import MillError

BATCH = 4 << 20  # bytes that are collected before they are written


async def received(
    request: Request, folder: Path, name: str, limit: int, advice: str, again: str
) -> Path:
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

    Raises
    ------
    MillError
        For an empty body and for one that is too large; nothing of it stays.
    """
    with tempfile.NamedTemporaryFile(
        dir=folder, suffix=Path(name).suffix.lower(), delete=False
    ) as f:
        path, written, batch = Path(f.name), 0, bytearray()
        try:
            async for block in request.stream():
                written += len(block)
                if written > limit:
                    size = f"{limit / 10**9:g} GB"
                    raise MillError(f"“{name}” is over {size}.", advice, "Nothing was imported.")
                batch += block
                if len(batch) >= BATCH:
                    await run_in_threadpool(f.write, bytes(batch))
                    batch.clear()
            await run_in_threadpool(f.write, bytes(batch))
            if written == 0:
                raise MillError(f"“{name}” is empty (0 bytes).", again, "Nothing was imported.")
        except BaseException:
            path.unlink(missing_ok=True)  # also when the sender went away
            raise
    return path
