"""What many rays meet at once, with how the picture lies on it:

ray differentials after Igehy, "Tracing Ray Differentials" (SIGGRAPH 1999), for all rays together in
numpy.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.render import slots as s
from mill_lane.core.render.shooting import Shooter
from mill_lane.core.render.wide_nodes import LEAF
from mill_lane.core.render.world import World

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]
FAR = 1e29  # beyond this nothing was hit


@dataclass(frozen=True, eq=False)
class Rays:
    """R rays:

    where they start, where they go (unit length), and how both change from one pixel to the next.

    o, d : (R, 3).  do, dd : (R, 2, 3), per pixel to the right and down.
    """

    o: F64
    d: F64
    do: F64
    dd: F64

    def __getitem__(self, which: NDArray[np.bool_] | I64) -> Rays:
        return Rays(self.o[which], self.d[which], self.do[which], self.dd[which])


@dataclass(frozen=True, eq=False)
class Hits:
    """Where H rays hit:

    places and materials of the world, points, normals that face the ray, UV, and differentials.

    ray : which of the rays.  dp : (H, 2, 3) of the point; n, dn : the shading normal and its
    change; flat : the normal of the triangle.  uv : (H, 2, 2), of either UV set.  du, dv :
    (H, 2, 3), change of UV along the surface, 0 where it has none.  ray_epsilon : metres to start
    off it.
    """

    ray: I64
    instance: I64
    material: I64
    p: F64
    dp: F64
    n: F64
    dn: F64
    flat: F64
    front: NDArray[np.bool_]
    uv: F64
    du: F64
    dv: F64
    ray_epsilon: F64

    def texels(self, transform: F64, rows: I64) -> tuple[F64, F64]:
        """Pixels of the picture across one whole width and one whole height of a texture, at some
        of the hits.

        transform : (USE_COLUMNS,), of the texture's use.  Both (rows,), inf where it does not
        change along the surface.
        """
        which = int(transform[s.U_SET])
        du, dv, dp = self.du[rows, which], self.dv[rows, which], self.dp[rows]
        gu = transform[0] * du + transform[1] * dv
        gv = transform[3] * du + transform[4] * dv
        with np.errstate(divide="ignore"):
            across, down = (1.0 / np.hypot(_dot(g, dp[:, 0]), _dot(g, dp[:, 1])) for g in (gu, gv))
        return across, down


def _dot(a: F64, b: F64) -> F64:
    return np.asarray((a * b).sum(-1))


def unit(v: F64) -> F64:
    """Rows of length 1; a row of no length stays."""
    return np.asarray(v / np.maximum(np.linalg.norm(v, axis=-1, keepdims=True), 1e-300))


def camera_rays(track: F64, x: F64, y: F64, width: int, height: int, flat: bool = False) -> Rays:
    """Make rays through places of a picture.

    Parameters
    ----------
    track : array of float64, (12,)
        A row of `render.pose.camera_track`.
    x, y : array of float64, (N,)
        Pixels.
    width, height : int
        Of the picture, pixels.
    flat : bool
        Whether the camera is orthographic.
    """
    position, ahead, right, up = track[:3], track[3:6], track[6:9], track[9:12]
    aside = (2 * x / width - 1)[:, None] * right + (1 - 2 * y / height)[:, None] * up
    far = ahead + aside
    length = np.linalg.norm(far, axis=1, keepdims=True)
    d = far / length
    steps = np.stack(
        [
            np.broadcast_to(right * 2 / width, far.shape),
            np.broadcast_to(-up * 2 / height, far.shape),
        ],
        1,
    )
    if flat:
        d = np.broadcast_to(ahead / np.linalg.norm(ahead), far.shape).copy()
        return Rays(position + aside, d, steps, np.zeros_like(steps))
    dd = (steps - _dot(d[:, None], steps)[..., None] * d[:, None]) / length[:, None]
    return Rays(np.broadcast_to(position, far.shape).copy(), d, np.zeros_like(dd), dd)


def meet(world: World, rays: Rays, unseen: int | I64 = s.HIDDEN) -> Hits:
    """The nearest hits of rays; those that hit nothing are left out.

    `unseen` are flags of places that all rays, or each of them (R,), do not see.
    """
    shooter = Shooter(world, rays.o, rays.d, unseen=unseen)
    shooter.closest()
    hit = np.flatnonzero((shooter.instances >= 0) & (shooter.t < FAR))
    instance, slot = shooter.instances[hit], shooter.slots[hit]
    u, v = (
        shooter.uv[hit, 0].astype(np.float64)[:, None],
        shooter.uv[hit, 1].astype(np.float64)[:, None],
    )
    rows = world.instances[instance]
    # Corners stand in their block coordinate by coordinate, eight triangles side by side.
    base = (slot >> 3) * LEAF + (slot & 7)
    flat_blocks = world.leaves.reshape(-1)
    corners = np.stack(
        [np.stack([flat_blocks[base + 8 * (3 * c + k)] for k in range(3)], 1) for c in range(3)], 1
    ).astype(float)
    matrix, inverse = (
        world.to_world[instance].reshape(-1, 3, 4),
        world.to_object[instance].reshape(-1, 3, 4),
    )
    local = (
        corners[:, 0] + u * (corners[:, 1] - corners[:, 0]) + v * (corners[:, 2] - corners[:, 0])
    )
    p = np.einsum("nij,nj->ni", matrix[:, :, :3], local) + matrix[:, :, 3]
    a, b = (
        np.einsum("nij,nj->ni", matrix[:, :, :3], corners[:, k] - corners[:, 0]) for k in (1, 2)
    )
    cross = np.cross(a, b)
    area2 = np.maximum(_dot(cross, cross), 1e-300)[:, None]
    along_u, along_v = (
        np.cross(b, cross) / area2,
        np.cross(cross, a) / area2,
    )  # of the barycentric numbers
    flat = unit(cross)
    r = rays[hit]
    # A mirrored placement turns the order of corners, not which side is the front: the file's
    # normal side stays.
    turned = np.linalg.det(matrix[:, :, :3]) < 0
    front = (_dot(flat, r.d) < 0) != turned
    flat = np.where((_dot(flat, r.d) > 0)[:, None], -flat, flat)
    number = shooter.numbers[hit]
    vertices = world.triangles[rows[:, s.P_TRIANGLE] + number].astype(np.int64)
    n0, n1, n2 = (
        np.einsum(
            "nji,nj->ni",
            inverse[:, :, :3],
            world.normals[rows[:, s.P_VERTEX] + vertices[:, k]].astype(float),
        )
        for k in range(3)
    )
    n = n0 + u * (n1 - n0) + v * (n2 - n0)
    sign = np.where(_dot(n, flat) < 0, -1.0, 1.0)[:, None]
    n, n0, n1, n2 = n * sign, n0 * sign, n1 * sign, n2 * sign
    n = np.where(np.linalg.norm(n, axis=1, keepdims=True) < 1e-12, flat, n)
    # Transfer: the point slides along the triangle's plane as the ray swings.
    t = shooter.t[hit].astype(np.float64)[:, None, None]
    swung = r.do + t * r.dd
    facing = _dot(r.d, flat)
    facing = np.where(np.abs(facing) < 1e-6, -1e-6, facing)
    dp = swung - (_dot(swung, flat[:, None]) / facing[:, None])[..., None] * r.d[:, None]
    bu, bv = _dot(dp, along_u[:, None])[..., None], _dot(dp, along_v[:, None])[..., None]
    raw = bu * (n1 - n0)[:, None] + bv * (n2 - n0)[:, None]
    length = np.linalg.norm(n, axis=1)[:, None, None]
    unit_n = n / length[:, :, 0]
    dn = (raw - _dot(raw, unit_n[:, None])[..., None] * unit_n[:, None]) / length
    uv, du, dv = (np.zeros((len(hit), 2, n)) for n in (2, 3, 3))
    for which, column in enumerate((s.P_UV, s.P_UV_SECOND)):
        laid = np.flatnonzero(rows[:, column] >= 0)
        if len(laid):
            q = world.uvs[rows[laid, column][:, None] + vertices[laid]].astype(float)
            e1, e2 = q[:, 1] - q[:, 0], q[:, 2] - q[:, 0]
            uv[laid, which] = q[:, 0] + u[laid] * e1 + v[laid] * e2
            du[laid, which] = e1[:, :1] * along_u[laid] + e2[:, :1] * along_v[laid]
            dv[laid, which] = e1[:, 1:] * along_u[laid] + e2[:, 1:] * along_v[laid]
    own = np.abs(local).max(1) + np.abs(corners - corners[:, :1]).max((1, 2))
    ray_epsilon = own * world.sizes[instance] * 3e-6 + 1e-9
    return Hits(
        hit,
        instance,
        rows[:, s.P_MATERIAL],
        p,
        dp,
        unit_n,
        dn,
        flat,
        front,
        uv,
        du,
        dv,
        ray_epsilon,
    )


def straight_on(rays: Rays, hits: Hits, which: I64) -> Rays:
    """Rays that go on behind some of the hits as if nothing were there."""
    r = rays[hits.ray[which]]
    return Rays(hits.p[which] + hits.ray_epsilon[which, None] * r.d, r.d, hits.dp[which], r.dd)


def reflected(rays: Rays, hits: Hits, which: I64) -> Rays:
    """Mirror rays at some of the hits, with their differentials.

    Parameters
    ----------
    rays : Rays
    hits : Hits
    which : array of int64, (K,)
        Numbers of the rays that go on.

    References
    ----------
    Igehy, "Tracing Ray Differentials", 1999, equations 14 and 15.
    """
    r, n, dn = rays[hits.ray[which]], hits.n[which], hits.dn[which]
    cosine = _dot(r.d, n)
    d = r.d - 2 * cosine[:, None] * n
    change = _dot(r.dd, n[:, None]) + _dot(r.d[:, None], dn)
    dd = r.dd - 2 * (cosine[:, None, None] * dn + change[..., None] * n[:, None])
    # A bent normal may send the ray below the surface: then the triangle's own mirror direction is
    # taken.
    flat = hits.flat[which]
    below = _dot(d, flat) <= 0
    d = np.where(below[:, None], r.d - 2 * _dot(r.d, flat)[:, None] * flat, d)
    return Rays(hits.p[which] + hits.ray_epsilon[which, None] * flat, unit(d), hits.dp[which], dd)


def refracted(rays: Rays, hits: Hits, which: I64, eta: F64) -> Rays:
    """Follow rays through a surface, mirrored where nothing gets through.

    Parameters
    ----------
    rays : Rays
    hits : Hits
    which : array of int64, (K,)
        Numbers of the rays that go on.
    eta : array of float64, (K,)
        Relative index, before over behind.

    References
    ----------
    Igehy, "Tracing Ray Differentials", 1999, equations 16 and 17.
    """
    r, n, dn = rays[hits.ray[which]], hits.n[which], hits.dn[which]
    cosine = _dot(r.d, n)
    inside = 1.0 - eta * eta * (1.0 - cosine * cosine)
    through = inside > 1e-9
    behind = -np.sqrt(np.maximum(inside, 1e-9))
    mu = eta * cosine - behind
    d = eta[:, None] * r.d - mu[:, None] * n
    change = _dot(r.dd, n[:, None]) + _dot(r.d[:, None], dn)
    slope = eta - eta * eta * cosine / behind
    dd = eta[:, None, None] * r.dd - (
        mu[:, None, None] * dn + (slope[:, None] * change)[..., None] * n[:, None]
    )
    back = reflected(rays, hits, which)
    start = hits.p[which] - hits.ray_epsilon[which, None] * hits.flat[which]
    k, k3 = through[:, None], through[:, None, None]
    return Rays(
        np.where(k, start, back.o),
        unit(np.where(k, d, back.d)),
        hits.dp[which],
        np.where(k3, dd, back.dd),
    )
