"""Whatever is sent, the answer is no 5xx: every POST and PUT of our own OpenAPI document, every
query.
"""

from __future__ import annotations

import json
from typing import Any

from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.web.case import STATIONS, WebCase

VALUES = (
    st.none()
    | st.booleans()
    | st.integers()
    | st.floats()
    | st.text(max_size=5)
    | st.lists(st.integers() | st.text(max_size=3), max_size=2)
    | st.sampled_from(["true", "1", "-1", "1e999", "NaN", "image:0", "a,b", "../x"])
)
NUMBERS = st.sampled_from([0, 1, 2, 99, -1, 2**63, 2**64])
QUERIES = (
    "tab",
    "sort",
    "turned",
    "q",
    "mesh",
    "image",
    "shade",
    "frame",
    "edit",
    "removed",
    "profile",
    "width",
    "height",
    "layers",
    "flight",
    "tile",
    "lend",
    "denoise",
    "a",
    "b",
    "crop",
    "hide",
    "role",
    "layer",
    "panel",
    "division",
    "rule",
    "trim",
    "run",
    "version",
)
PAGES = (
    "/",
    "/healthz",
    *(f"/jobs/1/{s}" for s in STATIONS),
    "/jobs/1/scene.csv",
    "/jobs/1/scene.glb",
    "/jobs/1/overlap.png",
)
ANYTHING: Any = {
    "max_examples": 120,
    "deadline": None,
    "suppress_health_check": list(HealthCheck),
}


class TestAnythingIsAnswered(WebCase):
    def changes(self) -> list[tuple[str, str, tuple[str, ...]]]:
        """Every change that the OpenAPI document lists: method, path, names of its fields."""
        document = self.client.get("/openapi.json").json()
        schemas = document["components"]["schemas"]
        out = []
        for path, methods in document["paths"].items():
            for method, said in methods.items():
                if method not in ("post", "put", "delete"):
                    continue
                content = said.get("requestBody", {}).get("content", {})
                schema = content.get("application/json", {}).get("schema", {})
                named = schemas.get(schema.get("$ref", "").rsplit("/", 1)[-1], schema)
                fields = tuple(named.get("properties", {}))
                out.append((method, path, fields or ("width", "samples", "noise_percent")))
        return out

    @settings(**ANYTHING)
    @given(st.data())
    def test_changes(self, data: st.DataObject) -> None:
        method, path, fields = data.draw(st.sampled_from(self.changes()))
        for name in ("job", "device", "trial", "task", "profile"):
            path = path.replace(f"{{{name}}}", str(data.draw(NUMBERS)))
        path = path.replace("{role}", data.draw(st.sampled_from(["draft", "final", "x"])))
        body = data.draw(st.dictionaries(st.sampled_from(fields), VALUES))
        answer = self.client.request(
            method,
            path,
            params={"name": data.draw(st.sampled_from(["a.glb", "a.hdr", "x", ""]))},
            content=json.dumps(body),
            headers={"content-type": "application/json"},
        )
        self.assertLess(answer.status_code, 500, (method, path, body, answer.text))

    @settings(**ANYTHING)
    @given(
        st.sampled_from(PAGES),
        st.dictionaries(st.sampled_from(QUERIES), st.text(max_size=6) | NUMBERS),
    )
    def test_queries(self, path: str, query: dict[str, Any]) -> None:
        answer = self.client.get(path, params=query, headers={"accept": "text/html"})
        self.assertLess(answer.status_code, 500, (path, query, answer.text[-300:]))

    def test_every_change_is_tried(self) -> None:
        """The document lists what pages ask for, so that nothing is left out above."""
        paths = {path for _, path, _ in self.changes()}
        self.assertGreater(len(paths), 25)
        self.assertIn("/api/jobs/{job}/trim-list", paths)
