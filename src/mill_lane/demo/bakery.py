"""The village bakery before opening: what stands where.

Heavy for honest reasons, each of which a tool can find: loaves and rolls as full copies, 4096-pixel
textures on small and far things, a street with trees behind the window, stacked glass, many lamps
and one tiny strong bulb, flour dust as fog, a moulding far finer than a pixel, shelving behind the
camera that is never seen, small lettering.
"""

from __future__ import annotations

import math
from functools import partial

import numpy as np

from mill_lane.core.scene.model import Camera, Channel, Geometry, Image, Light, Node, Scene, Texture
from mill_lane.core.scene.surroundings import Environment, Medium
from mill_lane.demo import shapes as s
from mill_lane.demo.builder import Bakery, Size, Vec3
from mill_lane.demo.textures import LABELS, LOAVES

FULL = Size(4096, 1.0)
MEDIUM = Size(2048, 0.2)
SMALL = Size(64, 0.06)


def bakery(images: list[Image], size: Size) -> Scene:
    """The whole scene around the given pictures (see `demo.textures`)."""
    b = Bakery(images)
    _room(b, size)
    _street(b, size)
    _bread(b, size)
    _glass(b, size)
    _oven_and_sacks(b, size)
    _lamps(b, size)
    _behind(b, size)
    camera = _camera(b)
    return Scene(
        name="Village bakery before opening",
        nodes=tuple(b.nodes),
        meshes=tuple(b.meshes),
        materials=tuple(b.materials),
        textures=tuple(Texture(image.name, i) for i, image in enumerate(images)),
        images=tuple(images),
        lights=tuple(b.lights),
        cameras=(camera,),
        media=(
            Medium(
                "flour dust", (1.2, 0.0, -6.8), (3.95, 2.6, -3.2), scatter=0.22, absorb=0.01, g=0.5
            ),
        ),
        environment=Environment((0.12, 0.2, 0.42), (1.2, 0.66, 0.36), (0.06, 0.05, 0.05)),
        frame_rate=24.0,
        frames=(1, 96),
    )


def _camera(b: Bakery) -> Camera:
    """A slow move forward and to the right over 96 frames."""
    times = np.linspace(0, 95 / 24, 5)
    t = np.linspace(0, 1, 5)
    eased = t * t * (3 - 2 * t)
    places = np.stack([-0.75 + 0.7 * eased, 1.56 + 0.06 * eased, 1.15 - 0.5 * eased], 1)
    turns = []
    for p in places:
        aim = np.array([-0.05, 1.16, -3.2]) - p
        yaw, pitch = math.atan2(-aim[0], -aim[2]), math.atan2(aim[1], math.hypot(aim[0], aim[2]))
        cy, sy, cp, sp = (
            math.cos(yaw / 2),
            math.sin(yaw / 2),
            math.cos(pitch / 2),
            math.sin(pitch / 2),
        )
        turns.append([cy * sp, sy * cp, -sy * sp, cy * cp])
    channels = (
        Channel("translation", "LINEAR", times, places),
        Channel("rotation", "LINEAR", times, np.array(turns)),
    )
    p, q = places[0], turns[0]
    b.nodes.append(
        Node(
            "camera",
            translation=(p[0], p[1], p[2]),
            rotation=(q[0], q[1], q[2], q[3]),
            camera=0,
            channels=channels,
        )
    )
    return Camera("shop", math.radians(42.0), 16 / 9)


