"""Files that are damaged, from whole ones: by bytes, and by their structure."""

from __future__ import annotations

import base64
import copy
import io
import json
import struct
import zipfile
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import OpenImageIO as oiio

from mill_lane.core.formats.blob import Blob
from mill_lane.core.formats.opening import open_scene
from mill_lane.core.formats.pictures import encode
from mill_lane.core.formats.saving import save_scene
from mill_lane.core.formats.textures import image_of
from mill_lane.core.render.state import write_state
from mill_lane.core.scene.model import (
    Camera,
    Channel,
    Light,
    Material,
    Mesh,
    Node,
    Scene,
    Texture,
    TextureUse,
)
from mill_lane.core.scene.parts import part_of
from mill_lane.demo import shapes

FAR = 777.0  # where what lies outside stands, so that it is known again
LEVELS = 6  # of JSON that are looked into
NASTY: tuple[Any, ...] = (
    None,
    True,
    "",
    "x",
    "\ud800",
    "a\0b",
    "../outside/secret.glb",
    "../outside/secret.usda",
    [],
    {},
    [None],
    [[1]],
    -1,
    0,
    1,
    2**31,
    2**63,
    2**64 + 1,
    10**400,
    0.5,
    -0.0,
    1e308,
    float("nan"),
    float("inf"),
    "data:application/octet-stream;base64,AAAA",
    "data:,",
)
WORDS = (
    b"0",
    b"-1",
    b"1e999",
    b"nan",
    b"9" * 5000,
    b"\xff\xfe",
    b"\0",
    b"../outside/secret.obj",
    b"@../outside/secret.usda@",
    b"@secret.usda@",
    b'@`"${X}"`@',
    b"{",
    b"}",
    b"[",
    b"(",
    b"",
)


@dataclass(frozen=True)
class Seed:
    """A whole file; `text` tells that words in it can be exchanged."""

    ending: str
    data: bytes
    text: bool = False


def outside(folder: Path) -> Path:
    """A folder with scenes that nothing may read; returns it."""
    place = folder / "outside"
    place.mkdir()
    points = f"[({FAR}, 0, 0), ({FAR + 1}, 0, 0), ({FAR}, 1, 0)]"
    usd = '#usda 1.0\n(\n    defaultPrim = "s"\n    metersPerUnit = 1\n)\ndef Mesh "s"\n{\n'
    usd += "    int[] faceVertexCounts = [3]\n    int[] faceVertexIndices = [0, 1, 2]\n"
    (place / "secret.usda").write_text(f"{usd}    point3f[] points = {points}\n}}\n")
    (place / "secret.obj").write_text(f"v {FAR} 0 0\nv {FAR} 1 0\nv {FAR} 0 1\nf 1 2 3\n")
    return place


def seeds(scene: Path, folder: Path) -> dict[str, Seed]:
    """A small scene in every format that is read, as it is written here."""
    whole = open_scene(scene)
    few: dict[str, Seed] = {"glb": Seed(".glb", scene.read_bytes())}
    for ending in (".obj", ".usda", ".usdc", ".usdz", ".zip"):
        path = folder / f"seed{ending}"
        save_scene(whole, path)
        few[ending[1:]] = Seed(ending, path.read_bytes(), ending in (".obj", ".usda"))
    for ending in (".hdr", ".exr"):
        _sky(folder / f"sky{ending}")
        few[f"sky {ending[1:]}"] = Seed(ending, (folder / f"sky{ending}").read_bytes())
    write_state(
        folder / "seed.session",
        {"key": np.array("key"), "about": np.array("{}"), "film": np.zeros((8, 8), np.float32)},
    )
    few["session"] = Seed(".session", (folder / "seed.session").read_bytes())
    few["gltf"] = Seed(".gltf", _embedded(scene.read_bytes()), True)
    few["ply"] = Seed(".ply", _ply("binary_little_endian"))
    few["ply text"] = Seed(".ply", _ply("ascii"), True)
    few["stl"] = Seed(".stl", b"\0" * 80 + struct.pack("<I", 2) + b"\0" * 100)
    corners = "\n".join(f"vertex {i} {i * i} 1" for i in range(3))
    facet = f"facet normal 0 0 1\nouter loop\n{corners}\nendloop\nendfacet\n"
    few["stl text"] = Seed(".stl", f"solid a\n{facet * 3}endsolid a\n".encode(), True)
    return few


