"""Remembering what was worked out from something that never changes, like an analysis."""

from __future__ import annotations

import functools
import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable
from typing import Any, TypeVar

T = TypeVar("T")


def remembered(most: int) -> Callable[[Callable[..., T]], Callable[..., T]]:
    """Remember the newest results of a function, by which object it was first given.

    The first argument is told by its identity, and kept as long as its result is; the others by
    their value.

    Parameters
    ----------
    most : int
        Results that are kept.
    """

    def decorate(function: Callable[..., T]) -> Callable[..., T]:
        kept: OrderedDict[tuple[Hashable, ...], tuple[Any, T]] = OrderedDict()
        lock = threading.Lock()

        @functools.wraps(function)
        def inner(first: Any, *others: Hashable) -> T:
            key = (id(first), *others)
            with lock:
                if key in kept:
                    kept.move_to_end(key)
                    return kept[key][1]
            made = function(first, *others)
            with lock:
                kept[key] = (first, made)
                while len(kept) > most:
                    kept.popitem(last=False)
            return made

        return inner

    return decorate
