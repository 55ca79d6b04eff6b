"""What the shot sees:

camera rays over a spread of frames, through panes, holes, mirrors and glass, to what they meet.

From every place where a ray ends, light is looked for as the renderer would: two bounces spread by
the cosine, and one ray towards a light.  What those meet lights or shades what is seen.
"""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from mill_lane.core.render import slots as s
from mill_lane.core.render.load import Loaded
from mill_lane.core.render.pose import camera_track, pose
from mill_lane.core.render.shooting import Shooter
from mill_lane.core.render.wide_nodes import LEAF
from mill_lane.core.render.world import World
from mill_lane.core.weigh.hits import (
    F64,
    FAR,
    I64,
    Hits,
    Rays,
    camera_rays,
    meet,
    reflected,
    refracted,
    straight_on,
    unit,
)
from mill_lane.core.weigh.opacity import alphas, means

NEVER, LIGHTS, REFLECTED, SEEN = range(4)  # how an object matters, the least first
CLASSES = ("never", "light_only", "reflection", "camera")
WIDE = 192  # rays across a frame
MOST_FRAMES = 33
PASSES = 4  # over a single frame, each with rays between those of the others
DEEPEST = 24  # surfaces that a ray is followed through, panes and mirrors together
PANES = 64
SMOOTH = 0.3  # roughness under which a surface shows objects
STEADY = 0.05  # by which a texel need may still move when more frames are looked at
RARE = (
    0.001  # of the picture: what all objects that came into a higher class may have of it together
)
INSIDE = 0.5  # of the picture: an object whose back fills so much of it has the camera inside
OFTEN = 1000  # places at which a texture was met, from which on its need is held to STEADY


@dataclass
class Seen:
    """What rays of one frame met, or of several together.

    best : int64 (objects,), the class of each.  pixels : (objects,), share of the camera's rays
    that met it. needs : by image, arrays (n, 2) of pixels across one width and one height of the
    texture where it was met. layers : int64 (rays,), panes and holes that each camera ray went
    through. stacked : (objects, 2), camera rays through a hole of each, and the panes and holes
    along them. fog : rays that went through fog; fogs : through each medium.  backs : (objects,),
    share of the camera's rays that met the back of its surface before anything else.
    """

    best: I64
    pixels: F64
    rays: int = 0
    needs: dict[int, list[F64]] = field(default_factory=dict)
    layers: list[I64] = field(default_factory=list)
    fog: int = 0
    fogs: list[int] = field(default_factory=list)
    stacked: F64 = field(default_factory=lambda: np.zeros((0, 2)))
    backs: F64 = field(default_factory=lambda: np.zeros(0))


@dataclass(frozen=True, eq=False)
class View:
    """All frames together.

    most, where : (objects,), the largest share of a picture and the frame of it.  mean :
    (objects,). needs : by image, (width, height) in texels of the whole texture that the picture
    can show at the given height: the 98th percentile. overlap : int64 (rows, columns), panes along
    the rays of the frame that has the most.  fog, fogs : shares of the rays
    that go through any, through each.  inside : frames and objects that the camera sees from
    inside, with the share of the picture that is their back.
    """

    frames: list[int]
    rays: int
    steady: bool
    best: I64
    most: F64
    where: I64
    mean: F64
    needs: dict[int, tuple[float, float]]
    transparency_depth: int
    transparency_depth_p99: int
    overlap: I64
    overlap_frame: int
    fog: float
    fogs: list[float]
    stacked: dict[int, float]  # objects with holes: the panes and holes along rays through them
    inside: list[tuple[int, int, float]]


