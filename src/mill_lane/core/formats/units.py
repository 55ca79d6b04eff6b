"""Files that do not say their unit nor which way is up:

a guess, said aloud, and the means to correct it.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.scene.framing import world_bounds
from mill_lane.core.scene.model import Node, Note, Scene

CARRIED = "unit and up"  # the name of the node that carries a scene to metres with Y up
UNITS = {"m": 1.0, "cm": 0.01, "mm": 0.001, "in": 0.0254, "ft": 0.3048}
NAMES = {"m": "metres", "cm": "centimetres", "mm": "millimetres", "in": "inches", "ft": "feet"}
# Z up as a rotation: (x, y, z) becomes (x, z, -y).
Z_UP = np.array([[1.0, 0, 0, 0], [0, 0, 1.0, 0], [0, -1.0, 0, 0], [0, 0, 0, 1.0]])


def guess_unit(largest: float) -> str:
    """The unit in which a thing of this largest side would be of a usual size, at most 100 m
    (common practice).
    """
    if largest > 10_000:
        return "mm"
    return "cm" if largest > 100 else "m"


def guess_up(low: np.ndarray, high: np.ndarray, ending: str) -> str:
    """Which axis is up:

    printing files stand on Z; others lie flat on the floor of the axis that begins at 0.
    """
    if ending == ".stl":
        return "z"
    size = float((high - low).max()) or 1.0
    stands = [abs(float(low[k])) < 0.001 * size for k in (1, 2)]
    return "z" if stands == [False, True] else "y"


def with_units(scene: Scene, ending: str) -> Scene:
    """The scene in metres with Y up, by guess, under a node of its own; the guess stands in the
    notes.
    """
    low, high = world_bounds(scene)
    largest = float((high - low).max())
    unit = "mm" if ending == ".stl" and largest > 1 else guess_unit(largest)
    up = guess_up(low, high, ending)
    nodes = [replace(n, parent=n.parent + 1 if n.parent >= 0 else 0) for n in scene.nodes]
    return replace(
        scene,
        nodes=(Node(CARRIED, matrix=reading(unit, up)), *nodes),
        read_as=(unit, up),
        notes=(said(unit, up, largest * UNITS[unit]), *scene.notes),
    )


def said(unit: str, up: str, size: float) -> Note:
    """What to tell the artist: how the file was read, and how large that makes it."""
    return Note(
        "unit_guessed",
        "look",
        (
            f"The file does not say its unit nor which way is up: it was read as {NAMES[unit]} "
            f"with {up.upper()} up, "
            f"its largest side {size:.3g} m."
        ),
    )


def unit_of(metres: float) -> str:
    """The unit of so many metres; empty for one that is none of `UNITS`."""
    return next((u for u, k in UNITS.items() if abs(k - metres) <= 1e-6 * k), "")


def in_words(declared: tuple[float, str]) -> str:
    """What a file says of its unit and its axis up."""
    metres, up = declared
    unit = NAMES.get(unit_of(metres)) or f"units of {metres:g} m"
    return f"{unit} with {up.upper()} up"


def put_right(unit: str, up: str, declared: tuple[float, str], size: float) -> Note:
    """What to tell the artist of a scene that is read otherwise than its file says."""
    text = (
        f"The file says {in_words(declared)}; it is read as {NAMES[unit]} with {up.upper()} up, "
        f"its largest side {size:.3g} m."
    )
    return Note("unit_put_right", "look", text)


def correction(scene: Scene) -> NDArray[np.float64]:
    """By what a scene was carried that is read otherwise than its file says, (4, 4)."""
    if scene.declared is None or scene.read_as is None:
        return np.eye(4)
    return from_declared(*scene.read_as, scene.declared)


def from_declared(unit: str, up: str, declared: tuple[float, str] | None) -> NDArray[np.float64]:
    """What carries a scene, as its file says it is or as its bare numbers, to another reading."""
    wanted = reading(unit, up)
    return wanted if declared is None else wanted @ np.linalg.inv(_matrix(*declared))


def reading(unit: str, up: str) -> NDArray[np.float64]:
    """From the file's coordinates to metres with Y up, (4, 4)."""
    return _matrix(UNITS[unit], up)


def _matrix(metres: float, up: str) -> NDArray[np.float64]:
    return np.diag([metres, metres, metres, 1.0]) @ (Z_UP if up == "z" else np.eye(4))
