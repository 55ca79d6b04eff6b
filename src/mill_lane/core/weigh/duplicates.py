"""Meshes that are copies of others, also where a rotation, a mirroring or a scale was baked into
the vertices, or the vertices stand in another order.

A signature that does not move with the mesh (how far its corners lie from their middle once its
spread is the same in all directions) finds what may be alike; `congruence` then looks for the map
that carries one onto the other, and at how many vertices it fails.
"""

from __future__ import annotations

import hashlib
from collections import defaultdict
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.formats.meshes.soup import whole
from mill_lane.core.progress import Progress, silent
from mill_lane.core.scene.alike import first_alike
from mill_lane.core.scene.model import Geometry, Scene
from mill_lane.core.weigh.congruence import Shape, fitted, shape_of

F64 = NDArray[np.float64]
QUANTILES = np.linspace(0.02, 0.98, 13)  # of the corners' distances, which make the signature
ALIKE = 4e-3  # by which signatures of copies may differ: some vertices may lie elsewhere
KEPT = 2_000_000  # triangles of meshes that are held for being compared with
MOST_TRIED = 6  # meshes of the nearest signatures that one is compared with


@dataclass(frozen=True)
class Duplicate:
    """That a mesh could be drawn as another one.

    `baked` when that takes a transform of its own, which then enlarges by at most `scale`.
    """

    of: int
    baked: bool
    scale: float = 1.0


@dataclass
class _Group:
    """Meshes of the same counts and materials: those that are no copies, and what was found."""

    exact: dict[bytes, Duplicate] = field(default_factory=dict)
    numbers: list[int] = field(default_factory=list)
    signatures: list[F64] = field(default_factory=list)


def find_duplicates(
    scene: Scene, meshes: list[int], progress: Progress = silent
) -> dict[int, Duplicate]:
    """Find meshes that are copies of an earlier one.

    Parameters
    ----------
    scene : Scene
    meshes : list of int
        That are looked at.  Only those of equal counts are read; materials must look the same.
    progress : callable
        Told how far it is, from 0 to 1.

    Returns
    -------
    dict
        The copies, by the number of their mesh.
    """
    alike: dict[Any, list[int]] = defaultdict(list)
    look = first_alike(scene)
    for m in meshes:
        parts = scene.meshes[m].parts
        if any(p.load_at is not None for p in parts):
            continue  # copies whose vertices move may move otherwise
        key = tuple(
            (p.triangles, look[p.material] if p.material >= 0 else -1, p.has_uvs, p.has_colors)
            for p in parts
        )
        alike[key].append(m)
    groups = [g for g in alike.values() if len(g) > 1]
    total, done = sum(len(g) for g in groups), 0
    out: dict[int, Duplicate] = {}
    # Meshes are compared with few others at a time: these few are kept read.
    kept: dict[int, Shape] = {}
    for members in groups:
        group = _Group()
        kept.clear()
        for m in members:
            g = whole(scene.meshes[m].parts)
            found = _look_up(scene, group, kept, m, g)
            if found is not None:
                out[m] = found
            done += 1
            progress(done / total, f"looking for copies: {done} of {total} meshes")
    return out


def _look_up(
    scene: Scene, group: _Group, kept: dict[int, Shape], m: int, g: Geometry
) -> Duplicate | None:
    same = _digest(g.positions, g.triangles, g.uvs, g.second_uvs, g.colors)
    if same in group.exact:
        return group.exact[same]
    shape = shape_of(g)
    signature = signature_of(shape)
    if group.numbers:
        apart = np.abs(np.array(group.signatures) - signature).max(1)
        for k in np.argsort(apart, kind="stable")[:MOST_TRIED]:
            if apart[k] > ALIKE:
                break
            number = group.numbers[k]
            if number not in kept:
                _hold(kept, number, shape_of(whole(scene.meshes[number].parts)))
            carried = fitted(kept[number], shape)
            if carried is not None:
                scale = float(np.linalg.svd(carried[:, :3], compute_uv=False)[0])
                group.exact[same] = Duplicate(number, True, scale)
                return group.exact[same]
    group.exact[same] = Duplicate(m, False)
    group.numbers.append(m)
    _hold(kept, m, shape)
    group.signatures.append(signature)
    return None


def _hold(kept: dict[int, Shape], number: int, shape: Shape) -> None:
    """Keep a mesh read for the next comparisons; those that were kept first make room."""
    kept[number] = shape
    while len(kept) > 1 and sum(len(x.mesh.triangles) for x in kept.values()) > KEPT:
        kept.pop(next(iter(kept)))


def signature_of(shape: Shape) -> F64:
    """Numbers that no affine map changes, nor the order of vertices or triangles.

    Quantiles of the distances of all corners from their middle, after the map that makes their
    spread the same in all directions; 0 where there is no extent.

    Parameters
    ----------
    shape : Shape

    Returns
    -------
    array of float64, (13,)
    """
    if shape.spread_alike is None:
        return np.zeros(len(QUANTILES))
    radii = shape.spread_alike.radii
    at = np.round(QUANTILES * (len(radii) - 1)).astype(int)
    return np.asarray(np.partition(radii, at)[at])


def _digest(*arrays: NDArray[Any] | None) -> bytes:
    digest = hashlib.blake2b(digest_size=16)
    for array in arrays:
        if array is not None:
            digest.update(np.ascontiguousarray(array).data)
    return digest.digest()
