"""One count of textures wherever one is told: used, equal, unused."""

from __future__ import annotations

import unittest
from dataclasses import replace

from mill_lane.core.scene.model import Texture, TextureUse
from mill_lane.core.weigh.counts import texture_counts
from mill_lane.core.weigh.findings import find
from mill_lane.core.weigh.full import with_images
from mill_lane.core.weigh.images import inspect_image
from mill_lane.core.weigh.measure import weigh
from mill_lane.demo import shapes
from mill_lane.web.stations.scene.tables import rows
from mill_lane.web.stations.scene.view import headline
from mill_lane.web.stations.scene.words import said
from tests.scenes import WHITE, even_sky, picture, scene_of


class TestCounts(unittest.TestCase):
    def test_used_equal_and_unused(self) -> None:
        """Three of four images are worn, two of those are the same picture."""
        grain = picture(16)
        images = (grain, replace(grain, name="again"), picture(8, name="other"), picture(4))
        images = (*images[:3], replace(images[3], name="left over"))
        worn = [replace(WHITE, name=f"m{k}", base_texture=TextureUse(k)) for k in range(3)]
        textures = tuple(Texture(f"t{k}", k) for k in range(4))
        box = shapes.box((1, 1, 1))
        made = scene_of(
            *((box, m) for m in worn), environment=even_sky(), images=images, textures=textures
        )
        analysis = with_images(weigh(made), [inspect_image(x) for x in images])
        found = texture_counts(analysis)
        self.assertEqual((found.used, found.equal, found.unused, found.stored), (3, 1, 1, 4))
        words = "3 textures (1 of them equal to others, 1 more unused)"
        self.assertEqual(found.words, words)
        self.assertIn(words, headline(analysis))
        (finding,) = [f for f in find(analysis, 1080) if f.code == "unused_pictures"]
        self.assertEqual(finding.targets, ["left over"])
        query = said(finding).query.partition("q=")[2].replace("+", " ")
        self.assertEqual([r.name for r in rows(analysis, "textures", words=query)], ["left over"])

    def test_one_and_no_more(self) -> None:
        worn = replace(WHITE, base_texture=TextureUse(0))
        box, textures = shapes.box((1, 1, 1)), (Texture("t", 0),)
        made = scene_of((box, worn), images=(picture(4),), textures=textures)
        self.assertEqual(texture_counts(weigh(made)).words, "1 texture")
