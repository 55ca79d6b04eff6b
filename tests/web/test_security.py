"""Headers, and who may ask (OWASP ASVS 4.0, chapters 5, 13 and 14, as far as they apply)."""

from __future__ import annotations

from tests.web.case import STATIONS, WebCase


class TestSecurity(WebCase):
    def test_headers(self) -> None:
        for path in ("/", "/healthz", "/static/app/main.js", "/nowhere"):
            h = self.client.get(path).headers
            self.assertIn("default-src 'none'", h["content-security-policy"])
            self.assertNotIn("unsafe", h["content-security-policy"])
            self.assertEqual(h["x-content-type-options"], "nosniff")

    def test_hosts(self) -> None:
        for host in ("evil.example", "127.0.0.1.evil.example", ""):
            answer = self.client.get("/", headers={"host": host})
            self.assertEqual(answer.status_code, 400, host)
            self.assertIn("content-security-policy", answer.headers)
        for host in ("localhost:1", "127.0.0.1", "[::1]:8410"):
            self.assertEqual(
                self.client.get("/healthz", headers={"host": host}).json()["status"], "ok", host
            )

    def test_origins(self) -> None:
        for origin in ("http://evil.example", "http://127.0.0.1:9999", "null"):
            headers = {"origin": origin}
            self.refused("PUT", "/api/jobs/1/name", 403, headers=headers, json={"name": "x"})
        headers = {"origin": "http://127.0.0.1:8410"}
        self.done("PUT", "/api/jobs/1/name", headers=headers, json={"name": "Dawn"})
        self.assertEqual(self.page("/").article.h2.get_text(strip=True), "Dawn")

    def test_no_script_or_style_in_the_pages(self) -> None:
        for path in ("/", *(f"/jobs/1/{s}" for s in STATIONS)):
            page = self.page(path)
            self.assertEqual(page.find_all(style=True), [])
            self.assertEqual([s for s in page.find_all("script") if s.string], [])
            loaded = [
                t.get("src") or t.get("href") for t in page.find_all(["script", "link", "img"])
            ]
            self.assertEqual([x for x in loaded if not str(x).startswith("/")], [])

    def test_names_are_escaped(self) -> None:
        name = "<img src=x onerror=alert(1)>"
        self.done("PUT", "/api/jobs/1/name", json={"name": name})
        page = self.page("/")
        self.assertEqual(page.find_all("img"), [])
        self.assertIn(name, page.get_text())

    def test_paths_stay_inside(self) -> None:
        for path in ("/files/..%2f..%2fetc%2fpasswd", "/static/..%2fapp.py", "/static/../app.py"):
            self.assertEqual(self.client.get(path).status_code, 404, path)
        (self.folder / "secret.glb").write_bytes(b"x")
        self.refused("POST", "/api/scenes/from-folder", json={"file": "../secret.glb"})
