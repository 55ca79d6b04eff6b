"""Work shared out among a few threads, its results taken in order."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import Any


def in_order(function: Any, count: int, threads: int) -> Iterator[Any]:
    """Results of function(0), function(1), … in order, computed by a few threads; what waits is
    dropped on an error.
    """
    with ThreadPoolExecutor(max(1, threads)) as pool:
        waiting = deque(pool.submit(function, i) for i in range(count))
        try:
            # A future that is done with is let go of: its result may be large.
            while waiting:
                yield waiting.popleft().result()
        finally:
            for future in waiting:
                future.cancel()
