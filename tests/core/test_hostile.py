"""Small files that ask for much: read in time, or refused with the limit named.

No times are compared; one that is read in the square of its size would be noticed all the same.
"""

from __future__ import annotations

import resource
import subprocess
import sys
import unittest.mock
import zipfile
from pathlib import Path

from mill_lane.core.disk import amount
from mill_lane.core.errors import MillError
from mill_lane.core.formats import unpack
from mill_lane.core.formats.gltf import write_glb
from mill_lane.core.formats.opening import check_vertices, open_scene
from tests import hostile
from tests.core.test_gltf import Folder

# What each is refused for; the others are read.
REFUSED = {
    "claimed entries": "64 MB",
    "claimed sparse entries": "64 MB",
    "primitives that share vertices": "20,800,000",
    "deep JSON": "recursion",
    "PLY faces": "ends within",
    "PLY rows": "no faces",
    "PLY text": "ends within",
    "PLY corners": "impossible number",
    "USD references": "500,000",
    "USD chain": "no mesh",
    "USD instancer": "2,000,000,000",
}
LONGEST = 300  # seconds: many times what all of them take
# Smaller than the bench's, for the sake of time.
FEWER = {
    "chained nodes": 6_000,
    "small primitives": 2_000,
    "channels": 10_000,
    "meshes of one triangle": 2_000,
    "OBJ groups": 2_100,
    "OBJ materials": 2_100,
}


class TestHostile(Folder):
    def test_each_is_read_or_refused(self) -> None:
        paths = {n: hostile.write(self.folder, n, FEWER.get(n)) for n in hostile.FILES}
        code = (
            "import sys; from pathlib import Path; from tests.core.test_hostile import read\n"
            "for name in sys.argv[1:]: read(Path(name))"
        )
        given = [str(p) for p in paths.values()]
        done = subprocess.run(
            [sys.executable, "-W", "ignore", "-c", code, *given],
            capture_output=True,
            text=True,
            timeout=LONGEST,
            check=False,
        )
        self.assertEqual(done.returncode, 0, done.stderr[-800:])
        said = dict(zip(paths, done.stdout.splitlines(), strict=True))
        for name in paths:
            with self.subTest(name):
                if name in REFUSED:
                    self.assertIn("refused", said[name])
                    self.assertIn(REFUSED[name], said[name])
                else:
                    self.assertEqual(said[name], "read")

    def test_a_circle_of_nodes(self) -> None:
        nodes = [{"children": [1]}, {"children": [2]}, {"children": [0]}, {"mesh": 0}]
        path = self.file(hostile.glb(hostile.plain(nodes=nodes)), "circle.glb")
        with self.assertRaises(MillError) as caught:
            open_scene(path)
        self.assertIn("its own ancestor", caught.exception.message)

    def test_of_channels_that_move_the_same_the_last_counts(self) -> None:
        scene = open_scene(self.file(hostile.many_channels(3, 4), "few.glb"))
        self.assertEqual(len(scene.nodes[0].channels), 1)


def read(path: Path) -> None:
    """Read, check and write a file as an upload is, with 3 GB of memory."""
    resource.setrlimit(resource.RLIMIT_DATA, (3 * 10**9, resource.RLIM_INFINITY))
    try:
        scene = open_scene(path)
        check_vertices(scene)
        write_glb(scene, path.with_name("written.glb"))
        print("read", flush=True)
    except MillError as e:
        print("refused:", " ".join(f"{e.message} {e.hint}".split()), flush=True)


class TestZips(Folder):
    def zipped(self, *members: tuple[str, bytes]) -> Path:
        path = self.folder / "x.zip"
        with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as z:
            for name, data in members:
                z.writestr(name, data)
        return path

    def refused(self, path: Path) -> str:
        with self.assertRaises(MillError) as caught:
            open_scene(path)
        self.assertTrue(caught.exception.hint)
        return caught.exception.message

    def test_what_unpacks_to_far_more_than_it_is(self) -> None:
        """230 MB of zeros in 0.2 MB: over 200 times."""
        said = self.refused(self.zipped(("a.obj", bytes(230_000_000))))
        self.assertIn("200 times", said)

    def test_what_the_disk_has_no_room_for(self) -> None:
        path = self.zipped(("a.obj", b"v 0 0 0\n" * 1000))
        with unittest.mock.patch.object(unpack, "check_room") as check:
            check.side_effect = MillError("needs 8 kB, 1 kB free", "Make room.")
            self.assertIn("needs 8 kB", self.refused(path))
        self.assertEqual(check.call_args.args[1], 8000)

    def test_bytes_in_words(self) -> None:
        said = [amount(n) for n in (1_200_000_000, 340_000_000, 12_300, 0)]
        self.assertEqual(said, ["1.2 GB", "340 MB", "12.3 kB", "0 kB"])


class TestUnforeseen(Folder):
    """Shapes that no exporter writes; each is refused with a hint, none is an error of ours."""

    def test_documents(self) -> None:
        strange = {
            "a bufferView that is no object": {"bufferViews": [7]},
            "null lengths": {"bufferViews": [{"buffer": 0, "byteLength": None}]},
            "nodes that are no list": {"nodes": {"mesh": 0}},
            "a mesh without parts": {"meshes": [{}]},
            "a number of 5,000 digits": {"extras": 10**400},
            "an index beyond 2^63": {"scene": 2**70},
            "a count that is text": {
                "accessors": [{"bufferView": 0, "componentType": 5126, "count": "3", "type": "V"}]
            },
            "infinite numbers": {"nodes": [{"mesh": 0, "scale": [1e308 * 10, 1, 1]}]},
        }
        for name, more in strange.items():
            with self.subTest(name):
                path = self.file(hostile.glb(hostile.plain(**more)), "x.glb")
                with self.assertRaises(MillError) as caught:
                    check_vertices(open_scene(path))
                self.assertTrue(caught.exception.hint)

    def test_a_number_of_thousands_of_digits(self) -> None:
        data = hostile.glb(hostile.plain(extras={"n": 123456789}))
        text = data.replace(b"123456789", b"9" * 9)
        path = self.file(text, "nine.glb")
        open_scene(path)
        root = b'{"asset":{"version":"2.0"},"extras":' + b"1" * 5000 + b"}"
        with self.assertRaises(MillError) as caught:
            open_scene(self.file(root, "x.gltf"))
        self.assertIn("JSON cannot be read", caught.exception.message)

    def test_text_that_no_file_holds_is_put_right(self) -> None:
        """Halves of characters and NUL in names: they come in, and go out again."""
        for name in ("a\ud800b", "a\0b"):
            with self.subTest(repr(name)):
                root = hostile.plain(nodes=[{"mesh": 0, "name": name}])
                path = self.file(hostile.glb(root), "x.glb")
                scene = open_scene(path)
                self.assertEqual(scene.nodes[0].name, "a\ufffdb")
                write_glb(scene, self.folder / "out.glb")
                self.assertEqual(open_scene(self.folder / "out.glb").nodes[0].name, "a\ufffdb")

    def test_deep_extras(self) -> None:
        deep: list[object] = []
        for _ in range(300):
            deep = [deep]
        path = self.file(hostile.glb(hostile.plain(extras=deep)), "x.glb")
        with self.assertRaises(MillError) as caught:
            open_scene(path)
        self.assertIn("64 levels", caught.exception.message)
