"""Pages one after another.

Drawing a page is work for the processor alone, and Python does one thing at a time: pages drawn
side by side take turns at every query, and all of them are late.  Drawn in the order in which they
were asked for, most are there in the time that they take.  Whoever asks for a page that another
asked for and that is not begun yet gets the same drawing: it is as new as one of their own.

A page's turn ends when its answer begins: how fast it is read, and what is read from a file, is no
work for the processor.
"""

from __future__ import annotations

import asyncio

from starlette.datastructures import Headers
from starlette.types import ASGIApp, Message, Receive, Scope, Send

AT_ONCE = 2  # one draws while another waits for the disk
DECISIVE = ("host", "accept", "cookie", "authorization", "range", "if-none-match")
Key = tuple[object, ...]


class _Drawing:
    """A page that somebody waits for, and others too, perhaps."""

    def __init__(self) -> None:
        self.messages: list[Message] = []
        self.whole = False  # whether the messages are the answer
        self.over = asyncio.Event()  # nothing more comes

    def note(self, message: Message) -> None:
        """Keep what is sent: a page, that is, and nothing that is meant for one alone."""
        if self.over.is_set():
            return
        if message["type"] == "http.response.start":
            headers = Headers(raw=message["headers"])
            page = headers.get("content-type", "").startswith("text/html")
            if not page or "set-cookie" in headers:
                self.over.set()
                return
        self.messages.append(_copied(message))
        if message["type"] == "http.response.body" and not message.get("more_body"):
            self.whole = True
            self.over.set()

    async def send(self, send: Send) -> None:
        """Send the same to somebody else."""
        for message in self.messages:
            await send(_copied(message))


class Turns:
    """Lets few pages be drawn at a time; whatever else is asked for passes."""

    def __init__(self, app: ASGIApp) -> None:
        self.app = app
        self._turn = asyncio.Semaphore(AT_ONCE)
        self._waiting: dict[Key, _Drawing] = {}  # whose drawing is not begun

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Answer when it is a page's turn."""
        page = scope["type"] == "http" and scope["method"] == "GET"
        if not page or "text/html" not in Headers(scope=scope).get("accept", ""):
            await self.app(scope, receive, send)
            return
        key = _key(scope)
        waiting = self._waiting.get(key)
        if waiting is not None:
            await waiting.over.wait()
            if waiting.whole:
                await waiting.send(send)
                return
        drawing = self._waiting[key] = _Drawing()
        try:
            try:
                await self._turn.acquire()
            finally:
                if self._waiting.get(key) is drawing:
                    del self._waiting[key]
            await self._draw(drawing, scope, receive, send)
        finally:
            drawing.over.set()

    async def _draw(self, drawing: _Drawing, scope: Scope, receive: Receive, send: Send) -> None:
        going = True

        def over() -> None:
            nonlocal going
            if going:
                going = False
                self._turn.release()

        async def sent(message: Message) -> None:
            if message["type"] == "http.response.start":
                over()
            drawing.note(message)
            await send(message)

        try:
            await self.app(scope, receive, sent)
        finally:
            over()


def _copied(message: Message) -> Message:
    """The same, for one more to add headers to."""
    copied = dict(message)
    if "headers" in copied:
        copied["headers"] = list(copied["headers"])
    return copied


def _key(scope: Scope) -> Key:
    """What an answer depends on; which program asks is not part of it."""
    headers = Headers(scope=scope)
    asked = tuple(tuple(headers.getlist(name)) for name in DECISIVE)
    return scope.get("path"), scope.get("query_string"), asked
