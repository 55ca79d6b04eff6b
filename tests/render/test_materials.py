"""Materials against the equations of their specifications; textured lights against closed forms.

Khronos Group, glTF 2.0 appendix B and KHR_materials_specular, _sheen, _clearcoat, _anisotropy.  The
equations are written out here once more in numpy, apart from the renderer's code.
"""

from __future__ import annotations

import math
import unittest
from dataclasses import replace
from typing import Any

import numpy as np

from mill_lane.core.formats.blob import Blob
from mill_lane.core.formats.pictures import encode
from mill_lane.core.formats.textures import image_of
from mill_lane.core.render import slots as s
from mill_lane.core.render.load import load
from mill_lane.core.render.pose import pose
from mill_lane.core.render.sheen import albedo_table
from mill_lane.core.scene.model import Geometry, Light, Material, Texture, TextureUse
from tests.kernels import evaluate, material_path, sample
from tests.scenes import WHITE, even_sky, floor, looking, mean_luma, render, scene_of

SUN = Light("sun", "directional", intensity=math.pi)
V, W = np.array([0.5, 0.2, 0.0]), np.array([-0.3, 0.35, 0.0])
V[2], W[2] = math.sqrt(1 - V @ V), math.sqrt(1 - W @ W)
H = (V + W) / np.linalg.norm(V + W)


def schlick(f0: Any, cosine: float) -> Any:
    return f0 + (1 - f0) * (1 - cosine) ** 5


def ggx(alpha: float) -> float:
    """D V with the height-correlated Smith term, isotropic."""
    a2 = alpha * alpha
    d = a2 / (math.pi * (H[2] ** 2 * (a2 - 1) + 1) ** 2)

    def half(x: np.ndarray) -> float:
        return math.sqrt(a2 + (1 - a2) * x[2] ** 2)

    return d * 0.5 / (W[2] * half(V) + V[2] * half(W))


def lobes(**slots: float) -> np.ndarray:
    """The lobes' sum times the cosine, red, green, blue, of a surface with these slots."""
    q = material_path(base=(0.6, 0.3, 0.1), alpha=0.3)
    for name, value in slots.items():
        q[getattr(s, name)] = value
    return evaluate(q, V, W)[:, :3]


