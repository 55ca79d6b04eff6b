"""Headers, and who may change things: this computer, through the page that it served itself.

Which names the server answers to is Starlette's `TrustedHostMiddleware`'s business; the password
beyond this computer is `access`'s.
"""

from __future__ import annotations

from urllib.parse import urlsplit

from starlette.datastructures import Headers, MutableHeaders
from starlette.responses import JSONResponse
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
    "error": "What was sent is too long.",
    "hint": "Send less at once.",
    "kept": "Nothing was changed.",
}
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

        replaced = False

        async def send_with_headers(message: Message) -> None:
            nonlocal replaced
            if message["type"] == "http.response.start":
                headers = MutableHeaders(scope=message)
                if message["status"] == 413 and headers.get("content-type", "").startswith("text"):
                    # The limit of bodies answers by itself, in a word.
                    replaced = True
                    await JSONResponse(TOO_LONG, 413, headers=HEADERS)(scope, receive, send)
                    return
                for name, value in HEADERS.items():
                    headers.setdefault(name, value)
                # Scripts import each other by plain names: a browser asks whether they are the
                # same.
                static = scope["path"].startswith("/static/")
                headers.setdefault("Cache-Control", "no-cache" if static else "no-store")
            if not replaced:
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
            foreign = origin is not None and urlsplit(origin).netloc != given.get("host")
            if foreign or given.get("sec-fetch-site") in ("cross-site", "same-site"):
                await JSONResponse(REFUSED, 403)(scope, receive, send)
                return
        await self.app(scope, receive, send)
