"""Small files that ask for much: each is read in time proportional to its size, or refused."""

from __future__ import annotations

import json
import struct
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np

Root = dict[str, Any]
TRIANGLE = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], "<f4").tobytes()


def glb(root: Root, binary: bytes = TRIANGLE) -> bytes:
    """A GLB of a JSON document and its one buffer."""
    root = {"asset": {"version": "2.0"}, "buffers": [{"byteLength": len(binary)}], **root}
    text = json.dumps(root).encode()
    text += b" " * (-len(text) % 4)
    binary += b"\0" * (-len(binary) % 4)
    out = struct.pack("<4sII", b"glTF", 2, 28 + len(text) + len(binary))
    out += struct.pack("<II", len(text), 0x4E4F534A) + text
    return out + struct.pack("<II", len(binary), 0x004E4942) + binary


def plain(**more: Any) -> Root:
    """One triangle; what is given goes before."""
    root: Root = {
        "scenes": [{"nodes": [0]}],
        "nodes": [{"mesh": 0}],
        "meshes": [{"primitives": [{"attributes": {"POSITION": 0}}]}],
        "accessors": [{"bufferView": 0, "componentType": 5126, "count": 3, "type": "VEC3"}],
        "bufferViews": [{"buffer": 0, "byteLength": 36}],
    }
    return root | more


def chained_nodes(n: int = 60_000) -> bytes:
    """Each node is the child of the one before."""
    nodes: list[Root] = [{"children": [i + 1]} for i in range(n - 1)] + [{"mesh": 0}]
    return glb(plain(nodes=nodes))


def claimed_entries(n: int = 300_000_000) -> bytes:
    """Positions that are nowhere, so that all of them are 0."""
    return glb(plain(accessors=[{"componentType": 5126, "count": n, "type": "VEC3"}]))


def claimed_sparse(n: int = 300_000_000) -> bytes:
    """The same with one that is said to be elsewhere."""
    sparse = {
        "count": 1,
        "indices": {"bufferView": 0, "componentType": 5121},
        "values": {"bufferView": 0},
    }
    accessor = {"componentType": 5126, "count": n, "type": "VEC3", "sparse": sparse}
    return glb(plain(accessors=[accessor]))


def many_primitives(n: int = 20_000, vertices: int = 100_000) -> bytes:
    """A mesh of many parts that all use the same vertices."""
    data = np.random.default_rng(1).random((vertices, 3), np.float32)
    root = plain(
        meshes=[{"primitives": [{"attributes": {"POSITION": 0}} for _ in range(n)]}],
        accessors=[{"bufferView": 0, "componentType": 5126, "count": vertices, "type": "VEC3"}],
        bufferViews=[{"buffer": 0, "byteLength": data.nbytes}],
    )
    return glb(root, data.tobytes())


def many_small_primitives(n: int = 20_000) -> bytes:
    """A mesh of many parts of one triangle."""
    return glb(plain(meshes=[{"primitives": [{"attributes": {"POSITION": 0}}] * n}]))


def many_channels(n: int = 100_000, keys: int = 2000) -> bytes:
    """A node moved by many channels that share their times."""
    times, places = np.arange(keys, dtype="<f4"), np.zeros((keys, 3), "<f4")
    binary = TRIANGLE + times.tobytes() + places.tobytes()
    accessors = [
        {"bufferView": 0, "componentType": 5126, "count": 3, "type": "VEC3"},
        {"bufferView": 1, "componentType": 5126, "count": keys, "type": "SCALAR"},
        {"bufferView": 2, "componentType": 5126, "count": keys, "type": "VEC3"},
    ]
    at = 36 + times.nbytes
    views = [
        {"buffer": 0, "byteLength": 36},
        {"buffer": 0, "byteOffset": 36, "byteLength": times.nbytes},
        {"buffer": 0, "byteOffset": at, "byteLength": places.nbytes},
    ]
    channel = {"sampler": 0, "target": {"node": 0, "path": "translation"}}
    animation = {"samplers": [{"input": 1, "output": 2}], "channels": [channel] * n}
    return glb(plain(accessors=accessors, bufferViews=views, animations=[animation]), binary)


def deep_json(n: int = 200_000) -> bytes:
    """Brackets within brackets."""
    text = '{"asset":{"version":"2.0"},"extras":' + "[" * n + "]" * n + "}"
    data = text.encode() + b" " * (-len(text) % 4)
    head = struct.pack("<4sII", b"glTF", 2, 20 + len(data))
    return head + struct.pack("<II", len(data), 0x4E4F534A) + data


def many_meshes_of_one(n: int = 50_000) -> bytes:
    """As many nodes, each with a mesh of its own of the same triangle."""
    mesh = {"primitives": [{"attributes": {"POSITION": 0}}]}
    nodes = [{"mesh": i} for i in range(n)]
    return glb(plain(meshes=[mesh] * n, nodes=nodes, scenes=[{"nodes": list(range(n))}]))


