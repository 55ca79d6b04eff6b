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
