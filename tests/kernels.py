"""Single kernels of the renderer, called from Python:

each gets a path of its own and fills in what it needs.
"""

from __future__ import annotations

from typing import Any

import numpy as np

from mill_lane.core.render import bsdf, lights, media
from mill_lane.core.render import microfacet as microfacet_
from mill_lane.core.render import sampler as sampler_
from mill_lane.core.render import slots as s
from mill_lane.core.render.jit import inner, kernel, lean
from mill_lane.core.render.lanes import alike, lane
from mill_lane.core.render.pointers import f64_at, i64_at
from mill_lane.core.render.side_by_side import mask_of, put, take
from mill_lane.core.render.texture import Textures
from mill_lane.core.render.texture import lookup as lookup_kernel
from mill_lane.core.render.traverse import ALL, closest
from mill_lane.core.render.vec import Vec3, put_vector
from mill_lane.core.render.world import World, new_paths


class Callable:
    """A module whose functions are only parts of kernels, as ones that Python can call."""

    def __init__(self, module: Any) -> None:
        self._module = module

    def __getattr__(self, name: str) -> Any:
        function = getattr(self._module, name)

        def called(*args: Any) -> Any:
            return function(*args)

        made = kernel(called, cache=False)
        setattr(self, name, made)
        return made


microfacet, phases, sampler = Callable(microfacet_), Callable(media), Callable(sampler_)


def material_path(
    base: tuple[float, float, float] = (1.0, 1.0, 1.0),
    metallic: float = 0.0,
    alpha: float = 0.5,
    eta: float = 1.5,
    clear: float = 0.0,
    clearcoat: float = 0.0,
    coat_alpha: float = 0.1,
    front: float = 1.0,
) -> np.ndarray:
    """A path that stands on a surface of this material."""
    q = new_paths()
    q[s.Q_BR], q[s.Q_BG], q[s.Q_BB] = base
    q[s.Q_METAL], q[s.Q_ROUGHNESS], q[s.Q_ETA], q[s.Q_CLEAR] = metallic, alpha, eta, clear
    q[s.Q_COAT], q[s.Q_COAT_ALPHA], q[s.Q_FRONT] = clearcoat, coat_alpha, front
    q[s.Q_SPECULAR] = -1.0
    return q


@inner
def _same(p: Any, x: float) -> Any:
    """A number in every lane."""
    return alike(take(p, s.Q_THIN), x)


@inner
def _vector(p: Any, x: float, y: float, z: float) -> Any:
    return Vec3(_same(p, x), _same(p, y), _same(p, z))


@lean
def _evaluate(q: int, vx: float, vy: float, vz: float, wx: float, wy: float, wz: float) -> None:
    p = f64_at(q)
    v, w = _vector(p, vx, vy, vz), _vector(p, wx, wy, wz)
    soft, gloss, coat, through = bsdf.evaluate(p, bsdf.material_at(p), v, w)
    mask = mask_of(np.int64(1))
    lobes = (soft, gloss, coat, through)
    for k in range(4):
        at = s.Q_LOBES + 4 * s.SIDE * k
        put_vector(p, at, lobes[k].colour, mask)
        put(p, at + 3 * s.SIDE, lobes[k].density, mask)


@lean
def _sample(q: int, lobe: int, vx: float, vy: float, vz: float, a: float, b: float) -> Any:
    p = f64_at(q)
    m, v = bsdf.material_at(p), _vector(p, vx, vy, vz)
    d = bsdf.sample(p, m, _same(p, lobe), v, _same(p, a), _same(p, b))
    return lane(d.x, 0), lane(d.y, 0), lane(d.z, 0)


@lean
def _smooth(q: int, lobe: int, vz: float) -> Any:
    p = f64_at(q)
    through = _same(p, lobe) > 2.5
    c = bsdf.smooth_weight(p, bsdf.material_at(p), through, _same(p, vz))
    return lane(c.x, 0), lane(c.y, 0), lane(c.z, 0)


@lean
def _chances(q: int, vz: float) -> Any:
    p = f64_at(q)
    kd, kg, kc, kt = bsdf.chances(p, bsdf.material_at(p), _same(p, vz))
    return lane(kd, 0), lane(kg, 0), lane(kc, 0), lane(kt, 0)


def evaluate(q: np.ndarray, v: Any, w: Any, thin: bool = False) -> np.ndarray:
    """(4, 4): of each lobe red, green, blue (times the cosine) and density."""
    q[s.Q_THIN] = thin
    _evaluate(q.ctypes.data, *(float(x) for x in v), *(float(x) for x in w))
    return q[s.Q_LOBES : s.Q_LOBES + 16 * s.SIDE : s.SIDE].reshape(4, 4).copy()


def sample(
    q: np.ndarray, lobe: int, v: Any, a: float, b: float, thin: bool = False
) -> tuple[float, float, float]:
    q[s.Q_THIN] = thin
    return _sample(q.ctypes.data, lobe, *(float(x) for x in v), float(a), float(b))


def smooth_weight(
    q: np.ndarray, lobe: int, vz: float, thin: bool = False
) -> tuple[float, float, float]:
    q[s.Q_THIN] = thin
    return _smooth(q.ctypes.data, lobe, vz)


def chances(q: np.ndarray, vz: float, thin: bool = False) -> tuple[float, float, float, float]:
    """Of thin walls what goes through without bending is no lobe."""
    q[s.Q_THIN] = thin
    return _chances(q.ctypes.data, vz)


