"""Errors as a page for people and as JSON for programs."""

from __future__ import annotations

from typing import Any

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse, Response
from sqlalchemy.exc import IntegrityError, OperationalError
from starlette.exceptions import HTTPException

from mill_lane.core.errors import MillError, NotFoundError, input_words
from mill_lane.store.transactions import no_room

BUSY = {
    "error": "The database is busy.",
    "hint": "Try again in a moment.",
    "kept": "Nothing was changed.",
}


NO_ROOM = {
    "error": "The disk is full.",
    "hint": "Make room on it, or see on the first page what can be freed here; then try again.",
    "kept": "Nothing was changed.",
}
CONFLICT = {
    "error": "Somebody changed the same at the same moment.",
    "hint": "Look at it again, and send it again.",
    "kept": "Nothing was changed.",
}
NO_CHARACTER = {
    "error": "The text holds something that is no character.",
    "hint": "Write it anew.",
    "kept": "Nothing was changed.",
}
TOO_LARGE = {
    "error": "A number is too large.",
    "hint": "Correct it and send it again.",
    "kept": "Nothing was changed.",
}


def problem(request: Request, status: int, error: dict[str, Any]) -> Response:
    """Answer with an error."""
    if "text/html" in request.headers.get("accept", "") and request.method == "GET":
        context = {"error": error, "stamp": "", "title": "Problem", "waiting": [], "troubles": []}
        response: Response = request.app.state.templates.TemplateResponse(
            request, "shared/problem.html", context, status_code=status
        )
        return response
    return JSONResponse(error, status)


def add_handlers(app: FastAPI) -> None:
    """Have the application tell errors in its own words."""

    @app.exception_handler(MillError)
    def on_mill_error(request: Request, e: Exception) -> Response:
        assert isinstance(e, MillError)
        status = 404 if isinstance(e, NotFoundError) else 422
        return problem(request, status, e.as_json())

    @app.exception_handler(OperationalError)
    def on_busy(request: Request, e: Exception) -> Response:
        if no_room(e):
            return problem(request, 507, NO_ROOM)
        answer = problem(request, 503, BUSY)
        answer.headers["Retry-After"] = "1"
        return answer

    @app.exception_handler(IntegrityError)
    def on_conflict(request: Request, e: Exception) -> Response:
        return problem(request, 409, CONFLICT)

    @app.exception_handler(OSError)
    def on_disk(request: Request, e: Exception) -> Response:
        if no_room(e):
            return problem(request, 507, NO_ROOM)
        raise e

    @app.exception_handler(UnicodeEncodeError)
    def on_no_character(request: Request, e: Exception) -> Response:
        return problem(request, 422, NO_CHARACTER)

    @app.exception_handler(OverflowError)
    def on_overflow(request: Request, e: Exception) -> Response:
        return problem(request, 422, TOO_LARGE)

    @app.exception_handler(RequestValidationError)
    def on_invalid(request: Request, e: Exception) -> Response:
        assert isinstance(e, RequestValidationError)
        first = e.errors()[0]
        where = ".".join(str(x) for x in first["loc"][1:])
        text = input_words(first)
        error = {
            "error": f"{where}: {text}." if where else f"{text}.",
            "hint": "Correct it and send it again.",
            "kept": "Nothing was changed.",
        }
        return problem(request, 422, error)

    @app.exception_handler(HTTPException)
    def on_http(request: Request, e: Exception) -> Response:
        assert isinstance(e, HTTPException)
        gone = e.status_code == 404
        hint = (
            "It may have been removed. Go back to your jobs." if gone else "Go back and try again."
        )
        message = "There is nothing at this address." if gone else str(e.detail)
        if e.status_code == 413:
            message, hint = "What was sent is too long.", "Send less at once."
        return problem(request, e.status_code, {"error": message, "hint": hint, "kept": ""})
