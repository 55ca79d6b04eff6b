"""The ladder of savings: what is proposed, in the order of what it saves for what it changes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from mill_lane.core.trim import TRIMS, foresee
from mill_lane.core.trim.model import Proposal
from mill_lane.core.weigh.analysis import Analysis
from mill_lane.core.weigh.ledger import PLACEMENT_BYTES

SINGLY = 4  # proposals of one trim that have a rung each; more stand on one together
LEAST_CHANGE = 0.002  # RMS of a crop, below which changes count as equal


@dataclass(frozen=True)
class Rung:
    """Proposals that are taken together.

    Attributes
    ----------
    trim : str
    proposals : list of Proposal
    saved : int
        Bytes, beyond what the rungs before it save.
    needed : int
        Bytes that are needed after it and all rungs before it.
    change : float or None
        RMS of what it changes in a picture, 0 where nothing that is drawn changes; None before it
        was measured.
    """

    trim: str
    proposals: list[Proposal]
    saved: int
    needed: int
    change: float | None


@dataclass(frozen=True)
class Ladder:
    """Rungs from the first to be taken, and how many of them bring it under the capacity.

    `down_to` is None where all of them do not, 0 where none is needed.
    """

    rungs: list[Rung]
    needed: int
    capacity: int
    down_to: int | None


def ladder(
    analysis: Analysis,
    proposals: Sequence[Proposal],
    needed: int,
    capacity: int,
    changes: Mapping[str, float] | None = None,
) -> Ladder:
    """Put proposals in order.

    Parameters
    ----------
    analysis : Analysis
    proposals : sequence of Proposal
        Of any trims; those that are left alone do not count.
    needed, capacity : int
        Bytes.
    changes : mapping, optional
        What was measured of some proposals: RMS by "TRIM/TARGET".

    Returns
    -------
    Ladder
        What changes nothing first, then by the bytes saved for each bit of change; what saves no
        memory is not on it.
    """
    known = changes or {}
    groups: dict[str, list[Proposal]] = {}
    for p in proposals:
        if not p.left_alone and p.memory_saved_bytes > 0 and p.trim in TRIMS:
            groups.setdefault(p.trim, []).append(p)
    wanted = []
    for found in groups.values():
        each = [[p] for p in found] if len(found) <= SINGLY else [found]
        wanted += [(one, _change(one, known)) for one in each]
    wanted.sort(key=_worth)
    rungs: list[Rung] = []
    left, before = needed, held(analysis)
    down_to = 0 if needed <= capacity else None
    for one, change in wanted:
        analysis = foresee(analysis, [p.choice for p in one])
        after = held(analysis)
        if after >= before:
            continue
        left -= before - after
        rungs.append(Rung(one[0].trim, one, before - after, left, change))
        before = after
        if down_to is None and left <= capacity:
            down_to = len(rungs)
    return Ladder(rungs, needed, capacity, down_to)


@dataclass(frozen=True)
class TimeRung:
    """Proposals that are taken together, and what is left of the time of their crops, measured."""

    trim: str
    proposals: list[Proposal]
    ratio: float
    change: float | None


def time_rungs(
    proposals: Sequence[Proposal],
    seconds: Mapping[str, tuple[float, float]],
    changes: Mapping[str, float] | None = None,
) -> list[TimeRung]:
    """What proposals do to the time of a render, the most saved for what it changes first.

    Parameters
    ----------
    proposals : sequence of Proposal
        Of any trims.
    seconds : mapping
        By "TRIM/TARGET" of those that were measured: what their crops took before and after.
    changes : mapping, optional
        RMS of what they change.

    Returns
    -------
    list of TimeRung
        Only of what was measured; those of one trim stand together where they are many.
    """
    groups: dict[str, list[Proposal]] = {}
    for p in proposals:
        if f"{p.trim}/{p.target.key}" in seconds and p.trim in TRIMS and not p.left_alone:
            groups.setdefault(p.trim, []).append(p)
    out = []
    for found in groups.values():
        for one in [[p] for p in found] if len(found) <= SINGLY else [found]:
            spent = [seconds[f"{p.trim}/{p.target.key}"] for p in one]
            before, after = (sum(x[k] for x in spent) for k in (0, 1))
            if before > 0:
                change = _change(one, changes or {})
                out.append(TimeRung(one[0].trim, one, after / before, change))
    return sorted(out, key=lambda r: -(1 - r.ratio) / max(r.change or LEAST_CHANGE, LEAST_CHANGE))


def _change(proposals: list[Proposal], known: Mapping[str, float]) -> float | None:
    """The most that any of them changes; None where that of one is not known."""
    if TRIMS[proposals[0].trim].exact:
        return 0.0
    found = [known.get(f"{p.trim}/{p.target.key}") for p in proposals]
    measured = [x for x in found if x is not None]
    return max(measured) if len(measured) == len(found) else None


def _worth(item: tuple[list[Proposal], float | None]) -> tuple[int, float]:
    proposals, change = item
    saved = sum(p.memory_saved_bytes for p in proposals)
    if change == 0:
        return 0, -saved
    return 1, -saved / max(change or LEAST_CHANGE, LEAST_CHANGE)


def held(analysis: Analysis) -> int:
    """Bytes of meshes, textures and placements: what trims can change of a ledger."""
    meshes = sum(m.memory_bytes for m in analysis.meshes)
    textures = sum(t.memory_bytes for t in analysis.textures)
    return meshes + textures + PLACEMENT_BYTES * analysis.instances
