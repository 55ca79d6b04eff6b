"""Putting glTF files together by hand, right and wrong, and asking the Khronos validator."""

from __future__ import annotations

import json
import struct
import subprocess
from pathlib import Path
from typing import Any

import numpy as np

ROOT = Path(__file__).resolve().parent.parent
VALIDATE = """
const fs = require("fs"), validator = require("gltf-validator");
validator.validateBytes(new Uint8Array(fs.readFileSync(process.argv[1])), {maxIssues: 100})
  .then((r) => console.log(JSON.stringify(r.issues)), (e) => console.log(JSON.stringify({numErrors:
  1, messages: [String(e)]})));
"""


def validate(path: Path) -> dict[str, Any]:
    """The Khronos validator's issues for a GLB."""
    done = subprocess.run(
        ["node", "-e", VALIDATE, str(path)],
        cwd=ROOT / "frontend",
        capture_output=True,
        text=True,
        check=True,
        timeout=120,
    )
    issues: dict[str, Any] = json.loads(done.stdout)
    return issues


def glb(document: dict[str, Any], binary: bytes = b"") -> bytes:
    text = json.dumps(document).encode()
    text += b" " * (-len(text) % 4)
    binary += b"\0" * (-len(binary) % 4)
    tail = struct.pack("<II", len(binary), 0x004E4942) + binary if binary else b""
    total = 12 + 8 + len(text) + len(tail)
    return (
        struct.pack("<4sII", b"glTF", 2, total)
        + struct.pack("<II", len(text), 0x4E4F534A)
        + text
        + tail
    )


TRIANGLE = np.array([[0, 0, 0], [1, 0, 0], [0, 1, 0]], "<f4")


def triangle(**more: Any) -> tuple[dict[str, Any], bytes]:
    """A document with one triangle and nothing else."""
    document: dict[str, Any] = {
        "asset": {"version": "2.0"},
        "scenes": [{"nodes": [0]}],
        "nodes": [{"mesh": 0}],
        "meshes": [{"primitives": [{"attributes": {"POSITION": 0}}]}],
        "accessors": [
            {
                "bufferView": 0,
                "componentType": 5126,
                "count": 3,
                "type": "VEC3",
                "min": [0, 0, 0],
                "max": [1, 1, 0],
            }
        ],
        "bufferViews": [{"buffer": 0, "byteLength": 36}],
        "buffers": [{"byteLength": 36}],
    }
    return document | more, TRIANGLE.tobytes()


def npm_mesh(name: str) -> tuple[np.ndarray, np.ndarray]:
    """Positions and triangles of a mesh that is an npm package."""
    code = f"process.stdout.write(JSON.stringify(require({name!r})))"
    done = subprocess.run(
        ["node", "-e", code], cwd=ROOT / "frontend", capture_output=True, check=True
    )
    mesh = json.loads(done.stdout)
    return np.array(mesh["positions"], np.float32), np.array(mesh["cells"], np.uint32)
