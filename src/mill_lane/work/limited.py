"""Looking into a file that came from outside, in a process that can take only so much for it.

For what an answer waits on; whatever takes longer is a kind of task.
"""

from __future__ import annotations

import multiprocessing
import os
from collections.abc import Callable
from multiprocessing.connection import Connection
from typing import Any, TypeVar

from mill_lane.core.errors import MillError
from mill_lane.work.limits import end_with, limit_memory

T = TypeVar("T")
MEMORY = 3 * 10**9  # bytes
SECONDS = 60.0


def limited(
    function: Callable[..., T], *args: Any, memory: int = MEMORY, seconds: float = SECONDS
) -> T:
    """Call a function in a process of its own.

    Parameters
    ----------
    function : callable
        Of a module; its arguments and its result are sent between processes.
    *args
    memory : int
        Bytes that it may take.
    seconds : float
        That it may take.

    Raises
    ------
    MillError
        What the function raised, and for what takes too much or too long.
    """
    context = multiprocessing.get_context("spawn")
    ours, theirs = context.Pipe(duplex=False)
    process = context.Process(
        target=_call, args=(theirs, os.getpid(), memory, function, args), daemon=True
    )
    process.start()
    theirs.close()
    try:
        if not ours.poll(seconds):
            raise _too_much(f"takes over {seconds:.0f} s to be read")
        try:
            result = ours.recv()
        except (EOFError, OSError) as e:
            raise _too_much("cannot be read without a crash") from e
    finally:
        process.kill()
        process.join()
        ours.close()
    if isinstance(result, MillError):
        raise result
    found: T = result
    return found


def _call(
    pipe: Connection, parent: int, memory: int, function: Callable[..., Any], args: tuple[Any, ...]
) -> None:
    end_with(parent)
    limit_memory(memory)
    try:
        pipe.send(function(*args))
    except MillError as e:
        pipe.send(e)
    except MemoryError:
        pipe.send(_too_much(f"takes over {memory / 10**9:g} GB to be read"))
    except Exception as e:
        pipe.send(_too_much(f"cannot be read: {type(e).__name__}: {e}"[:300]))


def _too_much(what: str) -> MillError:
    return MillError(f"The file {what}.", "Save it again, smaller.", "Nothing was changed.")
