"""What a command is, and what commands share."""

from __future__ import annotations

import argparse
import sys
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from mill_lane.core.errors import MillError

Arguments = argparse.Namespace
Result = dict[str, Any]


@dataclass(frozen=True)
class Command:
    """A command.

    Attributes
    ----------
    name : str
    text : str
        What it does, in a line.
    add_arguments : callable
        Adds its arguments to a parser.
    run : callable
        Does it; returns what --json prints, or None.  It loads what it needs by itself, so that
        other commands start at once.
    error_status : int
        The exit status after an error that was told.
    """

    name: str
    text: str
    add_arguments: Callable[[argparse.ArgumentParser], None]
    run: Callable[[Arguments], Result | None]
    error_status: int = 1


def add_choices(sub: argparse.ArgumentParser) -> None:
    """Add what is chosen of a file when it is opened."""
    text = "variants, and payloads to leave out: look=red, -/World/Trees"
    sub.add_argument("--choose", default="", metavar="CHOICES", help=text)


def telling(args: Arguments) -> Callable[[float, str], None]:
    """A progress callback that tells on the terminal, unless JSON is wanted."""
    last = [""]

    def tell(share: float, text: str) -> None:
        if not args.json and text != last[0]:
            last[0] = text
            print(f"\r{share * 100:3.0f} %  {text:<60}", end="", file=sys.stderr, flush=True)
            if share >= 1:
                print(file=sys.stderr)

    return tell


def whole_numbers(text: str, separator: str, count: int, what: str) -> list[int]:
    """So many whole numbers out of an argument.  Raises MillError for anything else."""
    try:
        numbers = [int(x) for x in text.split(separator)]
    except ValueError:
        numbers = []
    if len(numbers) != count:
        raise MillError(
            f"{what}: “{text}” is not {count} whole numbers.",
            f"Write {what.lower()} like its help says.",
        )
    return numbers
