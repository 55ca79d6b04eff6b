"""Headers, and who may talk to the server: this computer, through the page that it served itself."""

from __future__ import annotations

from urllib.parse import urlsplit

from starlette.datastructures import MutableHeaders
from starlette.responses import JSONResponse
from starlette.types import ASGIApp, Message, Receive, Scope, Send

POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' blob:; font-src 'self'; "
    "connect-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"
)
HEADERS = {
    "Content-Security-Policy": POLICY,
    "X-Content-Type-Options": "nosniff",
    "Referrer-Policy": "same-origin",
    "Cross-Origin-Opener-Policy": "same-origin",
    "Cross-Origin-Resource-Policy": "same-origin",
}
LOCAL = ("127.0.0.1", "localhost", "[::1]")


class Guard:
    """Refuses a Host that is not ours (DNS rebinding) and changes asked for by other pages
    (cross-site requests).
    """

    def __init__(self, app: ASGIApp, hosts: tuple[str, ...] = LOCAL) -> None:
        self.app, self.hosts = app, hosts

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] != "http":
            await self.app(scope, receive, send)
            return
        given = {k.decode("latin-1").lower(): v.decode("latin-1") for k, v in scope["headers"]}
        host = given.get("host", "")
        name = host.rsplit(":", 1)[0] if not host.endswith("]") else host

        async def send_with_headers(message: Message) -> None:
            if message["type"] == "http.response.start":
                headers = MutableHeaders(scope=message)
                for k, v in HEADERS.items():
                    headers.setdefault(k, v)
                if not scope["path"].startswith("/static/"):
                    headers.setdefault("Cache-Control", "no-store")
            await send(message)

        refused = None
        if name not in self.hosts:
            refused = f"This server does not answer to the name “{name}”."
        elif scope["method"] not in ("GET", "HEAD", "OPTIONS"):
            origin = given.get("origin")
            if origin is not None and urlsplit(origin).netloc != host:
                refused = "Only pages of this server may change things here."
        if refused:
            body = {
                "error": refused,
                "hint": "Open Mill Lane by the address that it printed.",
                "kept": "Nothing was changed.",
            }
            await JSONResponse(body, 403)(scope, receive, send_with_headers)
            return
        await self.app(scope, receive, send_with_headers)
