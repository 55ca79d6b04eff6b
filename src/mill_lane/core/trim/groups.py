"""Proposals that are one thing to an artist: copies, a material, a folder of the scene, a trim."""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from typing import Any, TypeVar

from mill_lane.core.registry import Registry
from mill_lane.core.trim.model import Choice, Proposal, Target
from mill_lane.core.weigh.analysis import Analysis

NUMBERED = re.compile(r"[\s._-]*\d+$")  # what tells copies of an object apart in their names
NOWHERE = "no folder"
# Parameters that few values are taken of: of a surface, a picture.  How many triangles are left
# differs from copy to copy with every distance, and is the same trim.
STEPS = ("level", "limit")

T = TypeVar("T", Proposal, Choice)
About = Proposal | Choice


@dataclass(frozen=True)
class Grouping:
    """A way to put proposals together.

    Attributes
    ----------
    name, title : str
    key : callable
        From a proposal and what is known of the scene to what it is put together with: two of one
        key belong together.
    """

    name: str
    title: str
    key: Callable[[About, Known], str]


class Known:
    """What of a scene's analysis groups go by, looked up once."""

    def __init__(self, analysis: Analysis) -> None:
        self.meshes = {m.index: m for m in analysis.meshes}
        self.images = {t.index: t for t in analysis.textures}
        self._users: dict[int, list[int]] = {}
        for m in analysis.meshes:
            for image in m.images:
                self._users.setdefault(image, []).append(m.index)

    def root(self, target: Target) -> int:
        """The first of the copies that a mesh or a picture is one of."""
        if target.kind == "mesh" and target.index in self.meshes:
            of = self.meshes[target.index].duplicate_of
        elif target.kind == "image" and target.index in self.images:
            of = self.images[target.index].same_as
        else:
            of = None
        return target.index if of is None else of

    def materials(self, target: Target) -> str:
        """The materials that a thing is worn with, or is of."""
        if target.kind == "material":
            return target.name
        row = self._row(target)
        return ", ".join(row.materials) if row is not None else ""

    def folder(self, target: Target) -> str:
        """Where in the scene a thing stands; several places for what is used in many."""
        if target.kind == "mesh" and target.index in self.meshes:
            return self.meshes[target.index].folder or NOWHERE
        if target.kind == "image":
            users = self._users.get(target.index, [])
            folders = {self.meshes[m].folder or NOWHERE for m in users}
            return folders.pop() if len(folders) == 1 else "several folders" if folders else ""
        return ""

    def _row(self, target: Target) -> Any:
        of = {"mesh": self.meshes, "image": self.images}.get(target.kind, {})
        return of.get(target.index)  # type: ignore[attr-defined]


def _copies(p: About, known: Known) -> str:
    if "of" in p.parameters:
        return f"{p.trim} {p.target.kind} {p.parameters['of']}"
    if p.target.kind == "object":
        return f"{p.trim} object {NUMBERED.sub('', p.target.name)}"
    # Copies that are to become unlike each other are two things.
    steps = "".join(f" {p.parameters[name]}" for name in STEPS if name in p.parameters)
    return f"{p.trim} {p.target.kind} {known.root(p.target)}{steps}"


def _material(p: About, known: Known) -> str:
    return known.materials(p.target) or f"{p.trim} {p.target.key}"


def _folder(p: About, known: Known) -> str:
    return known.folder(p.target) or f"{p.trim} {p.target.key}"


GROUPINGS = Registry(
    "grouping",
    Grouping("copies", "copies", _copies),
    Grouping("material", "material", _material),
    Grouping("folder", "folder of the scene", _folder),
    Grouping("trim", "trim", lambda p, known: p.trim),
    Grouping("single", "nothing", lambda p, known: f"{p.trim} {p.target.key}"),
)


def grouped(items: Sequence[T], by: str, analysis: Analysis) -> dict[str, list[T]]:
    """Proposals, or choices, by what they are put together with, in the order of their first."""
    known, key = Known(analysis), GROUPINGS[by].key
    out: dict[str, list[T]] = {}
    for item in items:
        out.setdefault(key(item, known), []).append(item)
    return out
