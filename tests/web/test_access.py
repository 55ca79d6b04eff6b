"""Beyond this computer: names that are answered to, and the password (OWASP ASVS 5, V6, V7)."""

from __future__ import annotations

import re
from typing import Any
from unittest import mock

from fastapi.testclient import TestClient

from mill_lane import serve
from mill_lane.core.errors import MillError
from mill_lane.web.app import create_app
from mill_lane.web.shared import access
from mill_lane.web.shared.settings import LOCAL, Settings
from tests.web.case import WebCase

TOKEN = "a-long-password-of-the-test"
HTML = {"accept": "text/html"}


class TestPassword(WebCase):
    def setUp(self) -> None:
        super().setUp()
        patched = mock.patch.object(access, "WRONG_SECONDS", 0.0)
        patched.start()
        self.addCleanup(patched.stop)

    def from_host(self, host: str) -> TestClient:
        settings = Settings(self.home, None, (*LOCAL, "192.0.2.7"), TOKEN)
        return TestClient(
            create_app(settings), base_url="http://192.0.2.7:8410", client=(host, 5000)
        )

    def test_it_is_asked_for(self) -> None:
        client = self.from_host("192.0.2.9")
        page = client.get("/", headers=HTML)
        self.assertEqual(page.status_code, 401)
        self.assertIn("password", page.text)
        self.assertNotIn("bakery", page.text)
        self.assertIn("content-security-policy", page.headers)
        for method, path in (
            ("GET", "/jobs/1/scene"),
            ("GET", "/jobs/1/scene.glb"),
            ("GET", "/events"),
            ("GET", "/healthz"),
            ("GET", "/openapi.json"),
            ("POST", "/api/jobs/1/trials"),
            ("POST", "/api/scenes?name=a.glb"),
        ):
            self.assertEqual(client.request(method, path).status_code, 401, path)

    def test_the_address_that_is_printed_lets_in(self) -> None:
        client = self.from_host("192.0.2.9")
        answer = client.get(f"/?password={TOKEN}&removed=3", headers=HTML, follow_redirects=False)
        self.assertEqual((answer.status_code, answer.headers["location"]), (303, "/?removed=3"))
        said = answer.headers["set-cookie"].lower()
        self.assertIn("httponly", said)
        self.assertIn("samesite=strict", said)
        self.assertEqual(client.get("/", headers=HTML).status_code, 200)
        self.assertEqual(client.get("/jobs/1/scene", headers=HTML).status_code, 200)

    def test_the_form_lets_in(self) -> None:
        client = self.from_host("192.0.2.9")
        wrong = client.post("/enter", data={"password": "guess"}, headers=HTML)
        self.assertEqual(wrong.status_code, 401)
        self.assertIn("another one", wrong.text)
        self.assertEqual(client.get("/", headers=HTML).status_code, 401)
        right = client.post(
            "/enter", data={"password": TOKEN}, headers=HTML, follow_redirects=False
        )
        self.assertEqual((right.status_code, right.headers["location"]), (303, "/"))
        self.assertEqual(client.get("/", headers=HTML).status_code, 200)

    def test_what_is_wrong_stays_out(self) -> None:
        for given in ("", "a", TOKEN[:-1], TOKEN + "x", TOKEN.upper(), "\u00e9"):
            client = self.from_host("192.0.2.9")
            client.cookies.set(access.COOKIE, given.encode("ascii", "replace").decode())
            self.assertEqual(client.get("/", headers=HTML).status_code, 401, given)
            answer = client.get("/", params={"password": given}, headers=HTML)
            self.assertEqual(answer.status_code, 401, given)
        long = self.from_host("192.0.2.9").post("/enter", content=b"x" * 5000)
        self.assertEqual(long.status_code, 413)

    def test_nobody_is_led_elsewhere(self) -> None:
        client = self.from_host("192.0.2.9")
        answer = client.get(f"//evil.example/x?password={TOKEN}", follow_redirects=False)
        self.assertEqual(answer.status_code, 303)
        self.assertTrue(re.match(r"^/[^/]", answer.headers["location"]))

    def test_this_computer_is_let_in(self) -> None:
        for host in ("127.0.0.1", "127.0.0.9", "::1", "::ffff:127.0.0.1"):
            self.assertEqual(self.from_host(host).get("/", headers=HTML).status_code, 200, host)
        for host in ("192.0.2.9", "10.0.0.1", "::2", "nonsense"):
            self.assertEqual(self.from_host(host).get("/", headers=HTML).status_code, 401, host)


class TestNames(WebCase):
    def test_all_addresses_answer_to_their_names(self) -> None:
        """`--host 0.0.0.0`: this computer's addresses and name, and nobody else's."""
        names = serve.names_of("0.0.0.0")
        self.assertIn("127.0.0.1", names)
        self.assertGreater(len(names), len(LOCAL))
        client = TestClient(create_app(Settings(self.home, None, names)), client=("127.0.0.1", 1))
        for name in names:
            if ":" in name and name[0] != "[":
                continue  # no name that stands in an address
            answer = client.get("/healthz", headers={"host": f"{name}:8410"})
            self.assertEqual(answer.status_code, 200, name)
        answer = client.get("/healthz", headers={"host": "evil.example:8410"})
        self.assertEqual(answer.status_code, 400)
        self.assertEqual(serve.names_of("192.0.2.7"), (*LOCAL, "192.0.2.7"))

    def test_who_can_reach_it(self) -> None:
        self.assertTrue(all(map(serve.is_local, ("127.0.0.1", "127.0.1.1", "::1", "localhost"))))
        self.assertFalse(any(map(serve.is_local, ("0.0.0.0", "::", "192.0.2.7", "box"))))

    def test_what_is_told_at_the_start(self) -> None:
        said: list[Any] = []
        with mock.patch("builtins.print", lambda *x, **y: said.append(" ".join(map(str, x)))):
            serve.tell_addresses("0.0.0.0", 8410, (*LOCAL, "192.0.2.7"), TOKEN, self.home.folder)
            self.assertIn(f"http://192.0.2.7:8410/?password={TOKEN}", "\n".join(said))
            self.assertIn("http://127.0.0.1:8410/", said[0])
            said.clear()
            serve.tell_addresses("127.0.0.1", 8410, LOCAL, "", self.home.folder)
            self.assertNotIn("password", "\n".join(said))

    def test_ports_and_hosts_that_are_none(self) -> None:
        for host, port, word in (
            ("127.0.0.1", 70000, "70000"),
            ("127.0.0.1", -1, "-1"),
            ("127.0.0.1", 0, "no port 0"),
            ("192.0.2.7", 8410, "no address of this computer"),
            ("no such host.example", 8410, "no address"),
            ("x" * 300, 8410, "no address"),
        ):
            with self.assertRaises(MillError) as caught:
                serve.free_port(host, port)
            self.assertIn(word, caught.exception.message)

    def test_other_sites_cannot_ask_for_changes(self) -> None:
        headers = {"sec-fetch-site": "cross-site"}
        answer = self.client.put("/api/jobs/1/name", headers=headers, json={"name": "x"})
        self.assertEqual(answer.status_code, 403)
