"""UDIM sets: each triangle wears the picture of its tile, in every format that can name one."""

from __future__ import annotations

import json
import tempfile
import unittest
from pathlib import Path

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from mill_lane.core.formats.gltf import write_glb
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.formats.pictures import decode, write_pixels
from mill_lane.core.formats.saving import save_scene
from mill_lane.core.formats.udim import tile_numbers
from mill_lane.core.scene.model import Scene, TextureUse

COLOURS = {1001: (200, 0, 0), 1002: (0, 200, 0), 1011: (0, 0, 200), 1012: (90, 90, 90)}
# Four squares of one metre, one on each tile: at (column, row) on the floor and in UV.
SQUARES = [(0, 0), (1, 0), (0, 1), (1, 1)]
MTL = "newmtl wall\nmap_Kd paint.{}.png\n"


def obj_text() -> str:
    lines = ["mtllib w.mtl", "usemtl wall"]
    for c, r in SQUARES:
        corners = [(c + x, r + y) for x, y in ((0.1, 0.1), (0.9, 0.1), (0.9, 0.9), (0.1, 0.9))]
        lines += [f"v {x} 0 {-y}" for x, y in corners] + [f"vt {x} {y}" for x, y in corners]
    lines += [f"f {a}/{a} {a + 1}/{a + 1} {a + 2}/{a + 2} {a + 3}/{a + 3}" for a in (1, 5, 9, 13)]
    return "\n".join(lines) + "\n"


def usda_text() -> str:
    corners = [
        (c + x, r + y)
        for c, r in SQUARES
        for x, y in ((0.1, 0.1), (0.9, 0.1), (0.9, 0.9), (0.1, 0.9))
    ]
    return f"""#usda 1.0
(
    metersPerUnit = 1
    upAxis = "Y"
)
def Mesh "wall" (prepend apiSchemas = ["MaterialBindingAPI"])
{{
    int[] faceVertexCounts = [4, 4, 4, 4]
    int[] faceVertexIndices = {list(range(16))}
    point3f[] points = {[(x, 0, -y) for x, y in corners]}
    texCoord2f[] primvars:st = {corners} (interpolation = "vertex")
    uniform token subdivisionScheme = "none"
    rel material:binding = </m>
}}
def Material "m"
{{
    token outputs:surface.connect = </m/s.outputs:surface>
    def Shader "s"
    {{
        uniform token info:id = "UsdPreviewSurface"
        color3f inputs:diffuseColor.connect = </m/t.outputs:rgb>
        token outputs:surface
    }}
    def Shader "t"
    {{
        uniform token info:id = "UsdUVTexture"
        asset inputs:file = @./paint.<UDIM>.png@
        float2 inputs:st.connect = </m/r.outputs:result>
        float3 outputs:rgb
    }}
    def Shader "r"
    {{
        uniform token info:id = "UsdPrimvarReader_float2"
        string inputs:varname = "st"
        float2 outputs:result
    }}
}}
"""


def worn(scene: Scene) -> dict[tuple[int, int], tuple[int, ...]]:
    """The colour of each square, by its place on the floor."""
    out = {}
    for mesh in scene.meshes:
        for part in mesh.parts:
            use = scene.materials[part.material].base_texture
            assert use is not None
            image = scene.images[scene.textures[use.texture].image]
            colour = (-1,)
            if not image.missing:
                colour = tuple(int(x) for x in decode(image.read(), image.mime, "")[0, 0])
            g = part.load()
            for middle in g.positions[g.triangles].mean(1):
                out[int(np.floor(middle[0])), int(np.floor(-middle[2]))] = colour
    return out


