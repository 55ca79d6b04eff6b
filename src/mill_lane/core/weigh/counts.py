"""How many textures a scene has, which depends on what is counted."""

from __future__ import annotations

from typing import NamedTuple

from mill_lane.core.weigh.analysis import Analysis
from mill_lane.core.words import plural


class TextureCounts(NamedTuple):
    """Textures of a scene.

    `used` are those that something drawn uses, `equal` those of them whose picture is another's
    again, `unused` those that are stored beside and that nothing drawn uses.
    """

    used: int
    equal: int
    unused: int

    @property
    def stored(self) -> int:
        """All that the file holds."""
        return self.used + self.unused

    @property
    def words(self) -> str:
        """How many are used, with what is remarkable about them."""
        more = [f"{self.equal} of them equal to others"] if self.equal else []
        more += [f"{self.unused} more unused"] if self.unused else []
        beside = f" ({', '.join(more)})" if more else ""
        return f"{plural(self.used, 'texture')}{beside}"


def texture_counts(analysis: Analysis) -> TextureCounts:
    """Count the textures of a scene; equal ones are known once pictures were decoded."""
    used = [t for t in analysis.textures if t.memory_bytes]
    equal = sum(t.same_as is not None for t in used)
    return TextureCounts(len(used), equal, len(analysis.textures) - len(used))