def obj_groups(n: int = 60_000) -> bytes:
    """As many objects of one triangle."""
    lines = ["v 0 0 0", "v 1 0 0", "v 0 1 0"] * (n // 3)
    for i in range(n):
        a = i % (n - 3) + 1
        lines += [f"o part{i}", f"f {a} {a + 1} {a + 2}"]
    return "\n".join(lines).encode()


def obj_materials(n: int = 60_000) -> bytes:
    """The material changes with every triangle."""
    lines = ["v 0 0 0", "v 1 0 0", "v 0 1 0", "s 1"]
    for i in range(n):
        lines += [f"usemtl m{i}", "f 1 2 3"]
    return "\n".join(lines).encode()


def ply_header(
    rows: int, kind: str, body: bytes = b"", form: str = "binary_little_endian"
) -> bytes:
    """A PLY that claims so many rows of an element."""
    head = f"ply\nformat {form} 1.0\nelement vertex 3\nproperty float x\nproperty float y\n"
    head += f"property float z\nelement face {rows}\n{kind}\nend_header\n"
    return head.encode() + TRIANGLE + body


def ply_bomb() -> bytes:
    """Two thousand million faces in nothing."""
    return ply_header(2_000_000_000, "property list uchar int vertex_indices")


def ply_empty_rows() -> bytes:
    """Two thousand million rows of an element without properties."""
    return ply_header(2_000_000_000, "element other 2000000000")


def ply_text_bomb() -> bytes:
    """The same as text."""
    head = b"ply\nformat ascii 1.0\nelement vertex 2000000000\nproperty float x\nproperty float y\n"
    return (
        head
        + b"property float z\nelement face 2000000000\nproperty list uchar int vertex_indices\n"
        b"end_header\n0 0 0\n"
    )


def ply_long_face() -> bytes:
    """A face that says it has four thousand million corners."""
    kind = "property list uint int vertex_indices"
    return ply_header(2, kind, struct.pack("<I", 4_000_000_000) + b"\0" * 64)


def usd_references(levels: int = 9, each: int = 10) -> bytes:
    """A thing made of ten things, each made of ten, and so on."""
    text = '#usda 1.0\n(\n    defaultPrim = "l0"\n)\n'
    text += 'def Mesh "own"\n{\n    int[] faceVertexCounts = [3]\n'
    text += "    int[] faceVertexIndices = [0, 1, 2]\n"
    text += "    point3f[] points = [(0, 0, 0), (1, 0, 0), (0, 1, 0)]\n}\n"
    for level in range(levels):
        below = "/own" if level == 0 else f"/l{level - 1}"
        text += f'def "l{level}"\n{{\n' + "".join(
            f'    def "c{i}" ( prepend references = <{below}> ) {{ }}\n' for i in range(each)
        )
        text += "}\n"
    return text.encode()


def usd_chain(n: int = 3000) -> bytes:
    """Prims within prims."""
    return ("#usda 1.0\n" + 'def "a" {\n' * n + "}\n" * n).encode()


def usd_instancer(n: int = 3_000_000) -> bytes:
    """A point instancer whose numbers are said to be many, in few bytes."""
    return (
        '#usda 1.0\ndef PointInstancer "p" {\n    rel prototypes = </p/m>\n'
        f"    int[] protoIndices = [{', '.join(['0'] * 1000)}]\n"
        f"    point3f[] positions = [{', '.join(['(0, 0, 0)'] * 1000)}]\n"
        '    def Mesh "m" {\n        int[] faceVertexCounts = [2000000000]\n'
        "        int[] faceVertexIndices = [0, 1, 2]\n"
        "        point3f[] points = [(0, 0, 0), (1, 0, 0), (0, 1, 0)]\n    }\n}\n"
    ).encode()


FILES: dict[str, tuple[str, Callable[..., bytes]]] = {
    "chained nodes": (".glb", chained_nodes),
    "claimed entries": (".glb", claimed_entries),
    "claimed sparse entries": (".glb", claimed_sparse),
    "primitives that share vertices": (".glb", many_primitives),
    "small primitives": (".glb", many_small_primitives),
    "channels": (".glb", many_channels),
    "meshes of one triangle": (".glb", many_meshes_of_one),
    "deep JSON": (".glb", deep_json),
    "OBJ groups": (".obj", obj_groups),
    "OBJ materials": (".obj", obj_materials),
    "PLY faces": (".ply", ply_bomb),
    "PLY rows": (".ply", ply_empty_rows),
    "PLY text": (".ply", ply_text_bomb),
    "PLY corners": (".ply", ply_long_face),
    "USD references": (".usda", usd_references),
    "USD chain": (".usda", usd_chain),
    "USD instancer": (".usda", usd_instancer),
}


def write(folder: Path, name: str, count: int | None = None) -> Path:
    """Write one of them, of so many entries."""
    ending, make = FILES[name]
    path = folder / f"{name.replace(' ', '-')}{ending}"
    path.write_bytes(make() if count is None else make(count))
    return path