@lean
def _lookup(w: int, q: int, index: int, u: float, v: float, level: float, srgb: bool) -> Any:
    return lookup_kernel(i64_at(w), f64_at(q), index, u, v, level, srgb)


def lookup(
    t: Textures, index: int, u: float, v: float, level: float, srgb: bool
) -> tuple[float, float, float, float]:
    table = np.zeros(s.WORLD_SLOTS, np.int64)
    for slot, array in (
        (s.W_TEXTURES, t.table),
        (s.W_LEVELS, t.levels),
        (s.W_NARROW, t.narrow),
        (s.W_WIDE, t.wide),
        (s.W_DECODE, t.decode),
    ):
        table[slot] = array.ctypes.data
    q = new_paths()
    return _lookup(table.ctypes.data, q.ctypes.data, index, float(u), float(v), float(level), srgb)


@lean
def _sky_density(w: int, x: float, y: float, z: float) -> float:
    return lights.sky_density(i64_at(w), x, y, z)


@lean
def _sky_radiance(w: int, x: float, y: float, z: float) -> Any:
    return lights.sky_radiance(i64_at(w), x, y, z)


@lean
def _sample_lamp(w: int, q: int, i: int, chance: float, pick: float, a: float, b: float) -> bool:
    return lights.sample_lamp(i64_at(w), f64_at(q), i, chance, pick, a, b)


@lean
def _aim(w: int, settings: int, q: int, x: float, y: float, z: float) -> None:
    lights.prepare_aim(i64_at(w), f64_at(settings), f64_at(q), x, y, z, 0.0, 1.0, 0.0, 0.0)


@lean
def _lamp_chance(w: int, settings: int, q: int, i: int) -> float:
    return lights.lamp_chance(i64_at(w), f64_at(settings), f64_at(q), i)


def sky_density(world: World, x: float, y: float, z: float) -> float:
    return _sky_density(world.address, x, y, z)


def sky_radiance(world: World, x: float, y: float, z: float) -> tuple[float, float, float]:
    return _sky_radiance(world.address, x, y, z)


def sample_lamp(
    world: World, i: int, at: Any, pick: float, a: float, b: float
) -> dict[str, Any] | None:
    """A point of lamp i seen from `at`, or None when nothing arrives."""
    q = new_paths(world.light_count)
    q[s.Q_AX : s.Q_AZ + 1 : s.SIDE] = at
    if not _sample_lamp(world.address, q.ctypes.data, i, 1.0, float(pick), float(a), float(b)):
        return None
    return {
        "direction": q[s.Q_LX : s.Q_LZ + 1 : s.SIDE].copy(),
        "distance": q[s.Q_LDIST],
        "light": q[s.Q_LR : s.Q_LB + 1 : s.SIDE].copy(),
        "density": q[s.Q_LCHANCE],
        "delta": bool(q[s.Q_LDELTA]),
    }


def lamp_chances(world: World, settings: np.ndarray, at: Any) -> list[float]:
    """How likely each lamp is aimed at from a point."""
    q = new_paths(world.light_count)
    q[s.Q_AIM_T] = 1.0
    _aim(world.address, settings.ctypes.data, q.ctypes.data, *(float(x) for x in at))
    return [
        _lamp_chance(world.address, settings.ctypes.data, q.ctypes.data, i)
        for i in range(world.light_count)
    ]


@lean
def _span(
    m: int, i: int, ox: float, oy: float, oz: float, dx: float, dy: float, dz: float, most: float
) -> Any:
    return media.span(f64_at(m), i, ((ox, oy, oz), (dx, dy, dz)), most)


@lean
def _transmittance(
    m: int, n: int, ox: float, oy: float, oz: float, dx: float, dy: float, dz: float, most: float
) -> float:
    return media.transmittance(f64_at(m), n, ((ox, oy, oz), (dx, dy, dz)), most)


@lean
def _collide(
    m: int,
    n: int,
    ox: float,
    oy: float,
    oz: float,
    dx: float,
    dy: float,
    dz: float,
    most: float,
    u: float,
) -> Any:
    return media.collide(f64_at(m), n, ((ox, oy, oz), (dx, dy, dz)), most, u)


def span(boxes: np.ndarray, i: int, o: Any, d: Any, most: float) -> tuple[float, float]:
    return _span(boxes.ctypes.data, i, *o, *d, most)


def transmittance(boxes: np.ndarray, o: Any, d: Any, most: float) -> float:
    return _transmittance(boxes.ctypes.data, len(boxes), *o, *d, most)


def collide(boxes: np.ndarray, o: Any, d: Any, most: float, u: float) -> tuple[float, int]:
    return _collide(boxes.ctypes.data, len(boxes), *o, *d, most, u)


@lean
def _closest_once(w: int, q: int) -> None:
    closest(i64_at(w), f64_at(q), i64_at(0), 0, ALL)


def closest_once(world: World, o: Any, d: Any) -> tuple[float, int]:
    """(t, place) of one ray given in float64, as a path has it."""
    q = new_paths(world.light_count)
    q[s.Q_OX : s.Q_OZ + 1 : s.SIDE], q[s.Q_DX : s.Q_DZ + 1 : s.SIDE], q[s.Q_FAR] = o, d, 1e30
    _closest_once(world.address, q.ctypes.data)
    return float(q[s.Q_T]), int(q[s.Q_INSTANCE])