class TestEquations(unittest.TestCase):
    def test_plain_dielectric(self) -> None:
        """Schlick's curve and the exact one agree to a hundredth at these angles."""
        f = schlick(0.04, V @ H)
        expected = (1 - f) * np.array([0.6, 0.3, 0.1]) / math.pi + f * ggx(0.3)
        np.testing.assert_allclose(lobes().sum(0), expected * W[2], rtol=0.02)

    def test_metal(self) -> None:
        f = schlick(np.array([0.6, 0.3, 0.1]), V @ H)
        np.testing.assert_allclose(lobes(Q_METAL=1.0).sum(0), f * ggx(0.3) * W[2], rtol=1e-6)

    def test_specular_share_and_tint(self) -> None:
        """fresnel_mix of KHR_materials_specular."""
        tint, share = np.array([0.9, 0.5, 0.2]), 0.7
        names = dict(zip(("Q_SPECULAR_R", "Q_SPECULAR_G", "Q_SPECULAR_B"), tint, strict=True))
        fr = schlick(np.minimum(0.04 * tint, 1), V @ H)
        base = np.array([0.6, 0.3, 0.1]) / math.pi
        expected = (1 - share * fr.max()) * base + share * fr * ggx(0.3)
        np.testing.assert_allclose(
            lobes(Q_SPECULAR=share, **names).sum(0), expected * W[2], rtol=0.02
        )

    def test_no_specular_leaves_the_base_alone(self) -> None:
        none = {"Q_SPECULAR": 0.0, "Q_SPECULAR_R": 1.0, "Q_SPECULAR_G": 1.0, "Q_SPECULAR_B": 1.0}
        expected = np.array([0.6, 0.3, 0.1]) / math.pi * W[2]
        np.testing.assert_allclose(lobes(**none).sum(0), expected, rtol=1e-6)

    def test_clearcoat(self) -> None:
        """The coat over the base: 4 % at normal incidence, Schlick's curve."""
        coat = 0.8 * schlick(0.04, V @ H) * self.coat(0.1)
        found = lobes(Q_COAT=0.8, Q_COAT_ALPHA=0.1)
        np.testing.assert_allclose(found[2], [coat * W[2]] * 3, rtol=1e-6)
        below = 1 - 0.8 * schlick(0.04, V[2])
        np.testing.assert_allclose(found[0] / lobes()[0], [below] * 3, rtol=1e-6)

    def coat(self, alpha: float) -> float:
        return ggx(alpha)

    def test_sheen(self) -> None:
        """Charlie's distribution with the fit of its shadowing (Estevez and Kulla 2017)."""
        alpha, colour = 0.36, np.array([0.2, 0.4, 0.8])
        table = albedo_table()
        names = dict(zip(("Q_SHEEN_R", "Q_SHEEN_G", "Q_SHEEN_B"), colour, strict=True))
        found = lobes(
            Q_SHEEN_MOST=0.8, Q_SHEEN_ALPHA=alpha, Q_SHEEN_TABLE=float(table.ctypes.data), **names
        )
        sine = math.sqrt(1 - H[2] ** 2)
        d = (2 + 1 / alpha) * sine ** (1 / alpha) / (2 * math.pi)

        def fit(x: float) -> float:
            k = (1 - alpha) ** 2
            lo = np.array([25.3245, 3.32435, 0.16801, -1.27393, -4.85967])
            hi = np.array([21.5473, 3.82987, 0.19823, -1.97760, -4.32054])
            a, b, c, e, f = lo + (hi - lo) * k
            return float(a / (1 + b * x**c) + e * x + f)

        def shadow(x: float) -> float:
            return math.exp(fit(x)) if x < 0.5 else math.exp(2 * fit(0.5) - fit(1 - x))

        sheen = colour * d / ((1 + shadow(V[2]) + shadow(W[2])) * 4 * V[2])
        plain = lobes()
        added = found[0] - plain[0] * (found[1] / plain[1])
        np.testing.assert_allclose(added, sheen, rtol=1e-5)
        # What lies below gets less, never more.
        self.assertLess((found[1] / plain[1]).max(), 1.0)

    def test_sheen_never_gives_more_than_it_gets(self) -> None:
        table = albedo_table()
        self.assertGreaterEqual(table.min(), 0.0)
        self.assertLessEqual(table.max(), 1.0)
        g = floor(40.0)
        for colour in ((1.0, 1.0, 1.0), (0.3, 0.3, 0.3)):
            cloth = replace(WHITE, sheen_color=colour, sheen_roughness=0.5)
            mean, error = mean_luma(
                render(
                    scene_of((g, cloth), eye=(0, 3, 0.01), environment=even_sky()),
                    samples=64,
                    bounces=0,
                )
            )
            self.assertLess(mean, 1.02 + 4 * error)
            self.assertGreater(mean, 0.85)

    def test_grain_along_the_tangent(self) -> None:
        """Anisotropic GGX: the density that is sampled is the one that is evaluated."""
        q = material_path(base=(0.9, 0.9, 0.9), metallic=1.0, alpha=0.1)
        q[s.Q_ALONG], q[s.Q_TURN_COSINE], q[s.Q_TURN_SINE] = 0.6, 0.8, 0.6
        rng = np.random.default_rng(1)
        total, n = 0.0, 4000
        for a, b in rng.random((n, 2)):
            w = sample(q, 1, V, a, b)
            if w[2] > 0:
                found = evaluate(q, V, w)[1]
                total += found[0] / found[3] / n
        # Nearly white metal gives nearly all back, less what a second scattering would.
        self.assertGreater(total, 0.6)
        self.assertLess(total, 1.0)
        # A grid over the hemisphere integrates the same lobe.
        grid = 0.0
        for z in (np.arange(120) + 0.5) / 120:
            for phi in 2 * math.pi * (np.arange(240) + 0.5) / 240:
                r = math.sqrt(1 - z * z)
                w = (r * math.cos(phi), r * math.sin(phi), z)
                grid += evaluate(q, V, w)[1, 0] * 2 * math.pi / (120 * 240)
        self.assertAlmostEqual(grid, total, delta=0.03)


