"""Numbers with their nouns."""

from __future__ import annotations


def plural(n: int, one: str, many: str | None = None) -> str:
    """A number with its noun.

    Examples
    --------
    >>> plural(1, "frame"), plural(2, "frame"), plural(3, "mesh is", "meshes are")
    ('1 frame', '2 frames', '3 meshes are')
    """
    return f"{n} {one if n == 1 else many or one + 's'}"
