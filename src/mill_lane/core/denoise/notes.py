"""What was missing or mended while a picture was cleaned strip by strip, told once."""

from __future__ import annotations

from collections import Counter


class Notes:
    """Remarks in the order in which they came up, and pixels that were no colours."""

    def __init__(self) -> None:
        self._said: dict[str, None] = {}
        self._bad: Counter[str] = Counter()

    def say(self, remark: str) -> None:
        """Add a remark, once."""
        self._said[remark] = None

    def count(self, layer: str, pixels: int) -> None:
        """Add to the pixels of a layer that were no colours."""
        if pixels:
            self._bad[layer] += pixels

    def take_mended(self, others: Notes) -> None:
        """Add the pixels that others counted."""
        self._bad.update(others._bad)

    def words(self) -> tuple[str, ...]:
        """All of it, the mended pixels first."""
        mended = (
            f"{pixels} pixels of {layer} were no colours and are taken from their neighbours"
            for layer, pixels in self._bad.items()
        )
        return (*mended, *self._said)