def textured(pixels: np.ndarray, material: Material, slot: str, **use: Any) -> Any:
    """A square seen from above, lit straight down by a sun of radiance 1 on white."""
    image = image_of(Blob.of(encode(pixels, "image/png")), "map")
    worn = replace(material, **{slot: TextureUse(0, **use)})
    return scene_of(
        (floor(2.0), worn),
        eye=(0, 4, 0),
        up=(0, 0, -1),
        yfov=2 * math.atan(0.25),
        lights=((SUN, looking((0, 5, 0), (0, 0, 0), (0, 0, -1))),),
        images=(image,),
        textures=(Texture("map", 0),),
    )


QUARTERS = np.zeros((64, 64, 3), np.uint8)
QUARTERS[:32, :32], QUARTERS[:32, 32:] = (255, 0, 0), (0, 255, 0)
QUARTERS[32:, :32], QUARTERS[32:, 32:] = (0, 0, 255), (255, 255, 255)


class TestTexturesOnMaterials(unittest.TestCase):
    def colours(self, scene: Any) -> np.ndarray:
        """The mean of each quarter of the picture: upper left and right, lower left and right."""
        film = render(scene, samples=16, size=32, bounces=0).film
        light = film.light / film.samples[..., None]
        return np.array(
            [light[y : y + 12, x : x + 12].mean((0, 1)) for y in (2, 18) for x in (2, 18)]
        )

    def test_base_colour_and_its_transform(self) -> None:
        """KHR_texture_transform on the base: moved by half, the quarters change places."""
        plain = self.colours(textured(QUARTERS, WHITE, "base_texture"))
        moved = self.colours(textured(QUARTERS, WHITE, "base_texture", offset=(0.5, 0.5)))
        np.testing.assert_allclose(moved, plain[[3, 2, 1, 0]], atol=0.02)
        self.assertEqual([int(c.argmax()) for c in plain[:3]], [0, 1, 2])

    def test_transform_of_emission(self) -> None:
        """The same on the emissive slot: radiance is the texture's linear value."""
        dark = replace(WHITE, base_color=(0.0, 0.0, 0.0, 1.0), emissive=(1.0, 1.0, 1.0))
        for offset, order in (((0.0, 0.0), [0, 1, 2, 3]), ((0.5, 0.0), [1, 0, 3, 2])):
            scene = replace(textured(QUARTERS, dark, "emissive_texture", offset=offset), lights=())
            scene = replace(scene, nodes=scene.nodes[:2])
            found = self.colours(scene)
            expected = np.array([[1, 0, 0], [0, 1, 0], [0, 0, 1], [1, 1, 1.0]])[order]
            np.testing.assert_allclose(found, expected, atol=0.06)

    def test_roughness_metal_slot(self) -> None:
        """Blue is the metal: where it is full, a dark base gives next to nothing back."""
        base = replace(WHITE, metallic=1.0, roughness=1.0)
        found = self.colours(textured(QUARTERS, base, "roughness_texture"))
        self.assertLess(found[2].mean(), 0.6 * found[0].mean() + 0.4)
        self.assertGreater(found[1].mean(), 0.9 * found[0].mean())

    def test_alpha_modes(self) -> None:
        """OPAQUE, MASK at 0.5 and BLEND of an alpha of 0.6 over black (glTF 2.0, 3.9.4)."""
        pixels = np.full((8, 8, 4), 255, np.uint8)
        pixels[..., 3] = 153
        for mode, expected in (("OPAQUE", 1.0), ("MASK", 1.0), ("BLEND", 0.6)):
            worn = replace(WHITE, alpha_mode=mode)
            light = self.colours(textured(pixels, worn, "base_texture")).mean()
            self.assertAlmostEqual(light / 0.98, expected, delta=0.03, msg=mode)
        hole = self.colours(
            textured(pixels, replace(WHITE, alpha_mode="MASK", alpha_cutoff=0.7), "base_texture")
        )
        self.assertEqual(float(hole.max()), 0.0)

    def test_vertex_colours_multiply(self) -> None:
        g = floor(2.0)
        tints = np.tile(np.float32([0.25, 0.5, 0.75, 1.0]), (len(g.positions), 1))
        tinted = Geometry(g.positions, g.normals, g.uvs, g.triangles, colors=tints)
        scene = textured(QUARTERS, WHITE, "base_texture")
        plain = scene_of(
            (g, WHITE),
            eye=(0, 4, 0),
            up=(0, 0, -1),
            lights=((SUN, looking((0, 5, 0), (0, 0, 0), (0, 0, -1))),),
        )
        with_tints = replace(
            plain,
            meshes=tuple(
                replace(m, parts=scene_of((tinted, WHITE)).meshes[0].parts) for m in plain.meshes
            ),
        )
        ratio = self.colours(with_tints) / self.colours(plain)
        # A white dielectric mirrors 4 % at normal incidence, whatever its colour.
        np.testing.assert_allclose(ratio[0], [0.25, 0.5, 0.75], atol=0.04)
        self.assertIsNotNone(scene)

    def test_second_uv_set(self) -> None:
        g = floor(2.0)
        assert g.uvs is not None
        turned = Geometry(g.positions, g.normals, g.uvs, g.triangles, g.uvs[:, ::-1].copy())
        scene = textured(QUARTERS, WHITE, "base_texture", uv_set=1)
        parts = scene_of((turned, WHITE)).meshes[0].parts
        scene = replace(scene, meshes=(replace(scene.meshes[0], parts=parts),))
        first = self.colours(textured(QUARTERS, WHITE, "base_texture"))
        np.testing.assert_allclose(self.colours(scene), first[[0, 2, 1, 3]], atol=0.02)


