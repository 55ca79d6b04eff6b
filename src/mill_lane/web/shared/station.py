"""What a station is: a page of every job, with a figure in the strip on top."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

from fastapi import APIRouter

from mill_lane.jobs.summary import Summary

Mark = Literal["order", "look", "fail", "todo"]
WORDS: dict[Mark, str] = {
    "order": "fine",
    "look": "look here",
    "fail": "does not fit",
    "todo": "not done yet",
}


@dataclass(frozen=True)
class Figure:
    """A station's live figure.

    Attributes
    ----------
    text : str
    mark : str
        "order", "look" (here), "fail" (does not fit), "todo" (not done yet).
    predicted : bool
        Whether it is a prediction.
    task : int or None
        The running task whose share is the figure.
    """

    text: str
    mark: Mark
    predicted: bool = False
    task: int | None = None


@dataclass(frozen=True)
class Station:
    """A station.

    Attributes
    ----------
    name : str
        By which its page is addressed.
    title : str
    router : APIRouter
        Its page, at /jobs/{job}/NAME, and what the page asks for.
    figure : callable
        From the job's figures to the station's own.
    folder : Path
        Where its templates are; they are called by the folder's name.
    """

    name: str
    title: str
    router: APIRouter
    figure: Callable[[Summary], Figure]
    folder: Path
