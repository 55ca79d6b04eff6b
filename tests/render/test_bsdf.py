"""GGX and the four lobes:

the distribution, that sampling matches its density, that no energy is made.
"""

from __future__ import annotations

import math
import unittest

import numpy as np
from scipy import integrate, stats

from tests.kernels import (
    chances,
    evaluate,
    material_path,
    microfacet,
    phases,
    sample,
    smooth_weight,
)


def direction(theta: float, phi: float = 0.0) -> tuple[float, float, float]:
    return math.sin(theta) * math.cos(phi), math.sin(theta) * math.sin(phi), math.cos(theta)


def over_sphere(
    q: np.ndarray, v: tuple[float, float, float], thin: bool = False, n: int = 160
) -> np.ndarray:
    """Each lobe integrated over all directions, (4, 4), by the midpoint rule."""
    total = np.zeros((4, 4))
    m = n // 2
    for z in (np.arange(n) + 0.5) / n * 2 - 1:
        r = math.sqrt(1 - z * z)
        for p in (np.arange(m) + 0.5) / m * 2 * math.pi:
            total += evaluate(q, v, (r * math.cos(p), r * math.sin(p), z), thin)
    return total * (4 * math.pi / (n * m))


def normal_density(vz: float, vh: float, hz: float, alpha: float) -> float:
    """The density of sampled visible normals over the solid angle of h (Heitz 2018, equation 3)."""
    shadowed = 1.0 + microfacet.smith_lambda(vz, alpha)
    d: float = microfacet.ggx_density(1 - hz * hz, hz, alpha)
    return d * max(vh, 0.0) / (vz * shadowed)


class TestGGX(unittest.TestCase):
    def test_distribution_is_normalised(self) -> None:
        """D(h) cos(h) integrates to 1 over the hemisphere (Walter et al. 2007, equation 4)."""
        for alpha in (0.05, 0.3, 0.7, 1.0):
            total, _ = integrate.quad(
                lambda z, a=alpha: 2 * math.pi * microfacet.ggx_density(1 - z * z, z, a) * z,
                0,
                1,
                points=[0.99, 0.999, 0.9999],
            )
            self.assertAlmostEqual(total, 1.0, places=5)

    def test_visible_normals_match_their_density(self) -> None:
        """Chi-square over height and azimuth bins of the half vector (Heitz 2018)."""
        rng = np.random.default_rng(5)
        for alpha, theta in ((0.3, 0.4), (0.7, 1.2)):
            v = direction(theta)
            n, bins = 20000, 8
            got = np.zeros((bins, bins))
            for a, b in rng.random((n, 2)):
                h = microfacet.sample_visible_normal(*v, alpha, alpha, a, b)
                phi = math.atan2(h[1], h[0]) % (2 * math.pi)
                got[min(int(h[2] * bins), bins - 1), int(phi / (2 * math.pi) * bins) % bins] += 1
            want = np.zeros_like(got)
            fine = 24
            for i in range(bins):
                for j in range(bins):
                    for z in (i + (np.arange(fine) + 0.5) / fine) / bins:
                        s = math.sqrt(1 - z * z)
                        for p in (j + (np.arange(fine) + 0.5) / fine) / bins * 2 * math.pi:
                            vh = v[0] * s * math.cos(p) + v[2] * z
                            want[i, j] += normal_density(v[2], vh, z, alpha)
            want *= n * (2 * math.pi / bins / bins) / fine**2
            self.assertAlmostEqual(want.sum() / n, 1.0, delta=0.01)
            want *= n / want.sum()
            keep = want > 8
            lumped_got = np.append(got[keep], got[~keep].sum())
            lumped_want = np.append(want[keep], want[~keep].sum())
            p = stats.chisquare(lumped_got, lumped_want).pvalue
            self.assertGreater(p, 1e-3, (alpha, theta))


