"""How many prims a stage will have, told from its layers before anything is composed.

A few lines may say that a thing is made of ten things, each of ten, and so on: composing that takes
memory and time that the file's size does not tell.
"""

from __future__ import annotations

from typing import Any

MOST_PRIMS = 500_000
DEEPEST = 200  # references within references


class Prims:
    """Counts of prims by place, each worked out once.

    Parameters
    ----------
    find : callable
        From a layer and an asset path to the layer that it names, or None.
    """

    def __init__(self, find: Any) -> None:
        self.find = find
        self.known: dict[tuple[str, str], int] = {}
        self.open: set[tuple[str, str]] = set()

    def of_layer(self, layer: Any) -> int:
        """All prims of a layer and of its sublayers, with what they refer to."""
        total, waiting, seen = 0, [layer], set()
        while waiting:
            one = waiting.pop()
            if one.identifier in seen:
                continue
            seen.add(one.identifier)
            total += self._below(one, one.pseudoRoot)
            found = (self.find(one, path) for path in one.subLayerPaths)
            waiting += [x for x in found if x is not None]
        return total

    def _below(self, layer: Any, root: Any) -> int:
        """The prims at and below a spec, over and over until there are too many."""
        total, stack = 0, [root]
        while stack and total <= MOST_PRIMS:
            spec = stack.pop()
            total += 1
            stack.extend(spec.nameChildren)
            for group in spec.variantSets if spec.path.IsPrimPath() else ():
                chosen = spec.variantSelections.get(group.name)
                variant = group.variants.get(chosen) if chosen else None
                if variant is not None:
                    total += self._below(layer, variant.primSpec)
            for arc, internal in _arcs(spec):
                total += self._arc(layer, arc, internal)
        return total

    def _arc(self, layer: Any, arc: Any, internal: bool) -> int:
        asset = "" if internal else arc.assetPath
        path = arc if internal else arc.primPath
        target = self.find(layer, asset) if asset else layer
        if target is None:
            return 0
        if not path:
            path = f"/{target.defaultPrim}" if target.defaultPrim else ""
        key = (target.identifier, str(path))
        if key in self.known:
            return self.known[key]
        if key in self.open or len(self.open) > DEEPEST:
            return 0  # a circle, which the library finds by itself
        spec = target.GetPrimAtPath(path) if path else None
        if spec is None:
            return 0
        self.open.add(key)
        self.known[key] = self._below(target, spec)
        self.open.discard(key)
        return self.known[key]


def _arcs(spec: Any) -> list[tuple[Any, bool]]:
    """What a spec is made of beside its own children: (arc, whether it is a path here)."""
    if not spec.path.IsPrimPath() and not spec.path.IsPrimVariantSelectionPath():
        return []
    out: list[tuple[Any, bool]] = []
    if spec.hasReferences:
        out += [(x, False) for x in spec.referenceList.GetAppliedItems()]
    if spec.hasPayloads:
        out += [(x, False) for x in spec.payloadList.GetAppliedItems()]
    if spec.hasInheritPaths:
        out += [(x, True) for x in spec.inheritPathList.GetAppliedItems()]
    if spec.hasSpecializes:
        out += [(x, True) for x in spec.specializesList.GetAppliedItems()]
    return out
