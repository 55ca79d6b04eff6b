"""The animations of a document."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from mill_lane.core.formats.gltf.entries import Builder, Json, sampler_of
from mill_lane.core.formats.gltf.references import pointers
from mill_lane.core.scene.model import Channel, Scene

PATHS = ("translation", "rotation", "scale")


def same_channels(a: tuple[Channel, ...], b: tuple[Channel, ...]) -> bool:
    """Whether two nodes move alike."""
    return len(a) == len(b) and all(
        x is y
        or (
            (x.path, x.interpolation) == (y.path, y.interpolation)
            and np.array_equal(x.times, y.times)
            and np.array_equal(x.values, y.values)
        )
        for x, y in zip(a, b, strict=True)
    )


def patch_animations(
    animations: list[Json],
    scene: Scene,
    before: Scene,
    at: Sequence[int],
    gone: dict[str, set[int]],
    b: Builder,
) -> list[Json]:
    """Write the motion of a scene.

    Parameters
    ----------
    animations : list of dict
        Those of the file.
    scene, before : Scene
        As it is, and as it was read.
    at : sequence of int
        The number of each node in the patched list.
    gone : dict
        By kind the numbers of entries that are no longer there.
    b : Builder

    Returns
    -------
    list of dict
        Channels of nodes that are gone or move otherwise are left out; new ones stand in an
        animation of their own at the end.
    """
    moved: list[tuple[int, Channel]] = []
    otherwise: set[int] = set()
    for number, node in zip(at, scene.nodes, strict=True):
        known = 0 <= node.source < len(before.nodes)
        own = number == node.source and known
        was = before.nodes[node.source].channels if own else ()
        if not same_channels(node.channels, was):
            otherwise.add(number)
            moved += [(number, c) for c in node.channels]
    out = [_without(a, otherwise, gone) for a in animations]
    out = [a for a in out if a["channels"]]
    if moved:
        samplers = [sampler_of(b, c) for _, c in moved]
        channels = [
            {"sampler": k, "target": {"node": number, "path": c.path}}
            for k, (number, c) in enumerate(moved)
        ]
        out.append({"name": "move", "samplers": samplers, "channels": channels})
    return out


def _without(animation: Json, otherwise: set[int], gone: dict[str, set[int]]) -> Json:
    lost = {
        id(holder)
        for holder, kind, index, _ in pointers(animation)
        if index in gone.get(kind, set())
    }
    channels = []
    for channel in animation["channels"]:
        target = channel["target"]
        node, pointer = (
            target.get("node"),
            target.get("extensions", {}).get("KHR_animation_pointer"),
        )
        dropped = node in gone["nodes"] or (node in otherwise and target["path"] in PATHS)
        if not dropped and id(pointer) not in lost:
            channels.append(channel)
    if len(channels) == len(animation["channels"]):
        return animation
    used = sorted({c["sampler"] for c in channels})
    new = {old: i for i, old in enumerate(used)}
    return animation | {
        "channels": [c | {"sampler": new[c["sampler"]]} for c in channels],
        "samplers": [animation["samplers"][i] for i in used],
    }
