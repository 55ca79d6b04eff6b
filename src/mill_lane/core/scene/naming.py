"""What placed things are called, so that no two have the same name."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence


def told_apart(placed: Sequence[tuple[str, str]]) -> list[str]:
    """Names for things that nodes place.

    Each is called as its node, as in the program where the scene was made; where nodes have the
    same name or none, as the thing itself; and numbered where that does not tell either.

    Parameters
    ----------
    placed : sequence of (str, str)
        The names of the node and of what it places.

    Returns
    -------
    list of str
        In the same order, no two alike.
    """
    nodes = Counter(node for node, _ in placed)
    own = Counter(thing for _, thing in placed)
    out: list[str] = []
    for node, thing in placed:
        by_node = node and (nodes[node] == 1 or own[thing] > 1 or not thing)
        first = node if by_node else thing
        name, number = first, 1
        while name in out:
            number += 1
            name = f"{first} ({number})"
        out.append(name)
    return out
