"""Whatever a file that is sent is called, and whatever stands in the headers beside it, the answer
is no 5xx, and nothing of it stays.
"""

from __future__ import annotations

import io
from typing import Any

import numpy as np
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from PIL import Image
from sqlalchemy import select

from mill_lane.core.errors import MillError
from mill_lane.core.formats.film_rates import check_rate
from mill_lane.core.names import LONGEST, short_name
from mill_lane.store.models import Render
from mill_lane.work.kinds.deliver import Payload
from tests.web.case import WebCase

ODD = (
    "a.\0",
    "\0",
    "a." + "b" * 300,
    "x" * 400 + ".glb",
    "." * 300,
    "a\x1b.glb",
    "../../a.\0glb",
    "a.glb/..",
    "con.glb",
    "\u202egnp.glb",
    "a\nb.hdr",
    "%00",
    "a.ä" * 90,
    " ",
    "",
    "a/\\",
    "\ud800.glb",
)
NAMES = st.sampled_from(ODD) | st.text(max_size=40) | st.text(min_size=250, max_size=320)
LINES = st.text(st.characters(min_codepoint=32, max_codepoint=255), max_size=30)
HEADERS = st.dictionaries(
    st.sampled_from(["content-type", "accept", "range", "if-range", "content-encoding", "x-name"]),
    LINES | st.sampled_from(["bytes=9-1", "bytes=-", "a/b; charset=\x80", "text/html", "*/*"]),
    max_size=3,
)
BODIES = st.sampled_from([b"", b"x", b"\x89PNG", b"glTF", b"#?RADIANCE\n", b"PK\x03\x04"])
ANYTHING: Any = {"max_examples": 80, "deadline": None, "suppress_health_check": list(HealthCheck)}
UPLOADS = ("scenes", "jobs/1/sky", "jobs/1/sessions", "trials/1/mask")


class TestNames(WebCase):
    def send(self, what: str, name: str, body: bytes, headers: dict[str, str]) -> int:
        raw = {k: v.encode("latin-1") for k, v in headers.items()}
        try:
            params = {"name": name.encode("utf-8", "surrogatepass")}
        except UnicodeEncodeError:
            params = {"name": "x"}
        answer = self.client.post(f"/api/{what}", params=params, content=body, headers=raw)
        self.assertLess(answer.status_code, 500, (what, name, headers, answer.text[:300]))
        if answer.status_code >= 400:
            self.assertTrue(answer.json().get("error") or answer.json().get("hint"), answer.text)
        return answer.status_code

    def test_odd_names(self) -> None:
        """Each of them, to each place that takes files: told apart, and nothing is left of it."""
        for what in UPLOADS:
            for name in ODD:
                with self.subTest(what=what, name=name[:20]):
                    self.send(what, name, b"x" * 64, {})
        kept = [p.name for p in self.home.scratch.iterdir() if not p.name.startswith("upload-")]
        self.assertEqual([n for n in kept if not n.startswith(("task-", "demo"))], [])

    def test_fuzzed(self) -> None:
        @settings(**ANYTHING)
        @given(what=st.sampled_from(UPLOADS), name=NAMES, body=BODIES, headers=HEADERS)
        def anything(what: str, name: str, body: bytes, headers: dict[str, str]) -> None:
            self.send(what, name, body, headers)

        anything()

    def test_what_is_read(self) -> None:
        """Headers of what is only read, and names in addresses."""
        paths = ("/", "/jobs/1/scene.glb", "/jobs/1/trials", "/files/x.png", "/jobs/1/scene.csv")

        @settings(**ANYTHING)
        @given(path=st.sampled_from(paths), headers=HEADERS, query=NAMES)
        def anything(path: str, headers: dict[str, str], query: str) -> None:
            raw = {k: v.encode("latin-1") for k, v in headers.items()}
            named = query.encode("utf-8", "replace")
            found = self.client.get(path, headers=raw, params={"save": named, "q": named})
            self.assertLess(found.status_code, 500, (path, headers, query))

        anything()

    def test_a_mask_with_an_odd_name(self) -> None:
        """A good picture is taken whatever it is called."""
        self.done("PUT", "/api/jobs/1/device", json={"device": 1})
        self.done("POST", "/api/jobs/1/trials", json={"note": ""})
        with self.home.sessions() as db:
            trial = db.scalars(select(Render)).one()
        out = io.BytesIO()
        Image.fromarray(
            np.full((trial.recipe["height"], trial.recipe["width"]), 255, np.uint8)
        ).save(out, "PNG")
        for name in ("a.\0", "m." + "p" * 300):
            path = f"/api/trials/{trial.id}/mask"
            answer = self.client.post(path, params={"name": name}, content=out.getvalue())
            self.assertEqual(answer.status_code, 200, answer.text)


class TestShortNames(WebCase):
    def test_what_is_left(self) -> None:
        self.assertEqual(short_name("C:\\scenes\\shop.glb", "scene"), "shop.glb")
        self.assertEqual(short_name("a.\0glb", "scene"), "a.glb")
        self.assertEqual(short_name("..", "scene"), "scene")
        self.assertEqual(len(short_name("x" * 900 + ".glb", "scene")), LONGEST)
        self.assertTrue(short_name("x" * 900 + ".glb", "scene").endswith(".glb"))

        @given(st.text(max_size=500))
        def any_name(name: str) -> None:
            short = short_name(name, "scene")
            self.assertTrue(0 < len(short) <= LONGEST and short.isprintable() and "/" not in short)

        any_name()

    def test_rates_of_films(self) -> None:
        for rate in (0.0, -1.0, 1e9, float("nan"), float("inf")):
            with self.assertRaises(MillError):
                check_rate(rate)
            with self.assertRaises(ValueError):
                Payload(run=1, what="film.mp4", rate=rate)
