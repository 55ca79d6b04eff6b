"""Pages one after another.

Drawing a page is work for the processor alone, and Python does one thing at a time: pages drawn
side by side take turns at every query, and all of them are late.  Drawn in the order in which they
were asked for, most are there in the time that they take.

A page's turn ends when its answer begins: how fast it is read, and what is read from a file, is no
work for the processor.
"""

from __future__ import annotations

import asyncio

from starlette.datastructures import Headers
from starlette.types import ASGIApp, Message, Receive, Scope, Send

AT_ONCE = 2  # one draws while another waits for the disk


class Turns:
    """Lets few pages be drawn at a time; whatever else is asked for passes."""

    def __init__(self, app: ASGIApp) -> None:
        self.app = app
        self._turn = asyncio.Semaphore(AT_ONCE)

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Answer when it is a page's turn."""
        page = scope["type"] == "http" and scope["method"] == "GET"
        if not page or "text/html" not in Headers(scope=scope).get("accept", ""):
            await self.app(scope, receive, send)
            return
        await self._turn.acquire()
        drawing = True

        def over() -> None:
            nonlocal drawing
            if drawing:
                drawing = False
                self._turn.release()

        async def sent(message: Message) -> None:
            if message["type"] == "http.response.start":
                over()
            await send(message)

        try:
            await self.app(scope, receive, sent)
        finally:
            over()
