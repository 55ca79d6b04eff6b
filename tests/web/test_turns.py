"""A page's turn is its drawing: whoever reads slowly keeps nobody waiting."""

from __future__ import annotations

import asyncio
import unittest
from typing import Any

from mill_lane.web.shared import turns
from mill_lane.web.shared.turns import Turns

PAGE = {"type": "http", "method": "GET", "headers": [(b"accept", b"text/html")]}


class TestTurns(unittest.TestCase):
    def asked(self, app: Any, *sends: Any) -> list[Any]:
        """What becomes of as many pages that are asked for at once."""

        async def receive() -> dict[str, str]:
            return {"type": "http.request"}

        async def all_of_them() -> list[Any]:
            waited = Turns(app)
            every = (asyncio.wait_for(waited(PAGE, receive, s), 0.5) for s in sends)
            return await asyncio.gather(*every, return_exceptions=True)

        return asyncio.run(all_of_them())

    def test_slow_readers_keep_nobody_waiting(self) -> None:
        seen = []

        async def app(scope: Any, receive: Any, send: Any) -> None:
            await send({"type": "http.response.start", "status": 200, "headers": []})
            await send({"type": "http.response.body", "body": b"x"})

        async def slow(message: dict[str, Any]) -> None:
            if message["type"] == "http.response.body":
                await asyncio.sleep(60)

        async def quick(message: dict[str, Any]) -> None:
            seen.append(message["type"])

        found = self.asked(app, slow, slow, slow, quick)
        self.assertEqual([isinstance(x, TimeoutError) for x in found], [True, True, True, False])
        self.assertEqual(seen, ["http.response.start", "http.response.body"])

    def test_few_are_drawn_at_a_time(self) -> None:
        """Also where drawing fails before anything is sent."""
        drawing, most = 0, 0

        async def app(scope: Any, receive: Any, send: Any) -> None:
            nonlocal drawing, most
            drawing += 1
            most = max(most, drawing)
            await asyncio.sleep(0.02)
            drawing -= 1
            raise ValueError("odd")

        async def send(message: dict[str, Any]) -> None:
            """Take it."""

        found = self.asked(app, *[send] * 7)
        self.assertEqual(most, turns.AT_ONCE)
        self.assertEqual([type(x) for x in found], [ValueError] * 7)

    def drawn(self, *paths: str, kind: str = "text/html", cookies: str = "") -> list[str]:
        """What each of several gets who ask at once: the path and the number of the drawing."""
        drawings = 0
        got: list[list[bytes]] = [[] for _ in paths]

        async def app(scope: Any, receive: Any, send: Any) -> None:
            nonlocal drawings
            drawings += 1
            number = drawings
            await asyncio.sleep(0.01)
            headers = [(b"content-type", kind.encode())]
            headers += [(b"set-cookie", cookies.encode())] if cookies else []
            await send({"type": "http.response.start", "status": 200, "headers": headers})
            body = f"{scope['path']}{number}".encode()
            await send({"type": "http.response.body", "body": body[:1], "more_body": True})
            await send({"type": "http.response.body", "body": body[1:]})

        async def receive() -> dict[str, str]:
            return {"type": "http.request"}

        async def ask(waited: Turns, k: int) -> None:
            async def send(message: dict[str, Any]) -> None:
                # Whoever sends it on may add to it.
                message.setdefault("headers", []).append((b"x-own", b"%d" % k))
                self.assertLessEqual(len(message["headers"]), 3)
                got[k].append(message.get("body", b""))

            await waited(PAGE | {"path": paths[k]}, receive, send)

        async def all_of_them() -> None:
            waited = Turns(app)
            await asyncio.gather(*(ask(waited, k) for k in range(len(paths))))

        asyncio.run(asyncio.wait_for(all_of_them(), 5))
        return [b"".join(parts).decode() for parts in got]

    def test_who_waits_for_the_same_page_gets_the_same_drawing(self) -> None:
        """But not one that was begun before they asked: it may not have what is new since."""
        found = self.drawn("a", "a", "a", "a", "b", "b")
        # The first two are begun at once, as many as are drawn at a time.
        self.assertEqual(found, ["a1", "a2", "a3", "a3", "b4", "b4"])

    def test_files_and_what_is_meant_for_one_are_not_shared(self) -> None:
        for more in ({"kind": "image/png"}, {"cookies": "password=x"}):
            found = self.drawn(*"aaaaaa", **more)
            self.assertEqual(sorted(found), [f"a{n}" for n in range(1, 7)])

    def test_who_gave_up_keeps_nobody_waiting(self) -> None:
        async def app(scope: Any, receive: Any, send: Any) -> None:
            await asyncio.sleep(0.1)
            start = {"type": "http.response.start", "status": 200}
            await send(start | {"headers": [(b"content-type", b"text/html")]})
            await send({"type": "http.response.body", "body": b"x"})

        async def receive() -> dict[str, str]:
            return {"type": "http.request"}

        async def run() -> list[Any]:
            got: list[Any] = []

            async def send(message: Any) -> None:
                got.append(message["type"])

            waited = Turns(app)
            scopes = [PAGE | {"path": path} for path in ("a", "b", "c", "c")]
            tasks = [asyncio.create_task(waited(s, receive, send)) for s in scopes]
            await asyncio.sleep(0.05)
            tasks[2].cancel()
            await asyncio.wait_for(asyncio.gather(*tasks, return_exceptions=True), 5)
            return got

        self.assertEqual(len(asyncio.run(run())), 6)
