"""Remembering what was worked out, for all threads of a process."""

from __future__ import annotations

import threading
from collections import OrderedDict
from collections.abc import Callable, Hashable
from typing import Generic, TypeVar

T = TypeVar("T")


class Cache(Generic[T]):
    """The results that were asked for last, by keys that tell everything they depend on.

    Safe to use from several threads: what one lets go of another still gets.  Two that ask for the
    same at once may both work it out, since that is done outside the lock; the first one's stays.

    Parameters
    ----------
    most : int
        Results that are kept.

    Examples
    --------
    >>> squares = Cache[int](most=2)
    >>> squares.get(3, lambda: 3 * 3)
    9
    """

    def __init__(self, most: int) -> None:
        self.most = most
        self._kept: OrderedDict[Hashable, T] = OrderedDict()
        self._lock = threading.Lock()

    def get(self, key: Hashable, make: Callable[[], T]) -> T:
        """The result under a key, made where it is not there; whatever `make` raises is raised."""
        with self._lock:
            if key in self._kept:
                self._kept.move_to_end(key)
                return self._kept[key]
        made = make()
        with self._lock:
            made = self._kept.setdefault(key, made)
            self._kept.move_to_end(key)
            while len(self._kept) > self.most:
                self._kept.popitem(last=False)
        return made

    def clear(self) -> None:
        """Let go of everything."""
        with self._lock:
            self._kept.clear()

    def __len__(self) -> int:
        return len(self._kept)