class TestTexturedLights(unittest.TestCase):
    """A ceiling that glows by a picture: its power, and what it gives."""

    def lit(self, pixels: np.ndarray, **more: Any) -> Any:
        image = image_of(Blob.of(encode(pixels, "image/png")), "glow")
        glow = Material(
            "glow",
            (0.0, 0.0, 0.0, 1.0),
            metallic=0.0,
            emissive=(100.0, 100.0, 100.0),
            emissive_texture=TextureUse(0),
        )
        lamp = floor(1.0)
        down = Geometry(
            lamp.positions + np.float32([0, 3, 0]),
            -lamp.normals,
            lamp.uvs,
            np.ascontiguousarray(lamp.triangles[:, ::-1]),
        )
        return scene_of(
            (floor(0.2), WHITE),
            (down, glow),
            eye=(0, 1, 0.001),
            at=(0, 0, 0),
            yfov=0.1,
            images=(image,),
            textures=(Texture("glow", 0),),
            **more,
        )

    def test_one_diode(self) -> None:
        """One texel of 128 x 128 gives L A / d^2 (inverse squares, from close to the axis)."""
        pixels = np.zeros((128, 128, 3), np.uint8)
        pixels[64, 64] = 255
        scene = self.lit(pixels)
        world = pose(load(scene, 1), 0.0)
        row = world.lights.rows[0]
        self.assertAlmostEqual(row[s.L_LUMA] * 128 * 128 / 100, 1.0, delta=0.15)
        self.assertLess(row[s.L_RADIUS], 0.05)  # the diode, not the board
        mean, error = mean_luma(render(scene, samples=256, size=8, bounces=0))
        expected = 100.0 / 128**2 / 9.0 / math.pi
        # A bilinear texel is as wide as two, and gives as much.
        self.assertAlmostEqual(mean / expected, 1.0, delta=0.15)
        self.assertLess(error / mean, 0.05)

    def test_aiming_and_finding_agree(self) -> None:
        """Points are chosen by brightness, and the mean is still that of the whole picture."""
        rng = np.random.default_rng(5)
        pixels = (rng.random((16, 16, 1)) > 0.8).astype(np.uint8).repeat(3, 2) * 255
        scene = self.lit(np.ascontiguousarray(pixels))
        mean, error = mean_luma(render(scene, samples=256, size=8, bounces=0))
        # Closed form: the sum over texels of L cos cos A / (pi d^2).
        lin = pixels[..., 0] / 255.0
        x, z = (np.mgrid[0:16, 0:16] + 0.5) / 16 - 0.5
        d2 = x**2 + z**2 + 9
        flux = 100 * lin * (3 / np.sqrt(d2)) ** 2 / d2 / 256
        self.assertAlmostEqual(mean / (flux.sum() / math.pi), 1.0, delta=0.04 + 4 * error / mean)

    def test_a_black_picture_is_no_light(self) -> None:
        world = pose(load(self.lit(np.zeros((4, 4, 3), np.uint8)), 1), 0.0)
        self.assertEqual(len(world.lights.rows), 0)
