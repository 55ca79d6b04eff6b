"""The one error that a person is meant to read."""

from __future__ import annotations


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

    def as_json(self) -> dict[str, str]:
        """The form in which commands and the API report it."""
        return {"error": self.message, "hint": self.hint, "kept": self.kept}


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