def _room(b: Bakery, size: Size) -> None:
    plaster = b.material("plaster", 2.0)
    floor = b.material("floor", 3.0)
    ceiling = b.material("ceiling", base_color=(0.78, 0.76, 0.7, 1.0))
    wood = b.material("counter")
    cells = size.n(40)
    a = np.array
    left = s.sheet(a([-4.0, 0, 3.0]), a([0, 0, -10.0]), a([0, 3.2, 0]), (cells, cells))
    right = s.sheet(a([4.0, 0, -7.0]), a([0, 0, 10.0]), a([0, 3.2, 0]), (cells, cells))
    behind = s.sheet(a([4.0, 0, 3.0]), a([-8.0, 0, 0]), a([0, 3.2, 0]), (cells, cells))
    # The back wall round the window: left, right, below, above.
    back = s.join(
        s.sheet(a([-4.0, 0, -7.0]), a([2.2, 0, 0]), a([0, 3.2, 0])),
        s.sheet(a([2.0, 0, -7.0]), a([2.0, 0, 0]), a([0, 3.2, 0])),
        s.sheet(a([-1.8, 0, -7.0]), a([3.8, 0, 0]), a([0, 0.9, 0])),
        s.sheet(a([-1.8, 2.5, -7.0]), a([3.8, 0, 0]), a([0, 0.7, 0])),
    )
    for name, wall in (("left", left), ("right", right), ("behind", behind), ("back", back)):
        b.put(f"wall_{name}", b.mesh(f"wall_{name}", (wall, plaster)), (0, 0, 0))
    ground = s.sheet(a([-4.0, 0, 3.0]), a([8.0, 0, 0]), a([0, 0, -10.0]), (cells, cells))
    b.put("floor", b.mesh("floor", (ground, floor)), (0, 0, 0))
    top = s.sheet(a([-4.0, 3.2, -7.0]), a([8.0, 0, 0]), a([0, 0, 10.0]), (cells, cells))
    b.put("ceiling", b.mesh("ceiling", (top, ceiling)), (0, 0, 0))
    frame = s.join(
        s.moved(s.box((3.9, 0.08, 0.14)), (0.1, 0.84, 0)),
        s.moved(s.box((3.9, 0.08, 0.1)), (0.1, 2.48, 0)),
        *(s.moved(s.box((0.07, 1.6, 0.1)), (x, 0.9, 0)) for x in (-1.78, -0.5, 0.75, 1.98)),
    )
    b.put("window_frame", b.mesh("window_frame", (frame, wood)), (0, 0, -7.0))
    pane = s.sheet(a([-1.8, 0.9, 0.0]), a([3.8, 0, 0]), a([0, 1.6, 0]))
    clear = b.material(
        "pane",
        roughness=0.0,
        transmission=1.0,
        base_color=(0.96, 0.98, 0.97, 1.0),
        double_sided=True,
    )
    b.put("window_pane", b.mesh("window_pane", (pane, clear)), (0, 0, -7.02))
    stucco = b.material("moulding", base_color=(0.82, 0.79, 0.72, 1.0))
    b.put(
        "moulding",
        b.mesh("moulding", (s.moulding(8.0, (size.n(2000), size.n(150, 8))), stucco)),
        (0, 3.2, -7.0),
    )
    counter = s.join(
        s.box((3.4, 0.9, 0.66), size.n(20)),
        s.moved(s.box((3.56, 0.05, 0.78), size.n(20)), (0, 0.9, 0)),
    )
    b.put("counter", b.mesh("counter", (counter, wood)), (-0.2, 0, -1.5))
    sign = b.material("sign", roughness=0.5)
    b.put("sign", b.mesh("sign", (s.box((0.9, 0.9, 0.03)), sign)), (-2.9, 1.85, -6.93))


GABLES = ((-16, 7, 2.0), (-9.4, 6, 1.3), (-3.6, 5, 2.2), (2.4, 6.4, 1.0), (8.6, 5.4, 1.9))


def _gable(middle: float, wide: float, high: float) -> Geometry:
    """A triangle of wall above the eaves of the houses across the street."""
    x, y, z = middle, 2.9, -42.0
    corners = np.array(
        [[x - wide / 2, y, z], [x + wide / 2, y, z], [x, y + high, z]], dtype=np.float32
    )
    uvs = np.array([[0, 0], [0.4, 0], [0.2, 0.2]], dtype=np.float32)
    normals = np.tile(np.array([0, 0, 1], dtype=np.float32), (3, 1))
    return Geometry(corners, normals, uvs, np.array([[0, 1, 2]], dtype=np.uint32))


