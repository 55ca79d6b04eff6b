"""Remembering what was worked out from something that never changes, like an analysis."""

from __future__ import annotations

import functools
from collections.abc import Callable, Hashable
from typing import Any, TypeVar

from mill_lane.core.cache import Cache

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
        kept = Cache[tuple[Any, T]](most)

        @functools.wraps(function)
        def inner(first: Any, *others: Hashable) -> T:
            # The object is kept with its result, so that its identity is no other's meanwhile.
            return kept.get((id(first), *others), lambda: (first, function(first, *others)))[1]

        return inner

    return decorate