class TestLobes(unittest.TestCase):
    def test_densities_integrate_to_one(self) -> None:
        """All but what is lost where a sampled mirror direction leaves below the surface, or into
        the glass.
        """
        for theta in (0.3, 1.0):
            q = material_path((0.5, 0.5, 0.5), 0.3, 0.25, clearcoat=0.6, coat_alpha=0.2)
            density = over_sphere(q, direction(theta))[:, 3]
            np.testing.assert_allclose(density[:3], [1, 1, 1], atol=0.08)
            self.assertTrue((density < 1.01).all())
            for thin in (True, False):
                glass = material_path(alpha=0.2, clear=1.0)
                self.assertAlmostEqual(
                    over_sphere(glass, direction(theta), thin)[3, 3], 1.0, delta=0.06
                )

    def test_samples_match_their_densities(self) -> None:
        """Chi-square of each lobe's sampled heights against its integrated density."""
        rng = np.random.default_rng(7)
        v, bins, n = direction(0.7, 0.4), 10, 4000
        for lobe, q, thin in (
            (0, material_path(), False),
            (1, material_path(metallic=1.0, alpha=0.4), False),
            (2, material_path(clearcoat=1.0, coat_alpha=0.3), False),
            (3, material_path(clear=1.0, alpha=0.3), False),
            (3, material_path(clear=1.0, alpha=0.3), True),
            (3, material_path(clear=1.0, alpha=0.3, front=-1.0), False),
        ):
            heights = np.array([sample(q, lobe, v, a, b, thin)[2] for a, b in rng.random((n, 2))])
            heights = heights[heights != 0]
            edges = np.linspace(-1, 1, 2 * bins + 1)
            got, _ = np.histogram(heights, edges)
            want = np.zeros(2 * bins)
            for i in range(2 * bins):
                for z in edges[i] + (np.arange(12) + 0.5) / 12 * (edges[1] - edges[0]):
                    r = math.sqrt(1 - z * z)
                    for p in (np.arange(60) + 0.5) / 60 * 2 * math.pi:
                        want[i] += evaluate(q, v, (r * math.cos(p), r * math.sin(p), z), thin)[
                            lobe, 3
                        ]
            want *= (edges[1] - edges[0]) * 2 * math.pi / (12 * 60) * n
            keep = want > 8
            chi = stats.chisquare(
                np.append(got[keep], n - got[keep].sum()),
                np.append(want[keep], n - want[keep].sum()),
                sum_check=False,
            )
            self.assertGreater(chi.pvalue, 1e-4, (lobe, thin))

    def test_no_energy_is_made(self) -> None:
        """What all lobes reflect and let through together is at most 1 (a furnace by
        quadrature).
        """
        for theta in (0.2, 0.9, 1.3):
            for q, thin in (
                (material_path(metallic=0.0, alpha=0.5), False),
                (material_path(metallic=1.0, alpha=0.3), False),
                (material_path(alpha=0.4, clearcoat=1.0, coat_alpha=0.2), False),
                (material_path(alpha=0.3, clear=1.0), False),
                (material_path(alpha=0.3, clear=0.5), True),
                (material_path(alpha=0.3, clear=1.0, front=-1.0), False),
            ):
                total = over_sphere(q, direction(theta), thin)[:, 0].sum()
                self.assertLess(total, 1.02)
                self.assertGreater(total, 0.55)

    def test_smooth_glass_splits_by_fresnel(self) -> None:
        q = material_path(alpha=1e-3, clear=1.0)
        self.assertAlmostEqual(smooth_weight(q, 1, 1.0)[0], 0.04, places=7)
        self.assertAlmostEqual(smooth_weight(q, 3, 1.0)[0], 0.96, places=6)
        for cosine in (0.1, 0.5, 0.9):
            kd, kg, kc, kt = chances(q, cosine)
            self.assertAlmostEqual(kg, microfacet.fresnel(cosine, 1.5), places=6)
            self.assertAlmostEqual(kd + kc + kg + kt, 1.0, places=6)

    def test_rough_glass_bends_about_snell(self) -> None:
        """The mean direction through nearly smooth glass is Snell's."""
        rng = np.random.default_rng(2)
        q = material_path(alpha=0.02, clear=1.0)
        theta = 0.8
        mean = np.mean(
            [sample(q, 3, direction(theta), a, b) for a, b in rng.random((2000, 2))], axis=0
        )
        self.assertAlmostEqual(mean[0], -math.sin(theta) / 1.5, delta=0.004)
        self.assertAlmostEqual(mean[2], -math.sqrt(1 - (math.sin(theta) / 1.5) ** 2), delta=0.004)

    def test_reciprocity(self) -> None:
        """f(v, w) = f(w, v): Helmholtz; for the diffuse and the glossy lobe."""
        rng = np.random.default_rng(1)
        q = material_path((0.3, 0.5, 0.9), 0.4, 0.36)
        for _ in range(50):
            v, w = (x / np.linalg.norm(x) for x in np.abs(rng.normal(size=(2, 3))))
            there, back = evaluate(q, v, w), evaluate(q, w, v)
            np.testing.assert_allclose(there[:2, :3] / w[2], back[:2, :3] / v[2], rtol=1e-5)

    def test_coat_takes_its_share(self) -> None:
        """KHR_materials_clearcoat:

        what is below gets what the clearcoat's Fresnel lets through at the viewer's angle.
        """
        v, w = direction(0.4), direction(0.4, math.pi)
        bare, coated = (
            evaluate(material_path(alpha=0.3), v, w),
            evaluate(material_path(alpha=0.3, clearcoat=1.0), v, w),
        )
        below = 1 - microfacet.schlick(0.04, v[2])
        np.testing.assert_allclose(coated[:2, :3], bare[:2, :3] * below, rtol=1e-6)
        self.assertGreater(coated[2, 0], 0)

    def test_phase_function(self) -> None:
        """Henyey-Greenstein integrates to 1 and its mean cosine is g; so is the mean of its
        samples.
        """
        for g in (-0.5, 0.0, 0.3, 0.8):
            total, _ = integrate.quad(lambda c, g=g: 2 * math.pi * phases.phase(g, c), -1, 1)
            mean, _ = integrate.quad(lambda c, g=g: 2 * math.pi * phases.phase(g, c) * c, -1, 1)
            self.assertAlmostEqual(total, 1.0, places=6)
            self.assertAlmostEqual(mean, g, places=6)
            u = (np.arange(4000) + 0.5) / 4000
            self.assertAlmostEqual(
                float(np.mean([phases.sample_phase(g, x) for x in u])), g, places=3
            )