def _street(b: Bakery, size: Size) -> None:
    facade, cobbles = b.material("facade", 5.0), b.material("cobbles", 12.0)
    bark, leaf = b.material("bark", 3.0), b.material("leaf", alpha_mode="MASK", double_sided=True)
    a = np.array
    road = s.sheet(
        a([-22.0, 0, -7.2]), a([44.0, 0, 0]), a([0, 0, -36.0]), (size.n(200), size.n(200))
    )
    b.put("street", b.mesh("street", (road, cobbles)), (0, -0.05, 0))
    wall = s.sheet(a([-22.0, 0, -42.0]), a([44.0, 0, 0]), a([0, 2.9, 0]), (size.n(200), size.n(60)))
    # Gables of unlike height, low enough that dawn stands above the roofs in the window.
    gables = [_gable(x, w, h) for x, w, h in GABLES]
    b.put("houses", b.mesh("houses", (s.join(wall, *gables), facade)), (0, 0, 0))
    trunk, crown = s.tree(size.n(150_000, 300), 7)
    tree = b.mesh("street_tree", (trunk, bark), (crown, leaf))
    for i, (x, z, turn, scale) in enumerate(
        (
            (-6.5, -31.6, 0, 1.0),
            (-2.0, -34, 70, 1.15),
            (2.2, -31.1, 140, 0.95),
            (5.6, -34.6, 210, 1.1),
            (9.5, -32.6, 300, 1.0),
        )
    ):
        b.put(f"tree_{i + 1}", tree, (x, 0, z), turn, scale)


def _bread(b: Bakery, size: Size) -> None:
    """48 loaves and rolls: full copies of six originals, as a careless export leaves them."""
    crusts = [b.material(name) for name in LOAVES]
    cells = size.n(122, 8)
    shapes = [
        s.loaf(0.30, 0.16, 0.13, cells, 4, 1),
        s.loaf(0.28, 0.15, 0.14, cells, 3, 2),
        s.loaf(0.24, 0.18, 0.12, cells, 2, 3),
        s.loaf(0.13, 0.10, 0.08, cells, 1, 4),
        s.loaf(0.11, 0.11, 0.08, cells, 0, 5),
        s.loaf(0.12, 0.09, 0.07, cells, 1, 6),
    ]
    steel = b.material("rack")
    rack = s.join(
        *(
            s.moved(s.box((0.6, 0.03, 2.3), size.n(10)), (0, y, 0))
            for y in (0.3, 0.75, 1.2, 1.65, 2.1)
        ),
        *(
            s.moved(s.box((0.04, 2.3, 0.04)), (x, 0, z))
            for x in (-0.28, 0.28)
            for z in (-1.12, 1.12)
        ),
    )
    b.put("rack", b.mesh("rack", (rack, steel)), (-2.9, 0, -3.7))
    rng = np.random.default_rng(11)
    count = [0] * 6

    def bake(kind: int, at: Vec3, turn: float) -> None:
        count[kind] += 1
        name = f"{LOAVES[kind]}_{count[kind]:02d}"
        b.put(name, b.mesh(name, (shapes[kind], crusts[kind])), at, turn)

    for shelf, y in enumerate((0.33, 0.78, 1.23, 1.68, 2.13)):
        for place in range(6):
            z = -4.65 + 0.38 * place
            bake((shelf + place) % 3, (-2.9, y, z), float(rng.uniform(-12, 12)))
    wicker = b.material("basket", 2.0)
    basket = s.turned(
        [(0.0, 0.01), (0.2, 0.01), (0.24, 0.1), (0.23, 0.1), (0.19, 0.025), (0.0, 0.025)],
        size.n(96, 12),
        size.n(48, 10),
    )
    mesh = b.mesh("basket", (basket, wicker))
    for i, x in enumerate((-1.45, -0.75, -0.05)):
        b.put(f"basket_{i + 1}", mesh, (x, 0.95, -1.5))
        for k in range(6):
            angle = 2 * math.pi * k / 6
            r, high = (0.12, 1.0) if k < 5 else (0.0, 1.06)
            at = (x + r * math.cos(angle), high, -1.5 + r * math.sin(angle))
            bake(3 + i, at, float(rng.uniform(0, 360)))
    peel = s.join(
        s.box((0.3, 0.015, 0.36), size.n(10)), s.moved(s.box((0.04, 0.02, 0.9)), (0, 0, 0.6))
    )
    b.put(
        "peel",
        b.mesh("peel", (peel, b.material("peel", base_color=(0.55, 0.4, 0.25, 1.0)))),
        (0.75, 0.952, -1.5),
        80,
    )
    card = s.box((0.06, 0.06, 0.003))
    places = [(-3.0 + 0.33, 0.62, -4.5), (-3.0 + 0.33, 1.07, -3.8), (-3.0 + 0.33, 1.52, -3.2)]
    places += [(-1.45, 0.95, -1.17), (-0.75, 0.95, -1.17), (-0.05, 0.95, -1.17)]
    for i, ((line, _), at) in enumerate(zip(LABELS, places, strict=True)):
        name = f"label_{line.split()[0].lower()}"
        paper = b.material(name, base_texture=b.texture(name), roughness=0.9)
        b.put(name, b.mesh(name, (card, paper)), at, 90 if i < 3 else 0, 1.6)


