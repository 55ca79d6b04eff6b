"""The password that is asked for beyond this computer, and the cookie that keeps it."""

from __future__ import annotations

import asyncio
import ipaddress
import secrets
from urllib.parse import parse_qsl, urlencode

from starlette.datastructures import Headers
from starlette.requests import HTTPConnection, Request
from starlette.responses import HTMLResponse, JSONResponse, RedirectResponse, Response
from starlette.types import ASGIApp, Receive, Scope, Send

COOKIE = "mill_lane_password"
FIELD = "password"
WRONG_SECONDS = 1.0  # that a wrong password takes
LONGEST_FORM = 2000  # bytes
OPEN = "/static/"  # without it: what the page that asks is drawn with
REFUSED = {
    "error": "Beyond this computer Mill Lane asks for its password.",
    "hint": "Open the address that was printed where it was started.",
    "kept": "Nothing was changed.",
}
ASKS = """<!DOCTYPE html>
<html lang="en">
  <head>
    <meta charset="utf-8">
    <meta name="viewport" content="width=device-width, initial-scale=1">
    <title>Password · Mill Lane</title>
    <link rel="stylesheet" href="/static/app.css">
  </head>
  <body>
    <main class="pane">
      <h1>This Mill Lane asks for its password</h1>
      <p class="mt-2">It was printed where Mill Lane was started.</p>
      {wrong}
      <form method="post" action="/enter" class="mt-4 flex gap-3 items-end">
        <label>Password <input type="password" name="password" autocomplete="off" required></label>
        <button class="main">Enter</button>
      </form>
    </main>
  </body>
</html>
"""


class Password:
    """Lets in whoever asks from this computer, or knows the password."""

    def __init__(self, app: ASGIApp, token: str) -> None:
        self.app, self.token = app, token

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        """Pass on what may come in, and answer everything else."""
        if scope["type"] != "http" or not self.token or is_here(scope):
            await self.app(scope, receive, send)
            return
        path = scope["path"]
        known = secrets.compare_digest(
            HTTPConnection(scope).cookies.get(COOKIE, "").encode(), self.token.encode()
        )
        if known or path.startswith(OPEN):
            await self.app(scope, receive, send)
            return
        answer = await self._answer(Request(scope, receive))
        await answer(scope, receive, send)

    async def _answer(self, request: Request) -> Response:
        given = request.query_params.get(FIELD, "")
        if request.method == "POST" and request.url.path == "/enter":
            body = bytearray()
            async for piece in request.stream():
                body += piece
                if len(body) > LONGEST_FORM:
                    return JSONResponse(REFUSED, 413)
            given = dict(parse_qsl(body.decode("utf-8", "replace"))).get(FIELD, "")
        if given and secrets.compare_digest(given.encode(), self.token.encode()):
            return self._entered(request)
        if given:
            await asyncio.sleep(WRONG_SECONDS)
        if "text/html" in Headers(scope=request.scope).get("accept", ""):
            wrong = "<p class='message mt-2' role='status'>It is another one.</p>" if given else ""
            return HTMLResponse(ASKS.format(wrong=wrong), 401)
        return JSONResponse(REFUSED, 401)

    def _entered(self, request: Request) -> Response:
        """To the page that was asked for, without the password in its address."""
        rest = urlencode([(k, v) for k, v in request.query_params.multi_items() if k != FIELD])
        path = "/" if request.url.path == "/enter" else request.url.path
        # One slash: two would be another server's name.
        where = "/" + path.lstrip("/") + (f"?{rest}" if rest else "")
        answer = RedirectResponse(where, 303)
        answer.set_cookie(COOKIE, self.token, httponly=True, samesite="strict", path="/")
        return answer


def is_here(scope: Scope) -> bool:
    """Whether a request comes from this computer."""
    client = scope.get("client")
    if client is None:
        return False
    try:
        address = ipaddress.ip_address(str(client[0]).partition("%")[0])
    except ValueError:
        return False
    mapped = getattr(address, "ipv4_mapped", None)
    return bool((mapped or address).is_loopback)