WANTED = {(t % 10 - 1, (t - 1001) // 10): c for t, c in COLOURS.items()}


class TestSets(unittest.TestCase):
    def setUp(self) -> None:
        keep = tempfile.TemporaryDirectory()
        self.addCleanup(keep.cleanup)
        self.folder = Path(keep.name)
        for tile, colour in COLOURS.items():
            picture = np.full((4, 4, 3), colour, np.uint8)
            write_pixels(self.folder / f"paint.{tile}.png", picture)

    def obj(self, named: str) -> Scene:
        (self.folder / "w.mtl").write_text(MTL.format(named))
        (self.folder / "w.obj").write_text(obj_text())
        return open_scene(self.folder / "w.obj")

    def test_a_mark_and_the_number_of_the_first(self) -> None:
        for named in ("<UDIM>", "1001"):
            scene = self.obj(named)
            self.assertEqual(worn(scene), WANTED)
            self.assertEqual(len(scene.images), 4)
            self.assertEqual(sum(m.triangles for m in scene.meshes), 8)

    def test_a_tile_that_is_missing_is_told(self) -> None:
        (self.folder / "paint.1011.png").unlink()
        scene = self.obj("<UDIM>")
        self.assertEqual(worn(scene), WANTED | {(0, 1): (-1,)})
        self.assertIn("tile 1011", " ".join(n.text for n in scene.notes))

    def test_one_picture_of_such_a_name_is_a_picture(self) -> None:
        for tile in (1002, 1011, 1012):
            (self.folder / f"paint.{tile}.png").unlink()
        self.assertEqual(set(worn(self.obj("1001")).values()), {COLOURS[1001]})

    def test_whoever_names_all_tiles_means_a_picture_each(self) -> None:
        """Materials split by tile, whose places were moved back onto the first."""
        (self.folder / "w.mtl").write_text(
            "newmtl wall\nmap_Kd paint.1001.png\nnewmtl other\nmap_Kd paint.1002.png\n"
        )
        text = obj_text().replace("f 9/9", "usemtl other\nf 9/9")
        (self.folder / "w.obj").write_text(text)
        found = worn(open_scene(self.folder / "w.obj"))
        self.assertEqual(found[1, 0], COLOURS[1001])
        self.assertEqual(found[0, 1], COLOURS[1002])

    def test_usd_and_back(self) -> None:
        (self.folder / "w.usda").write_text(usda_text())
        scene = open_scene(self.folder / "w.usda")
        self.assertEqual(worn(scene), WANTED)
        packed = self.folder / "packed.glb"
        write_glb(scene, packed)
        out = self.folder / "out"
        out.mkdir()
        save_scene(open_scene(packed, own=True), out / "w.usda")
        text = (out / "w.usda").read_text()
        self.assertIn(".<UDIM>.png", text)
        self.assertEqual(text.count("def Mesh"), 1)
        self.assertEqual(worn(open_scene(out / "w.usda")), WANTED)

    def test_gltf(self) -> None:
        # The same floor as glTF with one picture, beside its siblings.
        write_glb(self.obj("1012"), self.folder / "one.glb")
        data = (self.folder / "one.glb").read_bytes()
        size = int.from_bytes(data[12:16], "little")
        root, binary = json.loads(data[20 : 20 + size]), data[28 + size :]
        root["images"] = [{"uri": "paint.1001.png"}]
        root["buffers"] = [{"uri": "w.bin", "byteLength": len(binary)}]
        (self.folder / "w.bin").write_bytes(binary)
        (self.folder / "w.gltf").write_text(json.dumps(root))
        scene = open_scene(self.folder / "w.gltf")
        self.assertEqual(worn(scene), WANTED)
        write_glb(scene, self.folder / "two.glb")
        self.assertEqual(worn(open_scene(self.folder / "two.glb")), WANTED)


class TestNumbers(unittest.TestCase):
    @given(st.integers(0, 9), st.integers(0, 20), st.floats(0.05, 0.9), st.floats(0.05, 0.9))
    def test_by_the_formula(self, column: int, row: int, x: float, y: float) -> None:
        """1001 + column + 10 rows; here V runs down."""
        u, v = column + x, 1.0 - (row + y)
        uvs = np.array([(u, v), (u + 0.02, v), (u, v - 0.02)], np.float32)
        found = tile_numbers(uvs, np.array([[0, 1, 2]], np.uint32), TextureUse(0))
        self.assertEqual(found.tolist(), [1001 + column + 10 * row])
