"""Headers, and who may change things: this computer, through the page that it served itself.

Which names the server answers to is Starlette's `TrustedHostMiddleware`'s business; the password
beyond this computer is `access`'s.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar
from urllib.parse import urlsplit

from starlette.datastructures import Headers, MutableHeaders
from starlette.responses import JSONResponse
from starlette.routing import BaseRoute, Match
from starlette.types import ASGIApp, Message, Receive, Scope, Send

POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' blob:; "
    "font-src 'self'; connect-src 'self'; form-action 'self'; base-uri 'none'; "
    "frame-ancestors 'none'"
)
HEADERS = {
    "Content-Security-Policy": POLICY,
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "same-origin",
    "Cross-Origin-Opener-Policy": "same-origin",
    "Cross-Origin-Resource-Policy": "same-origin",
}
REFUSED = {
    "error": "Only pages of this server may change things here.",
    "hint": "Open Mill Lane by the address that it printed.",
    "kept": "Nothing was changed.",
}
LONGEST_BODY = 2 * 10**6  # bytes of a request that is no upload
TOO_LONG = {
    "error": f"What was sent is over {LONGEST_BODY // 10**6} MB.",
    "hint": "Send less at once.",
    "kept": "Nothing was changed.",
}
F = TypeVar("F", bound=Callable[..., Any])
READING = ("GET", "HEAD", "OPTIONS")


class SecurityHeaders:
    """Adds the headers to every answer, and says what may be kept by a browser."""

    def __init__(self, app: ASGIApp) -> None:
        self.app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Answer with the headers added."""
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return

        async def send_with_headers(message: Message) -> None:
            if message["type"] == "http.response.start":
                headers = MutableHeaders(scope=message)
                for name, value in HEADERS.items():
                    headers.setdefault(name, value)
                # Scripts import each other by plain names: a browser asks whether they are the
                # same.
                static = scope["path"].startswith("/static/")
                headers.setdefault("Cache-Control", "no-cache" if static else "no-store")
            await send(message)

        await self.app(scope, receive, send_with_headers)


class SameOrigin:
    """Refuses changes that other pages ask for (cross-site requests)."""

    def __init__(self, app: ASGIApp) -> None:
        self.app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Pass on what is only read, or comes from a page of ours."""
        if scope["type"] == "http" and scope["method"] not in READING:
            given = Headers(scope=scope)
            origin = given.get("origin")
            if origin is not None and urlsplit(origin).netloc != given.get("host"):
                await JSONResponse(REFUSED, 403)(scope, receive, send)
                return
        await self.app(scope, receive, send)


def takes_upload(endpoint: F) -> F:
    """Mark what takes a file as the body of a request, piece by piece and with a limit of its
    own.
    """
    endpoint.takes_upload = True  # type: ignore[attr-defined]
    return endpoint


class BodyLimit:
    """Refuses long bodies, which would be held in memory, wherever no upload is taken."""

    def __init__(self, app: ASGIApp, routes: list[BaseRoute]) -> None:
        self.app, self.routes = app, routes

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Count what comes in; an upload is its own business."""
        if scope["type"] != "http" or scope["method"] in READING or self._is_upload(scope):
            await self.app(scope, receive, send)
            return
        declared = Headers(scope=scope).get("content-length", "")
        if declared.isdigit() and (len(declared) > 12 or int(declared) > LONGEST_BODY):
            await JSONResponse(TOO_LONG, 413)(scope, receive, send)
            return
        body, more = bytearray(), True
        while more:
            message = await receive()
            if message["type"] != "http.request":
                return  # whoever asked went away
            body += message.get("body", b"")
            more = message.get("more_body", False)
            if len(body) > LONGEST_BODY:
                await JSONResponse(TOO_LONG, 413)(scope, receive, send)
                return
        pieces = [{"type": "http.request", "body": bytes(body), "more_body": False}]

        async def again() -> Message:
            return pieces.pop() if pieces else await receive()

        await self.app(scope, again, send)

    def _is_upload(self, scope: Scope) -> bool:
        for route in self.routes:
            endpoint = getattr(route, "endpoint", None)
            if getattr(endpoint, "takes_upload", False) and route.matches(scope)[0] == Match.FULL:
                return True
        return False
