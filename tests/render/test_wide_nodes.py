"""Nodes of eight children: none of a binary tree is lost, and no other choice would be cheaper."""

from __future__ import annotations

import unittest
from functools import cache
from unittest.mock import patch

import numpy as np

from mill_lane.core.render import build
from mill_lane.core.render.wide_nodes import LINKS, NODE
from mill_lane.demo import shapes


def half_areas(low: np.ndarray, high: np.ndarray) -> np.ndarray:
    e = high - low
    return e[..., 0] * e[..., 1] + e[..., 1] * e[..., 2] + e[..., 2] * e[..., 0]


def cost_of_wide(nodes: np.ndarray) -> float:
    """The area of all children's boxes."""
    boxes = nodes[:, :48].reshape(-1, 3, 2, 8).astype(float)
    low, high = np.moveaxis(boxes[:, :, 0], 1, -1), np.moveaxis(boxes[:, :, 1], 1, -1)
    some = low[..., 0] <= high[..., 0]
    return float(half_areas(low, high)[some].sum())


def least_cost(binary: np.ndarray) -> float:
    """The same for the best choice, by trying all (in long numbers, one node after another)."""
    links = binary.view(np.int32)
    area = half_areas(binary[:, :3].astype(float), -binary[:, 3:6].astype(float))

    @cache
    def apart(node: int, n: int) -> float:
        """As exactly two to n children."""
        left = int(links[node, 6])
        return min(below(left, k) + below(left + 1, n - k) for k in range(1, n))

    @cache
    def below(node: int, n: int) -> float:
        if links[node, 7] > 0:
            return float(area[node])
        one = float(area[node]) + apart(node, 8)
        return one if n == 1 else min(one, apart(node, n))

    return apart(0, 8)


class TestWideNodes(unittest.TestCase):
    def test_no_other_choice_is_cheaper(self) -> None:
        rng = np.random.default_rng(0)
        binary_tree = build._binary_tree
        trees: list[np.ndarray] = []

        def kept(*args: object) -> np.ndarray:
            tree = binary_tree(*args)
            trees.append(tree.copy().reshape(-1, 8))
            return tree

        for count in (9, 30, 200, 3000):
            middle = rng.normal(size=(count, 1, 3)) * rng.uniform(0.1, 3, 3)
            corners = (middle + rng.normal(size=(count, 3, 3)) * 0.1).astype(np.float32)
            triangles = np.arange(3 * count, dtype=np.uint32).reshape(-1, 3)
            with patch.object(build, "_binary_tree", kept):
                nodes, _ = build.build_mesh(corners.reshape(-1, 3), triangles)
            want = least_cost(trees[-1])
            self.assertAlmostEqual(cost_of_wide(nodes) / want, 1.0, places=5)

    def test_most_places_are_taken(self) -> None:
        """Children to a node of a mesh of many; every node is reached once."""
        loaf = shapes.loaf(0.3, 0.16, 0.13, 120, 3, 4)
        nodes, leaves = build.build_mesh(loaf.positions, loaf.triangles)
        links = nodes[:, LINKS : LINKS + 8].view(np.int32)
        used = nodes[:, :8] <= nodes[:, 8:16]
        self.assertGreater(used.sum() / len(nodes), 5.5)
        below = links[used]
        np.testing.assert_array_equal(np.sort(below[below >= 0]), np.arange(1, len(nodes)))
        np.testing.assert_array_equal(np.sort(~below[below < 0]), np.arange(len(leaves)))
        self.assertEqual(nodes.shape[1], NODE)

    def test_nodes_begin_on_cache_lines(self) -> None:
        """Or half of their numbers would lie across two lines."""
        rng = np.random.default_rng(2)
        ball = shapes.ball(1.0, 12)
        kept = []  # each in a place of its own
        for n in range(1, 40):
            low = rng.uniform(-1, 1, (n, 3))
            kept += [build.build_boxes(low, low + 0.1)]
            kept += build.build_mesh(ball.positions, ball.triangles[: 8 * n])
        self.assertEqual({a.ctypes.data % 64 for a in kept}, {0})
