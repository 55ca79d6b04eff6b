"""Work shared out among a few threads, its results taken in order."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from typing import Any

TICK = 0.25  # seconds between two looks at whether somebody wants it to stop


def in_order(
    function: Any, count: int, threads: int, meanwhile: Callable[[], object] | None = None
) -> Iterator[Any]:
    """Results of function(0), function(1), … in order, computed by a few threads.

    What waits is dropped on an error.  `meanwhile` is called a few times a second while a result
    is waited for; what it raises ends everything at once, without waiting for what runs.
    """
    pool = ThreadPoolExecutor(max(1, threads))
    futures = deque(pool.submit(function, i) for i in range(count))
    patient = meanwhile is None
    try:
        # A future that is done with is let go of: its result may be large.
        while futures:
            if meanwhile is not None:
                _await(futures[0], meanwhile)
            yield futures.popleft().result()
        patient = True
    finally:
        pool.shutdown(wait=patient, cancel_futures=True)


def _await(future: Future[Any], meanwhile: Callable[[], object]) -> None:
    while not future.done():
        try:
            future.exception(TICK)
        except TimeoutError:
            meanwhile()
