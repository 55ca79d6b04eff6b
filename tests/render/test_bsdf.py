"""GGX: the distribution, and that sampling matches its density."""

from __future__ import annotations

import math
import unittest

import numpy as np
from scipy import integrate, stats

from mill_lane.core.render import bsdf


class TestGGX(unittest.TestCase):
    def test_distribution_is_normalised(self) -> None:
        """D(h) cos(h) integrates to 1 over the hemisphere (Walter et al. 2007, equation 4)."""
        for alpha in (0.05, 0.3, 0.7, 1.0):
            total, _ = integrate.quad(
                lambda z, a=alpha: 2 * math.pi * bsdf.ggx_density(z, a) * z, 0, 1, points=[0.99, 0.999, 0.9999]
            )
            self.assertAlmostEqual(total, 1.0, places=5)

    def test_visible_normals_match_their_density(self) -> None:
        """Chi-square over height and azimuth bins of the half vector (Heitz 2018)."""
        rng = np.random.default_rng(5)
        for alpha, theta in ((0.3, 0.4), (0.7, 1.2)):
            v = (math.sin(theta), 0.0, math.cos(theta))
            n, bins = 20000, 8
            got = np.zeros((bins, bins))
            for a, b in rng.random((n, 2)):
                h = bsdf.sample_visible_normal(*v, alpha, a, b)
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
                            want[i, j] += bsdf.visible_normal_density(v[2], vh, z, alpha)
            want *= n * (2 * math.pi / bins / bins) / fine**2
            self.assertAlmostEqual(want.sum() / n, 1.0, delta=0.01)
            want *= n / want.sum()
            keep = want > 8
            lumped_got = np.append(got[keep], got[~keep].sum())
            lumped_want = np.append(want[keep], want[~keep].sum())
            p = stats.chisquare(lumped_got, lumped_want).pvalue
            self.assertGreater(p, 1e-3, (alpha, theta))

    def test_density_of_the_whole_bsdf(self) -> None:
        """The density integrates to at most 1; what is missing are reflections below the surface."""
        v = (0.6, 0.0, 0.8)
        z = (np.arange(200) + 0.5) / 200
        phi = (np.arange(64) + 0.5) / 64 * 2 * math.pi
        for metallic, alpha in ((0.0, 0.25), (1.0, 0.25), (0.5, 0.6)):
            total = 0.0
            for zz in z:
                s = math.sqrt(1 - zz * zz)
                total += sum(
                    bsdf.evaluate((0.5, 0.5, 0.5), metallic, alpha, 1.5, v, (s * math.cos(p), s * math.sin(p), zz))[3]
                    for p in phi
                )
            total *= 2 * math.pi / (len(z) * len(phi))
            self.assertLess(total, 1.01)
            self.assertGreater(total, 0.85)

    def test_reciprocity(self) -> None:
        """f(v, w) = f(w, v): Helmholtz."""
        rng = np.random.default_rng(1)
        for _ in range(50):
            v, w = (x / np.linalg.norm(x) for x in np.abs(rng.normal(size=(2, 3))))
            there = bsdf.evaluate((0.3, 0.5, 0.9), 0.4, 0.36, 1.5, tuple(v), tuple(w))
            back = bsdf.evaluate((0.3, 0.5, 0.9), 0.4, 0.36, 1.5, tuple(w), tuple(v))
            for c in range(3):
                self.assertAlmostEqual(there[c] / w[2], back[c] / v[2], places=9)

    def test_phase_function(self) -> None:
        """Henyey-Greenstein integrates to 1 and its mean cosine is g; so is the mean of its samples."""
        from mill_lane.core.render.media import phase, sample_phase

        for g in (-0.5, 0.0, 0.3, 0.8):
            total, _ = integrate.quad(lambda c, g=g: 2 * math.pi * phase(g, c), -1, 1)
            mean, _ = integrate.quad(lambda c, g=g: 2 * math.pi * phase(g, c) * c, -1, 1)
            self.assertAlmostEqual(total, 1.0, places=6)
            self.assertAlmostEqual(mean, g, places=6)
            u = (np.arange(4000) + 0.5) / 4000
            self.assertAlmostEqual(float(np.mean([sample_phase(g, x) for x in u])), g, places=3)
