"""Nothing outside a stage's folder comes in, by whatever construct it is named.

The constructs are those of the OpenUSD documentation: composition arcs, variable expressions,
sublayers, search paths, value clips and their templates, packages, links.
"""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np
from pxr import Usd, UsdGeom

from mill_lane.core.errors import MillError
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.formats.usd.read import read_stage
from mill_lane.core.scene.model import Scene
from mill_lane.core.scene.pose import world_matrices
from tests.core.test_usd import UsdCase, quad
from tests.thorough import EVERYTHING

FAR = 777.0  # where what is secret stands, so that it is known again
HEAD = """#usda 1.0
({top}
    metersPerUnit = 1
    defaultPrim = "own"
)
def Mesh "own"
{{
    int[] faceVertexCounts = [3]
    int[] faceVertexIndices = [0, 1, 2]
    point3f[] points = [(0, 0, 0), (1, 0, 0), (0, 1, 0)]
}}
"""
CLIPPED = """def Mesh "moving" (
    clips = {{
        dictionary default = {{
            {which}
            asset manifestAssetPath = @{manifest}@
            string primPath = "/secret"
            double2[] active = [(1, 0)]
            double2[] times = [(1, 1), (2, 2)]
        }}
    }}
)
{{
    int[] faceVertexCounts = [3]
    int[] faceVertexIndices = [0, 1, 2]
    point3f[] points = [(0, 0, 0), (1, 0, 0), (0, 1, 0)]
    double3 xformOp:translate
    uniform token[] xformOpOrder = ["xformOp:translate"]
}}
"""


