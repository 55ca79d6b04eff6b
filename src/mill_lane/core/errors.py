"""The one error that a person is meant to read."""

from __future__ import annotations

import contextlib
from collections.abc import Mapping
from typing import Any


class MillError(Exception):
    """Something the artist can act on.

    Parameters
    ----------
    message : what is wrong, in one or two sentences, naming the file, mesh or texture.
    hint : what to do next.
    kept : what was kept of the work; the default says that nothing was changed.
    """

    def __init__(self, message: str, hint: str, kept: str = "Nothing was changed.") -> None:
        super().__init__(message)
        self.message = message
        self.hint = hint
        self.kept = kept

    def __reduce__(self) -> tuple[type[MillError], tuple[str, str, str]]:
        """Keep all three parts when the error crosses a process boundary."""
        return type(self), (self.message, self.hint, self.kept)

    def as_json(self) -> dict[str, Any]:
        """The form in which commands and the API report it."""
        return {"error": self.message, "hint": self.hint, "kept": self.kept}


# What is wrong with a value, by the code that the library of models gives it.
INPUT_WORDS = {
    "greater_than_equal": "it has to be at least {ge}",
    "greater_than": "it has to be more than {gt}",
    "less_than_equal": "it may be at most {le}",
    "less_than": "it has to be less than {lt}",
    "int_parsing": "it has to be a whole number",
    "int_from_float": "it has to be a whole number",
    "int_type": "it has to be a whole number",
    "float_parsing": "it has to be a number",
    "float_type": "it has to be a number",
    "finite_number": "it has to be a number",
    "bool_parsing": "it has to be on or off",
    "string_type": "it has to be text",
    "string_too_short": "it may not be empty",
    "string_too_long": "it may have at most {max_length} characters",
    "missing": "it is missing",
    "literal_error": "it has to be {expected}",
    "extra_forbidden": "nothing of that name is known",
    "json_invalid": "what was sent is no JSON",
}


def input_words(error: Mapping[str, Any]) -> str:
    """What is wrong with a value, in our words, of an error as the library of models tells it."""
    words = INPUT_WORDS.get(str(error.get("type")))
    if words is None:
        return str(error.get("msg", "it is not valid")).removeprefix("Value error, ")
    known = dict(error.get("ctx") or {})
    with contextlib.suppress(KeyError):
        return words.format(**known)
    return "it is not valid"


class NotFoundError(MillError):
    """What was asked for is not there, or no longer."""

    def __init__(self, what: str = "what you asked for") -> None:
        super().__init__(
            f"There is no {what} here.", "It may have been removed. Go back to your jobs.", ""
        )
        self.what = what

    def __reduce__(self) -> tuple[type[NotFoundError], tuple[str]]:  # type: ignore[override]
        """Keep the one part it is made of."""
        return type(self), (self.what,)