@dataclass(frozen=True, eq=False)
class Observer:
    """A loaded scene and how it is looked at; `height` is that of the picture whose pixels count,
    in the same aspect.
    """

    loaded: Loaded
    aspect: float
    height: int
    camera: str | None = None
    wide: int = WIDE
    world: World | None = None  # where nothing but the camera moves, all frames have the same

    @property
    def rows(self) -> int:
        """Rays down a frame."""
        return max(1, round(self.wide / self.aspect))

    def frame(self, frame: int, turn: int) -> Seen:
        """Visibility at one frame; `turn` moves the rays within their pixels."""
        scene = self.loaded.scene
        world = self.world or pose(self.loaded, scene.seconds(frame))
        rng = np.random.default_rng([turn, frame & 0x7FFFFFFF])
        n = self.wide * self.rows
        x = np.tile(np.arange(self.wide), self.rows) + rng.random(n)
        y = np.repeat(np.arange(self.rows), self.wide) + rng.random(n)
        # Differentials per pixel of the picture that counts, not of this coarse one.
        scale = self.height / self.rows
        width = self.aspect * self.height
        track, _, flat = camera_track(
            scene, scene.seconds(frame), 0.0, round(width), self.height, self.camera
        )
        # Square pixels: across as well as down, one is 1 / height of the picture.
        x = x * width / self.wide
        rays = camera_rays(track[:12], x, y * scale, round(width), self.height, flat > 0)
        return _Frame(self.loaded, world, rng, len(scene.instances)).look(rays)


