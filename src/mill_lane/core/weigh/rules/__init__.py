"""Rules by which textures are found to be larger than they need to be."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from mill_lane.core.registry import Registry
from mill_lane.core.weigh.analysis import Analysis
from mill_lane.core.weigh.rules import distance, footprint
from mill_lane.core.weigh.rules.sizes import Limit


@dataclass(frozen=True)
class Rule:
    """A rule: `limits` gives the longest side that images may have, by index, for a picture
    height.
    """

    name: str
    limits: Callable[[Analysis, float], list[Limit]]


def usual_rule(analysis: Analysis) -> str:
    """The rule to go by where nobody chose one: what the shot shows, once that is known."""
    return "distance" if analysis.visibility is None else "footprint"


RULES = Registry("rule", Rule("distance", distance.limits), Rule("footprint", footprint.limits))