def _glass(b: Bakery, size: Size) -> None:
    """Nine jars in a row that runs away from the camera:

    four layers of glass each along many lines of sight.
    """
    glass = b.material(
        "jar",
        roughness=0.0,
        transmission=1.0,
        thickness=0.004,
        ior=1.52,
        attenuation_color=(0.75, 0.9, 0.82),
        attenuation_distance=0.08,
    )
    lid = b.material("lid", metallic=1.0, roughness=0.35)
    wall = [(0.0, 0.0), (0.082, 0.0), (0.085, 0.01), (0.085, 0.2), (0.06, 0.235), (0.06, 0.255)]
    inner = [
        (0.056, 0.255),
        (0.056, 0.235),
        (0.081, 0.198),
        (0.081, 0.012),
        (0.078, 0.005),
        (0.0, 0.005),
    ]
    body = s.turned(wall + inner, size.n(128, 12), size.n(160, 12))
    cap = s.moved(
        s.turned(
            [(0.0, 0.0), (0.064, 0.0), (0.064, 0.025), (0.0, 0.03)], size.n(64, 12), size.n(40, 6)
        ),
        (0, 0.25, 0),
    )
    jar = b.mesh("jar", (body, glass), (cap, lid))
    shelf = b.mesh(
        "jar_table",
        (
            s.box((0.36, 1.0, 3.0), size.n(12)),
            b.materials.index(next(m for m in b.materials if m.name == "counter")),
        ),
    )
    b.put("jar_table", shelf, (1.06, 0.0, -3.5), -14)
    for i in range(9):
        b.put(f"jar_{i + 1}", jar, (0.77 + 0.075 * i, 1.0, -2.3 - 0.3 * i), scale=1.35)