def small_scene() -> Scene:
    """A small scene with everything in it: textures, copies, lights, motion, a camera."""
    pixels = np.random.default_rng(1).integers(0, 255, (4, 4, 3)).astype(np.uint8)
    image = image_of(Blob.of(encode(pixels, "image/png")), "grain")
    textured = Material("loaf", base_texture=TextureUse(0), normal_texture=TextureUse(0))
    glass = Material("pane", transmission=1.0, emissive=(1.0, 0.5, 0.0))
    square = shapes.sheet(np.zeros(3), np.array([1.0, 0, 0]), np.array([0, 0, -1.0]))
    moving = Channel("translation", "LINEAR", np.array([0.0, 1.0]), np.eye(3)[:2])
    nodes = (
        Node("counter", mesh=0),
        Node("loaf", mesh=1, translation=(0.0, 1.0, 0.0), channels=(moving,)),
        Node("second loaf", mesh=1, parent=1),
        Node("camera", camera=0, translation=(0.0, 1.0, 5.0)),
        Node("lamp", light=0, translation=(0.0, 3.0, 0.0)),
        Node("spot", light=1, translation=(1.0, 3.0, 0.0)),
    )
    return Scene(
        "bakery",
        nodes=nodes,
        meshes=(Mesh("counter", (part_of(square, 0),)), Mesh("loaf", (part_of(square, 1),))),
        materials=(textured, glass),
        textures=(Texture("grain", 0),),
        images=(image,),
        lights=(Light("lamp", "point"), Light("spot", "spot", outer_cone=0.5)),
        cameras=(Camera("camera", 0.8, 1.5),),
        frames=(1, 25),
    )


def _sky(path: Path) -> None:
    pixels = np.random.default_rng(1).random((8, 16, 3), np.float32)
    out = oiio.ImageOutput.create(str(path))
    out.open(str(path), oiio.ImageSpec(16, 8, 3, "float"))
    out.write_image(pixels)
    out.close()


def _embedded(data: bytes) -> bytes:
    """The JSON of a GLB with its buffer in it."""
    length = struct.unpack("<I", data[12:16])[0]
    root = json.loads(data[20 : 20 + length])
    binary = base64.b64encode(data[28 + length :]).decode()
    root["buffers"][0]["uri"] = f"data:application/octet-stream;base64,{binary}"
    return json.dumps(root).encode()


def _ply(form: str) -> bytes:
    head = f"ply\nformat {form} 1.0\nelement vertex 4\n"
    head += "".join(f"property float {x}\n" for x in "xyz")
    head += "element face 2\nproperty list uchar int vertex_indices\nend_header\n"
    points = np.array([[0, 0, 0], [1, 0, 0], [1, 1, 0], [0, 1, 0]], "<f4")
    if form == "ascii":
        rows = "\n".join(" ".join(map(str, p)) for p in points)
        return f"{head}{rows}\n3 0 1 2\n3 0 2 3\n".encode()
    faces = b"".join(struct.pack("<Biii", 3, *f) for f in ((0, 1, 2), (0, 2, 3)))
    return head.encode() + points.tobytes() + faces


def mutated(seed: Seed, rng: np.random.Generator) -> bytes:
    """A damaged copy."""
    ways: list[Callable[[Seed, np.random.Generator], bytes]] = [_cut, _bytes, _moved]
    if seed.ending in (".glb", ".gltf"):
        ways = [_json, _json, _json, *ways]
    if seed.text:
        ways += [_words, _words, _lines]
    if seed.ending in (".zip", ".usdz"):
        ways.append(_packed)
    return ways[int(rng.integers(len(ways)))](seed, rng)


