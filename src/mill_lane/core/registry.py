"""Capabilities by name: one place where each kind of capability is listed."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Generic, Protocol, TypeVar


class Named(Protocol):
    """Anything that carries the name it is found by."""

    @property
    def name(self) -> str:
        """The name, unique within its registry."""


T = TypeVar("T", bound=Named)


class Registry(Generic[T]):
    """Things of one kind by name, in the order in which they were added.

    Parameters
    ----------
    what : str
        What the things are, for error messages: "trim", "kind of task".
    *things : T
        The ones that ship with Mill Lane.

    Notes
    -----
    A registry is filled while its module is imported.  Code from outside the package adds to it
    with `add` before anything is served.
    """

    def __init__(self, what: str, *things: T) -> None:
        self.what = what
        self._things: dict[str, T] = {}
        for thing in things:
            self.add(thing)

    def add(self, thing: T) -> T:
        """List one more.

        Returns
        -------
        T
            The thing itself, so that this can be used as a decorator.

        Raises
        ------
        ValueError
            If the name is taken.
        """
        if thing.name in self._things:
            raise ValueError(f"there is a {self.what} called {thing.name!r} already")
        self._things[thing.name] = thing
        return thing

    def remove(self, name: str) -> None:
        """Take one out again; KeyError where there is none of that name."""
        del self._things[name]

    def __getitem__(self, name: str) -> T:
        """The thing of that name; KeyError where there is none."""
        return self._things[name]

    def __contains__(self, name: object) -> bool:
        """Whether there is one of that name."""
        return name in self._things

    def __iter__(self) -> Iterator[T]:
        """All of them, in order."""
        return iter(self._things.values())

    def __len__(self) -> int:
        """How many there are."""
        return len(self._things)

    @property
    def names(self) -> tuple[str, ...]:
        """Their names, in order."""
        return tuple(self._things)