class _Frame:
    def __init__(
        self, loaded: Loaded, world: World, rng: np.random.Generator, objects: int
    ) -> None:
        self.loaded, self.world, self.rng = loaded, world, rng
        self.objects = world.instances[:, s.P_OBJECT]
        self.seen = Seen(np.zeros(objects, np.int64), np.zeros(objects))
        f = world.factors
        self.mode, self.cutoff, self.alpha = (
            f[:, s.M_MODE].astype(int),
            f[:, s.M_CUTOFF],
            f[:, s.M_ALPHA],
        )
        rough = f[:, s.M_ROUGH] * means(world, s.ROUGH, 1)
        metal = f[:, s.M_METALLIC] * means(world, s.ROUGH, 2)
        clear = f[:, s.M_TRANSMIT] * means(world, s.TRANSMISSION, 0) * (1 - metal)
        self.shows = ((rough < SMOOTH) | (f[:, s.M_COAT] > 0.1)) & (f[:, s.M_UNLIT] == 0)
        self.through, self.thin = (clear > 0.1) & (rough < SMOOTH), f[:, s.M_THICK] <= 0
        self.mirror_only = (metal > 0.9) & self.shows
        self.clear, self.ior = clear, f[:, s.M_IOR]

    def look(self, rays: Rays) -> Seen:
        n = len(rays.o)
        out = self.seen
        out.rays = n
        layers, which = np.zeros(n, np.int64), np.arange(n)
        unseen = np.full(n, s.HIDDEN | s.NO_CAMERA)  # changes where a ray is thrown back or bent
        ends: list[tuple[F64, F64, F64]] = []
        holes: list[tuple[I64, I64]] = []  # rays and objects
        if len(self.world.instances) == 0:
            out.layers = [layers]
            return out
        if len(self.world.media):
            through = [_through_boxes(row[None], rays) for row in self.world.media]
            out.fog = int(np.any(through, axis=0).sum())
            out.fogs = [int(x.sum()) for x in through]
        for event in range(DEEPEST):
            if not len(which):
                break
            hits = meet(self.world, rays, unseen)
            if event == 0:
                backs = self.objects[hits.instance[~hits.front]]
                out.backs = np.bincount(backs, minlength=len(out.pixels)) / n
            which, unseen = which[hits.ray], unseen[hits.ray]
            behind = (unseen & s.NO_CAMERA) == 0
            m = hits.material
            cover = self._cover(hits)
            pane = self.through[m] & self.thin[m] & (self.rng.random(len(m)) < self.clear[m])
            passes = (cover < 0.999) | pane
            layers[which[passes]] += 1
            hole = (cover < 0.999) & ~behind
            holes.append((which[hole], self.objects[hits.instance[hole]]))
            met = (cover > 0.02) | pane
            self._note(hits, met, behind)
            out.pixels += np.bincount(
                self.objects[hits.instance[met & ~behind]], minlength=len(out.pixels)
            )
            goes_on = passes & (layers[which] < PANES)
            bends = (
                ~passes & self.through[m] & (self.mirror_only[m] | (self.rng.random(len(m)) < 0.75))
            )
            mirrors = (
                ~passes
                & ~bends
                & self.shows[m]
                & (self.mirror_only[m] | (self.rng.random(len(m)) < 0.5))
            )
            stops = ~passes & ~bends & ~mirrors
            ends.append((hits.p[stops], hits.flat[stops], hits.ray_epsilon[stops]))
            a, b, c = np.flatnonzero(goes_on), np.flatnonzero(bends), np.flatnonzero(mirrors)
            eta = np.where(hits.front[b], 1 / self.ior[m[b]], self.ior[m[b]])
            parts = (
                straight_on(rays, hits, a),
                refracted(rays, hits, b, eta),
                reflected(rays, hits, c),
            )
            which = np.concatenate([which[a], which[b], which[c]])
            thrown = [np.full(len(b), s.NO_TRANSMISSION), np.full(len(c), s.NO_REFLECTION)]
            unseen = np.concatenate([unseen[a], s.HIDDEN | np.concatenate(thrown)])
            rays = Rays(
                *(np.concatenate([getattr(q, k) for q in parts]) for k in ("o", "d", "do", "dd"))
            )
        out.layers = [layers]
        seen, what = (np.concatenate([h[k] for h in holes]) for k in range(2))
        count = len(out.pixels)
        out.stacked = np.stack(
            [np.bincount(what, minlength=count), np.bincount(what, layers[seen], count)], 1
        )
        p, normal, ray_epsilon = (np.concatenate([e[k] for e in ends]) for k in range(3))
        self._light_up(p, normal, ray_epsilon)
        out.pixels /= n
        return out

    def _mark(self, instances: I64, how: int) -> None:
        np.maximum.at(self.seen.best, self.objects[instances], how)

    def _note(self, hits: Hits, met: NDArray[np.bool_], behind: NDArray[np.bool_]) -> None:
        self._mark(hits.instance[met & ~behind], SEEN)
        self._mark(hits.instance[met & behind], REFLECTED)
        textures, world = self.loaded.scene.textures, self.world
        for material in np.unique(hits.material[met]):
            if material >= len(self.loaded.scene.materials):
                continue
            rows = np.flatnonzero(met & (hits.material == material))
            for k, use in enumerate(_slots(self.loaded, int(material))):
                if use >= 0:
                    across = hits.texels(world.transforms[material, k], rows)
                    need = np.stack(across, 1)
                    need = need[np.isfinite(need).all(1)]
                    self.seen.needs.setdefault(textures[use].image, []).append(need)

    def _cover(self, hits: Hits) -> F64:
        """How much of the ray each surface holds back: 0 in a hole, 1 where it is solid."""
        out = np.ones(len(hits.material))
        rows = np.flatnonzero(self.mode[hits.material] != s.OPAQUE)
        if len(rows):
            m = hits.material[rows]
            alpha = self.alpha[m] * alphas(self.world, m, hits.uv[rows])
            out[rows] = np.where(
                self.mode[m] == s.MASK,
                (alpha >= self.cutoff[m]).astype(float),
                np.clip(alpha, 0, 1),
            )
        return out

    def _light_up(self, p: F64, normal: F64, ray_epsilon: F64) -> None:
        """Mark what lies towards a light, and what bounced light comes from."""
        lights = self.world.lights.rows
        if len(p) and len(lights):
            chances = np.concatenate([[0.0], lights[:, s.L_CHANCE]]).cumsum()
            u = self.rng.random(len(p))
            by_power = np.searchsorted(chances[1:] / max(chances[-1], 1e-300), u)
            by_number = self.rng.integers(0, len(lights), len(p))
            pick = np.minimum(
                np.where(self.rng.random(len(p)) < 0.5, by_power, by_number), len(lights) - 1
            )
            self._shadows(p, normal, ray_epsilon, pick)
        for _ in range(2):
            if not len(p):
                return
            d = _cosine(normal, self.rng)
            zero = np.zeros((len(p), 2, 3))
            away = Rays(p + ray_epsilon[:, None] * normal, d, zero, zero)
            hits = meet(self.world, away, s.HIDDEN | s.NO_INDIRECT)
            self._mark(hits.instance, LIGHTS)
            p, normal, ray_epsilon = hits.p, hits.flat, hits.ray_epsilon

    def _shadows(self, p: F64, normal: F64, ray_epsilon: F64, pick: I64) -> None:
        row = self.world.lights.rows[pick]
        kind = row[:, s.L_KIND]
        goal = row[:, s.L_X : s.L_X + 3].copy()
        for k in np.flatnonzero(kind == s.MESH):
            goal[k] = self._place_on(row[k])
        towards = goal - p
        away = np.where(kind == s.SUN, FAR, np.linalg.norm(towards, axis=1) * 0.999)
        sun = kind == s.SUN
        towards[sun] = -row[sun, s.L_DX : s.L_DX + 3]
        d = unit(towards)
        use = np.flatnonzero(((d * normal).sum(1) > 0) & (kind != s.SKY))
        if len(use):
            shooter = Shooter(
                self.world,
                p[use] + ray_epsilon[use, None] * normal[use],
                d[use],
                away[use],
                s.HIDDEN | s.NO_SHADOW,
            )
            shooter.closest()
            self._mark(shooter.instances[shooter.instances >= 0], LIGHTS)

    def _place_on(self, light: F64) -> F64:
        """A point on an emissive mesh, evenly over its area."""
        first, count = int(light[s.L_FIRST]), int(light[s.L_COUNT])
        instance = int(light[s.L_INSTANCE])
        running = self.world.lights.areas[first : first + count]
        at = first + min(int(np.searchsorted(running, self.rng.random() * running[-1])), count - 1)
        slot = int(self.world.lights.slots[at])
        base, flat = (slot >> 3) * LEAF + (slot & 7), self.world.leaves.reshape(-1)
        c = np.array([[flat[base + 8 * (3 * i + k)] for k in range(3)] for i in range(3)], float)
        a, b = np.sqrt(self.rng.random()), self.rng.random()
        local = c[0] * (1 - a) + c[1] * (a * (1 - b)) + c[2] * (a * b)
        m = self.world.to_world[instance].reshape(3, 4)
        return np.asarray(m[:, :3] @ local + m[:, 3])


