"""How long the server takes for a page while a render runs (small demo), against /healthz in the
same run.
"""

from __future__ import annotations

import json
import socket
import subprocess
import sys
import tempfile
import time
import urllib.error
import urllib.request
from typing import Any

STATIONS = ("scene", "machine", "fit", "trials", "trim", "finish")


def fetch(url: str, body: dict[str, Any] | None = None) -> float:
    data = json.dumps(body).encode() if body is not None else None
    request = urllib.request.Request(url, data, {"Content-Type": "application/json"})
    start = time.perf_counter()
    with urllib.request.urlopen(request, timeout=10) as answer:
        answer.read()
    return time.perf_counter() - start


def run() -> dict[str, Any]:
    with socket.socket() as s:
        s.bind(("127.0.0.1", 0))
        port = s.getsockname()[1]
    with tempfile.TemporaryDirectory() as home:
        server = subprocess.Popen(
            [
                sys.executable,
                "-m",
                "mill_lane.cli",
                "serve",
                "--demo",
                "small",
                "--home",
                home,
                "--port",
                str(port),
            ],
            stdout=subprocess.DEVNULL,
        )
        try:
            base = f"http://127.0.0.1:{port}"
            for _ in range(600):
                time.sleep(0.3)
                try:
                    with urllib.request.urlopen(f"{base}/jobs/1/scene", timeout=10) as answer:
                        if b"triangles" in answer.read():
                            break
                except (urllib.error.URLError, OSError):
                    pass
            fetch(
                f"{base}/api/jobs/1/trials",
                {"whole": "true", "samples": 4096, "width": 1920, "height": 1080},
            )
            time.sleep(3)
            times: dict[str, list[float]] = {}
            for _ in range(20):
                times.setdefault("healthz", []).append(fetch(f"{base}/healthz"))
                for s_ in STATIONS:
                    times.setdefault(s_, []).append(fetch(f"{base}/jobs/1/{s_}"))
        finally:
            server.terminate()
            server.wait(20)
    out: dict[str, Any] = {}
    for name, values in times.items():
        values.sort()
        out[f"{name}: median, ms"] = 1000 * values[len(values) // 2]
        out[f"{name}: slowest of {len(values)}, ms"] = 1000 * values[-1]
    return out
