"""The cage of a subdivision surface: what a file declares, and as bytes that ride along with it."""

from __future__ import annotations

import io
import zipfile
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.errors import MillError
from mill_lane.core.subdivision.topology import F64, INFINITE, Ints, Topology, topology_of

Scheme = Literal["catmullClark", "loop"]
SCHEMES: tuple[Scheme, ...] = ("catmullClark", "loop")
# How values at corners behave along seams, as UsdGeomMesh has it: from smooth all over to straight
# all over; "vertex" goes the way of the positions.
SEAMS = ("none", "cornersOnly", "cornersPlus1", "cornersPlus2", "boundaries", "all", "vertex")
ARRAYS = ("points", "counts", "corners", "pairs", "sharp", "pinned", "owner", "cut")


@dataclass(frozen=True, eq=False)
class Spread:
    """Values over the corners of a cage: places on a texture, or colours.

    values : float64 (U, K).  at : int64 (C,), which of them each corner has.  seams : of `SEAMS`.
    """

    values: F64
    at: Ints
    seams: str = "cornersPlus1"


@dataclass(frozen=True, eq=False)
class Cage:
    """The polygons that a surface is declared by.

    points : float64 (V, 3).  counts : int64 (F,), corners of each polygon.  corners : int64 (C,).
    pairs : int64 (K, 2), vertices at both ends of a crease's edge.  sharp : float64 (K,).
    pinned : float64 (V,), how sharp corners are.  owner : int64 (F,), the part that draws each
    polygon, -1 for a hole.  cut : int64 (T, 3), the polygons as triangles, in places of `corners`.
    """

    scheme: Scheme
    points: F64
    counts: Ints
    corners: Ints
    pairs: Ints
    sharp: F64
    pinned: F64
    owner: Ints
    cut: Ints
    uvs: Spread | None = None
    colors: Spread | None = None

    @property
    def topology(self) -> Topology:
        """Its polygons, with creases and corners."""
        return topology_of(
            self.counts, self.corners, len(self.points), (self.pairs, self.sharp), self.pinned
        )


def cornered(cage: Cage) -> F64:
    """How sharp vertices are where those of a single polygon on the border are held
    ("edgeAndCorner", what UsdGeomMesh takes unless told).
    """
    t = cage.topology
    faces = np.bincount(t.corners, minlength=t.vertices)
    return np.where((faces == 1) & (t.valence == 2), INFINITE, cage.pinned)


def without_borders(cage: Cage) -> Ints:
    """Who owns each polygon where those on the border are not drawn ("none")."""
    t = cage.topology
    uses = np.bincount(t.edge, minlength=len(t.edges))
    edge = np.zeros(t.vertices, bool)
    edge[t.edges[uses == 1].ravel()] = True
    touched = np.bincount(t.face, edge[t.corners], len(t.counts)) > 0
    return np.where(touched, -1, cage.owner)


def packed(cage: Cage) -> bytes:
    """A cage as bytes; see `unpacked`."""
    arrays: dict[str, NDArray[Any]] = {name: getattr(cage, name) for name in ARRAYS}
    for name, spread in (("uvs", cage.uvs), ("colors", cage.colors)):
        if spread is not None:
            arrays[f"{name}_values"], arrays[f"{name}_at"] = spread.values, spread.at
            arrays[f"{name}_seams"] = np.array(SEAMS.index(spread.seams))
    arrays["scheme"] = np.array(SCHEMES.index(cage.scheme))
    small = {k: _narrow(v) for k, v in arrays.items()}
    out = io.BytesIO()
    np.savez_compressed(out, **small)  # type: ignore[arg-type]
    return out.getvalue()


def unpacked(data: bytes, name: str) -> Cage:
    """Read what `packed` wrote.

    Raises
    ------
    MillError
        Where it is damaged, or fits no surface.
    """
    try:
        with np.load(io.BytesIO(data), allow_pickle=False) as found:
            arrays = {k: found[k] for k in found.files}
        whole = {k: arrays[k].astype(np.int64) for k in ("counts", "corners", "pairs", "owner")}
        real = {k: arrays[k].astype(np.float64) for k in ("points", "sharp", "pinned")}
        cage = Cage(
            SCHEMES[int(arrays["scheme"])],
            cut=arrays["cut"].astype(np.int64),
            uvs=_spread(arrays, "uvs"),
            colors=_spread(arrays, "colors"),
            **whole,
            **real,
        )
        _check(cage)
    except (ValueError, KeyError, IndexError, OSError, EOFError, zipfile.BadZipFile) as e:
        raise MillError(
            f"The subdivision surface “{name}” cannot be read: {e}.",
            "The file is damaged: open the one that it came from again.",
        ) from e
    return cage


def _narrow(values: NDArray[Any]) -> NDArray[Any]:
    if values.dtype == np.int64 and values.size and values.max() < 2**31 > -values.min():
        return values.astype(np.int32)
    return values


def _spread(arrays: dict[str, NDArray[Any]], name: str) -> Spread | None:
    if f"{name}_at" not in arrays:
        return None
    return Spread(
        arrays[f"{name}_values"].astype(np.float64),
        arrays[f"{name}_at"].astype(np.int64),
        SEAMS[int(arrays[f"{name}_seams"])],
    )


def _check(cage: Cage) -> None:
    """Raise ValueError where numbers point beyond what is there."""
    vertices, corners = len(cage.points), len(cage.corners)
    right = (
        cage.points.shape == (vertices, 3)
        and cage.pinned.shape == (vertices,)
        and cage.pairs.shape == (len(cage.sharp), 2)
        and cage.owner.shape == cage.counts.shape
        and cage.cut.shape == (len(cage.cut), 3)
        and int(cage.counts.sum()) == corners
        and bool((cage.counts >= 3).all())
        and (cage.scheme != "loop" or bool((cage.counts == 3).all()))
        and bool(np.isfinite(cage.points).all())
        and _within(cage.corners, vertices)
        and _within(cage.pairs, vertices)
        and _within(cage.cut, corners)
    )
    for spread in (cage.uvs, cage.colors):
        if spread is not None:
            right = right and spread.at.shape == (corners,)
            right = right and _within(spread.at, len(spread.values))
    if not right:
        raise ValueError("its numbers do not fit each other")


def _within(numbers: Ints, count: int) -> bool:
    return not numbers.size or bool(numbers.min() >= 0 and numbers.max() < count)