class TestOutside(UsdCase):
    def setUp(self) -> None:
        super().setUp()
        keep = tempfile.TemporaryDirectory()
        self.addCleanup(keep.cleanup)
        self.other = Path(keep.name).resolve()
        stage = Usd.Stage.CreateNew(str(self.other / "secret.usda"))
        UsdGeom.SetStageMetersPerUnit(stage, 1.0)
        mesh = quad(stage, "/secret")
        move = UsdGeom.Xformable(mesh).AddTranslateOp()
        for frame in (1, 2):
            move.Set((FAR, 0, 0), frame)
        move.Set((FAR, 0, 0))
        stage.SetDefaultPrim(stage.GetPrimAtPath("/secret"))
        stage.Save()
        stage.Export(str(self.other / "secret.1.usda"))

    def constructs(self) -> dict[str, str]:
        """Files that name what lies outside, by what they do it with."""
        here, up = str(self.other), os.path.relpath(self.other, self.folder.resolve())
        var = f'\n    expressionVariables = {{ string WHERE = "{here}" }}'
        expression = '`"${WHERE}/secret.usda"`'
        over = 'over "x" (\n    prepend {arc} = @{asset}@{more}\n) {{ }}\n'.format
        frames = "\n    startTimeCode = 1\n    endTimeCode = 2"
        paths = f"asset[] assetPaths = [@{here}/secret.usda@]"
        template = (
            f'string templateAssetPath = "{here}/secret.#.usda"\n'
            "double templateStartTime = 1\ndouble templateEndTime = 2\ndouble templateStride = 1"
        )
        plain = HEAD.format(top="")
        return {
            "reference": plain + over(arc="references", asset=f"{here}/secret.usda", more=""),
            "reference up": plain + over(arc="references", asset=f"{up}/secret.usda", more=""),
            "payload": plain + over(arc="payload", asset=f"{here}/secret.usda", more=""),
            "bare name": plain + over(arc="references", asset="secret.usda", more=""),
            "sublayer": HEAD.format(top=f"\n    subLayers = [@{here}/secret.usda@]"),
            "bare sublayer": HEAD.format(top="\n    subLayers = [@secret.usda@]"),
            "expression reference": HEAD.format(top=var)
            + over(arc="references", asset=expression, more=""),
            "expression payload": HEAD.format(top=var)
            + over(arc="payload", asset=expression, more=""),
            "expression sublayer": HEAD.format(top=f"{var}\n    subLayers = [@{expression}@]"),
            "variant": plain
            + 'def "v" (\n    variants = { string a = "b" }\n    prepend variantSets = "a"\n)\n{\n'
            + '    variantSet "a" = { "b" '
            + f"( prepend references = @{here}/secret.usda@ ) {{ }} }}\n}}\n",
            "clips": HEAD.format(top=frames)
            + CLIPPED.format(which=paths, manifest=f"{here}/secret.usda"),
            "clip template": HEAD.format(top=frames)
            + CLIPPED.format(which=template, manifest=f"{here}/secret.usda"),
            "package": plain
            + over(arc="references", asset=f"{here}/secret.usdz[secret.usda]", more=""),
            "link": plain + over(arc="references", asset="./link.usda", more=""),
            "link of a folder": plain + over(arc="references", asset="./far/secret.usda", more=""),
        }

    def assert_own_alone(self, scene: Scene) -> None:
        """Nothing stands where the secret does, at any frame."""
        for frame in range(scene.frames[0], scene.frames[1] + 1):
            places = world_matrices(scene, scene.seconds(frame))[:, :3, 3]
            self.assertLess(float(np.abs(places).max()), FAR / 2)

    def written(self, name: str, text: str) -> Path:
        path = self.folder / f"{name.replace(' ', '-')}.usda"
        path.write_text(text)
        for link, target in (("link.usda", self.other / "secret.usda"), ("far", self.other)):
            if not (self.folder / link).is_symlink():
                (self.folder / link).symlink_to(target)
        return path

    def test_the_secret_would_be_seen(self) -> None:
        """Beside the scene each of these is taken along: what is refused below does work."""
        with self.assertRaises(AssertionError):
            self.assert_own_alone(open_scene(self.other / "secret.usda"))

    def test_in_a_process_that_is_shut_in(self) -> None:
        """Every third way out; in all of the checks each: a process takes two seconds to start."""
        before = os.getcwd()
        os.chdir(self.other)  # where a bare name would be found
        self.addCleanup(os.chdir, before)
        for name, text in list(self.constructs().items())[:: 1 if EVERYTHING else 3]:
            with self.subTest(name):
                try:
                    scene = open_scene(self.written(name, text))
                except MillError as e:
                    self.assertTrue(e.hint)
                else:
                    self.assert_own_alone(scene)

    def test_where_nothing_shuts_it_in(self) -> None:
        """What was opened is looked at before anything is kept."""
        before = os.getcwd()
        os.chdir(self.other)
        self.addCleanup(os.chdir, before)
        for name, text in self.constructs().items():
            with self.subTest(name):
                try:
                    scene = read_stage(self.written(name, text))
                except MillError as e:
                    self.assertTrue(e.hint)
                else:
                    self.assert_own_alone(scene)

    def test_bare_names_are_found_beside_the_scene(self) -> None:
        (self.folder / "secret.usda").write_bytes((self.other / "secret.usda").read_bytes())
        path = self.written("bare name", self.constructs()["bare name"])
        self.assertEqual(len(open_scene(path).instances), 2)

    def test_expressions_within_the_folder_work(self) -> None:
        (self.folder / "secret.usda").write_bytes((self.other / "secret.usda").read_bytes())
        top = '\n    expressionVariables = { string WHERE = "secret" }'
        text = HEAD.format(top=top) + (
            'over "x" ( prepend references = @`"./${WHERE}.usda"`@ ) { }\n'
        )
        self.assertEqual(len(open_scene(self.written("inside", text)).instances), 2)

    def test_the_process_sees_no_other_file(self) -> None:
        """Asked plainly: of three files the one beside the scene is read, and one is written."""
        if not _can_confine():
            self.skipTest("this system cannot shut a process in")
        code = (
            "import sys; from pathlib import Path\n"
            "from mill_lane.core.formats.usd.confine import confine\n"
            "a, b, c = map(Path, sys.argv[1:])\n"
            "assert confine([a.parent], [c.parent])\n"
            "a.read_text(); (c.parent / 'made').write_text('x')\n"
            "import socket\n"
            "for wrong in (b.read_text, lambda: b.write_text('x'), lambda: a.write_text('x'),\n"
            "              lambda: socket.create_server(('127.0.0.1', 0)),\n"
            "              lambda: Path('/etc/passwd').read_text()):\n"
            "    try: wrong()\n"
            "    except PermissionError: continue\n"
            "    raise SystemExit('it could')\n"
        )
        (self.folder / "a").write_text("x")
        (self.folder / "out").mkdir()
        given = [self.folder / "a", self.other / "secret.usda", self.folder / "out" / "c"]
        done = subprocess.run(
            [sys.executable, "-P", "-c", code, *map(str, given)],
            cwd=self.other,
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual(done.returncode, 0, done.stderr)

    def test_what_is_multiplied_beyond_measure_is_refused(self) -> None:
        """Eight levels of ten references each, in 2 kB: a hundred million objects."""
        text = HEAD.format(top="")
        for level in range(8):
            below = "/own" if level == 0 else f"/l{level - 1}"
            text += f'def "l{level}"\n{{\n' + "".join(
                f'    def "c{i}" ( prepend references = <{below}> ) {{ }}\n' for i in range(10)
            )
            text += "}\n"
        with self.assertRaises(MillError) as caught:
            open_scene(self.written("many", text))
        self.assertIn("500,000", caught.exception.message)


def _can_confine() -> bool:
    code = (
        "from mill_lane.core.formats.usd.confine import confine; "
        "raise SystemExit(not confine([], []))"
    )
    return subprocess.run([sys.executable, "-c", code], check=False).returncode == 0
