"""Whether a JSON document has the shape that glTF gives it, before anything in it is read."""

from __future__ import annotations

from typing import Any

DEEPEST = 64  # levels; recursion stays far from its limits
# Lists of objects at the top of a document (glTF 2.0, section 5.17).
LISTS = (
    "accessors",
    "animations",
    "buffers",
    "bufferViews",
    "cameras",
    "images",
    "materials",
    "meshes",
    "nodes",
    "samplers",
    "scenes",
    "skins",
    "textures",
)
LARGEST = 2**63 - 1  # of a whole number: what no file can count to


def fault(root: dict[str, Any]) -> str:
    """What is wrong with a document; empty where nothing is.

    Strings with halves of characters (lone surrogates) or NUL in them, which no file, page or
    database holds, are put right in place.
    """
    for key in LISTS:
        entries = root.get(key, [])
        if not isinstance(entries, list) or not all(isinstance(x, dict) for x in entries):
            return f"its {key} are no list of objects"
    for key in ("extensionsUsed", "extensionsRequired"):
        names = root.get(key, [])
        if not isinstance(names, list) or not all(isinstance(x, str) for x in names):
            return f"its {key} are no list of names"
    level: list[Any] = [root]
    for _ in range(DEEPEST):
        deeper: list[Any] = []
        for thing in level:
            wrong = _look(thing, deeper)
            if wrong:
                return wrong
        if not deeper:
            return ""
        level = deeper
    return f"it is nested over {DEEPEST} levels deep"


def _look(thing: dict[str, Any] | list[Any], deeper: list[Any]) -> str:
    """Look at what a container holds; containers within it are added to `deeper`."""
    pairs = list(thing.items()) if isinstance(thing, dict) else list(enumerate(thing))
    if isinstance(thing, dict) and not all(map(_is_text, thing)):
        pairs = [(_text(str(key)), value) for key, value in pairs]
        thing.clear()
        thing.update(pairs)
    for key, value in pairs:
        if isinstance(value, (dict, list)):
            deeper.append(value)
        elif isinstance(value, str):
            if not _is_text(value):
                thing[key] = _text(value)  # type: ignore[index]
        elif isinstance(value, int) and not -LARGEST <= value <= LARGEST:
            return f"“{key}” is a number of {len(str(value))} digits"
    return ""


def _is_text(text: str) -> bool:
    if "\0" in text:
        return False
    if text.isascii():
        return True
    return not any("\ud800" <= ch <= "\udfff" for ch in text)


def _text(text: str) -> str:
    return "".join("\ufffd" if ch == "\0" or "\ud800" <= ch <= "\udfff" else ch for ch in text)