def _cut(seed: Seed, rng: np.random.Generator) -> bytes:
    return seed.data[: int(rng.integers(len(seed.data) + 1))]


def _bytes(seed: Seed, rng: np.random.Generator) -> bytes:
    data = bytearray(seed.data)
    # Most of a file is numbers: what says how they are to be read stands at its ends.
    span = len(data) if rng.random() < 0.5 else min(len(data), 2000)
    base = 0 if rng.random() < 0.7 else len(data) - span
    for _ in range(int(rng.integers(1, 20))):
        data[base + int(rng.integers(span))] = int(rng.integers(256))
    return bytes(data)


def _moved(seed: Seed, rng: np.random.Generator) -> bytes:
    a, b, n = (int(x) for x in rng.integers(len(seed.data), size=3))
    piece = seed.data[a : a + min(n, 5000)]
    keep = b if rng.random() < 0.5 else min(b + len(piece), len(seed.data))
    return seed.data[:b] + piece + seed.data[keep:]


def _words(seed: Seed, rng: np.random.Generator) -> bytes:
    words = seed.data.split(b" ")
    for _ in range(int(rng.integers(1, 4))):
        words[int(rng.integers(len(words)))] = WORDS[int(rng.integers(len(WORDS)))]
    return b" ".join(words)


def _lines(seed: Seed, rng: np.random.Generator) -> bytes:
    lines = seed.data.split(b"\n")
    at, to = (int(x) for x in rng.integers(len(lines), size=2))
    if rng.random() < 0.5:
        del lines[at : at + int(rng.integers(1, 5))]
    else:
        lines[to:to] = lines[at : at + 3] * int(rng.integers(1, 50))
    return b"\n".join(lines)


def _packed(seed: Seed, rng: np.random.Generator) -> bytes:
    """The same package with a member damaged, renamed or put twice."""
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(seed.data)) as a, zipfile.ZipFile(out, "w") as b:
        for info in a.infolist():
            data, name = a.read(info), info.filename
            if rng.random() < 0.4:
                data = mutated(Seed(Path(name).suffix, data, True), rng) if data else data
            if rng.random() < 0.1:
                name = ("../" * int(rng.integers(4))) + name
            b.writestr(name, data)
    return out.getvalue()


def _json(seed: Seed, rng: np.random.Generator) -> bytes:
    """The document with values in it exchanged, left out, or put elsewhere."""
    binary = b""
    if seed.ending == ".glb":
        length = struct.unpack("<I", seed.data[12:16])[0]
        text, binary = seed.data[20 : 20 + length], seed.data[20 + length :]
    else:
        text = seed.data
    try:
        root = json.loads(text)
    except ValueError:
        return _bytes(seed, rng)
    for _ in range(int(rng.integers(1, 4))):
        _change(root, rng)
    text = json.dumps(root).encode()
    if rng.random() < 0.02:
        text = text.replace(b"1", b"1" * 5000, 1)
    if seed.ending != ".glb":
        return text
    text += b" " * (-len(text) % 4)
    head = struct.pack("<4sII", b"glTF", 2, 20 + len(text) + len(binary))
    return head + struct.pack("<II", len(text), 0x4E4F534A) + text + binary


def _change(root: Any, rng: np.random.Generator) -> None:
    at = root
    for _ in range(LEVELS):
        keys: list[Any] = list(at) if isinstance(at, dict) else list(range(len(at)))
        if not keys:
            return
        key = keys[int(rng.integers(len(keys)))]
        inner = at[key]
        deeper = isinstance(inner, (dict, list)) and len(inner) > 0
        if deeper and rng.random() < 0.8:
            at = inner
            continue
        how = rng.random()
        if how < 0.15:
            del at[key]
        elif how < 0.3 and isinstance(inner, (int, float)):
            at[key] = inner * int(rng.integers(-2, 100_000))
        elif how < 0.35:
            deep: Any = 0
            for _ in range(int(rng.integers(1, 400))):
                deep = [deep]
            at[key] = deep
        else:
            at[key] = copy.deepcopy(NASTY[int(rng.integers(len(NASTY)))])
        return
