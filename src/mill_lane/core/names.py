"""Names of files as somebody sends them, fit to be shown and kept."""

from __future__ import annotations

import re

LONGEST = 200  # characters
LONGEST_ENDING = 16
UNSAFE = re.compile(r"[^A-Za-z0-9_-]+")


def short_name(name: str, otherwise: str) -> str:
    r"""The last part of a path without what is no character, and of a bearable length.

    The ending stays, as long as it is one; `otherwise` is what it is called where nothing is left.

    Examples
    --------
    >>> short_name("C:\\scenes\\shop.glb", "scene")
    'shop.glb'
    >>> short_name("a.\\x00", "session")
    'a.'
    """
    last = name.replace("\\", "/").rstrip("/").rpartition("/")[2]
    kept = "".join(ch for ch in last if ch.isprintable()).strip()
    if len(kept) > LONGEST:
        stem, dot, ending = kept.rpartition(".")
        short = dot and len(ending) < LONGEST_ENDING
        kept = f"{stem[: LONGEST - len(ending) - 1]}.{ending}" if short else kept[:LONGEST]
    return kept if kept.strip(".") else otherwise


def plain(name: str, spare: str) -> str:
    """A name that every program reads: letters, digits, - and _."""
    return UNSAFE.sub("_", name).strip("_")[:60] or spare
