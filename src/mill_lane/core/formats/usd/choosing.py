"""Variants and payloads of a stage: which there are, and choosing among them."""

from __future__ import annotations

from typing import Any

from mill_lane.core.errors import MillError
from mill_lane.core.formats.choices import AT_OPENING, HOW, MOST_SAID, Choices, listing, no_variant
from mill_lane.core.scene.model import Note, VariantSet
from mill_lane.core.words import plural

DEEPEST = 16  # variants within variants


def choose(stage: Any, choices: Choices, layer: Any = None) -> list[Note]:
    """Choose variants and leave payloads out, over the stage as it was opened.

    Parameters
    ----------
    stage : Usd.Stage
    choices : Choices
    layer : Sdf.Layer, optional
        Where the choice is written; the stage's session layer is usual.

    Returns
    -------
    list of Note
        What could be chosen otherwise.

    Raises
    ------
    MillError
        For a variant or a payload that is not there, naming those that are.
    """
    from pxr import Sdf, Usd

    loads = [str(p) for p in stage.FindLoadable()]
    for path in choices.left_out:
        if path not in loads:
            listed = ", ".join(loads[:MOST_SAID]) or "none"
            raise MillError(
                f"The stage has no payload at “{path}”.",
                f"It has: {listed}.",
                "Nothing was imported.",
            )
        stage.Unload(Sdf.Path(path))
    waiting = dict.fromkeys(choices.variants)
    for _ in range(DEEPEST):
        # What one variant brings along may have variants of its own.
        found = _sets(stage)
        done = [(g, n) for g, n in waiting if _matching(found, g, n)]
        with Usd.EditContext(stage, layer or stage.GetSessionLayer()):
            for group, name in done:
                for prim, own in _matching(found, group, name):
                    prim.GetVariantSet(own).SetVariantSelection(name)
                del waiting[group, name]
        if not done:
            break
    known = {g: sorted({n for _, names in prims for n in names}) for g, prims in found.items()}
    for group, name in waiting:
        raise no_variant(group, name, known)
    return _told(found, known, loads, choices)


def variant_sets(stage: Any) -> tuple[VariantSet, ...]:
    """The sets of variants of a stage, and what is drawn of each."""
    out = []
    for group, prims in _sets(stage).items():
        drawn = {prim.GetVariantSet(group).GetVariantSelection() for prim, _ in prims}
        names = tuple(sorted({n for _, own in prims for n in own}))
        out.append(VariantSet(group, names, drawn.pop() if len(drawn) == 1 else ""))
    return tuple(out)


Sets = dict[str, list[tuple[Any, list[str]]]]


def _sets(stage: Any) -> Sets:
    """Prims with a variant set, and the set's variants, by the set's name."""
    out: Sets = {}
    for prim in stage.Traverse():
        if prim.HasVariantSets():
            for group in prim.GetVariantSets().GetNames():
                names = prim.GetVariantSet(group).GetVariantNames()
                out.setdefault(group, []).append((prim, names))
    return out


def _matching(found: Sets, group: str, name: str) -> list[tuple[Any, str]]:
    return [
        (prim, own)
        for own, prims in found.items()
        if group in ("", own)
        for prim, names in prims
        if name in names
    ]


def _told(
    found: Sets, known: dict[str, list[str]], loads: list[str], choices: Choices
) -> list[Note]:
    notes = []
    if found:
        drawn = {
            f"{group}={prim.GetVariantSet(group).GetVariantSelection() or 'none'}"
            for group, prims in found.items()
            for prim, _ in prims
        }
        text = (
            f"The stage has variants ({'; '.join(listing(known))}), drawn as "
            f"{', '.join(sorted(drawn)[:MOST_SAID])}. For another, {HOW}."
        )
        notes.append(Note("variants", "look", text))
    if loads:
        text = (
            f"The stage has {plural(len(loads), 'payload')}, all loaded"
            + (f" but {', '.join(choices.left_out)}" if choices.left_out else "")
            + f": {', '.join(loads[:MOST_SAID])}. To leave one out (-{loads[0]}), {AT_OPENING}."
        )
        notes.append(Note("payloads", "look", text))
    return notes