def _slots(loaded: Loaded, material: int) -> list[int]:
    """Textures of the scene in the slots of a material, -1 for none, in the order of `slots.BASE`
    and on.
    """
    m = loaded.scene.materials[material]
    uses = (
        m.base_texture,
        m.roughness_texture,
        m.normal_texture,
        m.emissive_texture,
        m.transmission_texture,
        m.clearcoat_texture,
        m.clearcoat_roughness_texture,
    )
    return [use.texture if use is not None else -1 for use in uses]


def _cosine(normal: F64, rng: np.random.Generator) -> F64:
    """Directions about normals, as likely as the cosine:

    a point on the unit sphere round the normal's tip.
    """
    z = rng.random(len(normal)) * 2 - 1
    phi = rng.random(len(normal)) * 2 * np.pi
    r = np.sqrt(np.maximum(0, 1 - z * z))
    ball = np.stack([r * np.cos(phi), r * np.sin(phi), z], 1) * 0.999
    return unit(normal + ball)


def _through_boxes(media: F64, rays: Rays) -> NDArray[np.bool_]:
    """Whether rays cross a box of fog at all, whatever stands before it."""
    out = np.zeros(len(rays.o), bool)
    d = np.where(np.abs(rays.d) < 1e-12, 1e-12, rays.d)
    for row in media:
        a, b = (row[:3] - rays.o) / d, (row[3:6] - rays.o) / d
        near, far = np.minimum(a, b).max(1), np.maximum(a, b).min(1)
        out |= far > np.maximum(near, 0)
    return out