def _oven_and_sacks(b: Bakery, size: Size) -> None:
    iron = b.material("oven")
    oven = s.join(
        s.box((1.5, 2.1, 1.3), size.n(40)),
        s.moved(
            s.turned([(0.16, 0.0), (0.16, 1.1), (0.0, 1.1)], size.n(64, 12), size.n(40, 4)),
            (0.3, 2.1, 0),
        ),
    )
    b.put("oven", b.mesh("oven", (oven, iron)), (3.05, 0, -5.6))
    glow = b.material("embers", base_color=(0.1, 0.03, 0.01, 1.0), emissive=(4.2, 1.05, 0.16))
    mouth = s.sheet(
        np.array([-0.35, 1.0, 0.0]), np.array([0.7, 0.0, 0.0]), np.array([0.0, 0.3, 0.0])
    )
    b.put("oven_mouth", b.mesh("oven_mouth", (mouth, glow)), (2.9, 0, -4.93))
    linen = b.material("sack", 2.0)
    bag = s.turned(
        [
            (0.0, 0.0),
            (0.26, 0.0),
            (0.31, 0.12),
            (0.3, 0.45),
            (0.2, 0.62),
            (0.06, 0.68),
            (0.12, 0.78),
            (0.1, 0.78),
            (0.0, 0.7),
        ],
        size.n(192, 12),
        size.n(120, 10),
    )
    sack = b.mesh("sack", (bag, linen))
    spots = (
        (1.5, 0.0, -6.3),
        (2.05, 0.0, -6.45),
        (1.1, 0.0, -6.5),
        (1.75, 0.0, -5.7),
        (0.5, 0.0, -6.55),
        (1.62, 0.66, -6.35),
        (-1.9, 0.0, -6.5),
    )
    for i, at in enumerate(spots):
        b.put(f"sack_{i + 1}", sack, at, 51.0 * i, 1.0 + 0.03 * (i % 3))


def _lamps(b: Bakery, size: Size) -> None:
    """24 hanging lamps, and one bare filament that is tiny and very strong."""
    warm = (1.0, 0.74, 0.48)
    b.lights.append(Light("lamp", "point", warm, 2.0))
    tin = b.material(
        "shade", metallic=1.0, roughness=0.4, base_color=(0.35, 0.42, 0.38, 1.0), double_sided=True
    )
    shade = s.turned(
        [(0.13, 0.0), (0.1, 0.05), (0.03, 0.11), (0.012, 0.13), (0.012, 0.42)],
        size.n(64, 12),
        size.n(32, 6),
    )
    mesh = b.mesh("lamp_shade", (shade, tin))
    for row in range(4):
        for column in range(6):
            x, z = -2.7 + 1.8 * row, -6.2 + 1.5 * column
            name = f"lamp_{6 * row + column + 1:02d}"
            b.put(f"{name}_shade", mesh, (x, 2.78, z))
            b.nodes.append(Node(name, translation=(x, 2.76, z), light=0))
    strong = b.material(
        "filament", base_color=(0.0, 0.0, 0.0, 1.0), emissive=(9000.0, 7200.0, 5200.0)
    )
    b.put("bare_bulb", b.mesh("bare_bulb", (s.ball(0.009, 16), strong)), (-1.15, 2.05, -2.6))


def _behind(b: Bakery, size: Size) -> None:
    """Store shelving behind the camera, which no frame shows."""
    boards = b.material("shelving", 2.0)
    cloth = b.material("apron")
    pieces = [
        s.moved(s.box((5.0, 0.05, 0.5), size.n(70)), (0, 0.4 + 0.45 * i, 0)) for i in range(6)
    ]
    pieces += [s.moved(s.box((0.06, 2.9, 0.5), size.n(30)), (x, 0, 0)) for x in (-2.5, 0.0, 2.5)]
    b.put("store_shelving", b.mesh("store_shelving", (s.join(*pieces), boards)), (0, 0, 2.65))
    b.put("apron", b.mesh("apron", (s.box((0.5, 0.8, 0.02), size.n(60)), cloth)), (-3.0, 1.2, 2.9))


def encoded(name: str, mime: str, side: int, channels: int, bits: int, data: bytes) -> Image:
    """An image that holds its file in memory."""
    return Image(name, mime, side, side, channels, bits, len(data), partial(bytes, data))
