"""What can be chosen when a file is opened: its variants, and payloads that are left out."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from mill_lane.core.errors import MillError

MOST_SAID = 12
AT_OPENING = "write it when you open the file, or after --choose"
HOW = "choose it on the Scene page, or write it when you open the file, or after --choose"


@dataclass(frozen=True)
class Choices:
    """Variants by the set that they belong to ("" where only the variant is named), the paths of
    payloads that are not loaded, and which scene of a ZIP is meant.
    """

    variants: tuple[tuple[str, str], ...] = ()
    left_out: tuple[str, ...] = ()
    root: str = ""

    def __bool__(self) -> bool:
        return bool(self.variants or self.left_out)


def parse_choices(text: str) -> Choices:
    """Choices as they are written: `look=red, autumn, -/World/Trees, @shots/one.usda`.

    A name, a set with the name of one of its variants, a minus with the path of a payload, or the
    path of a scene in a ZIP after an @; commas stand between them.  Raises MillError for anything
    else.
    """
    variants, left_out, root = [], [], ""
    for word in (w.strip() for w in text.split(",")):
        if word.startswith("-"):
            if not word.startswith("-/"):
                raise MillError(
                    f"“{word}” names no payload.", "Write a minus and its path: -/World/Trees."
                )
            left_out.append(word[1:].rstrip("/"))
        elif word.startswith("@"):
            root = word[1:]
        elif word:
            group, equals, name = (x.strip() for x in word.partition("="))
            if equals and not name:
                raise MillError(
                    f"“{word}” names no variant.", "Write the set and the variant: look=red."
                )
            variants.append((group, name) if equals else ("", group))
    return Choices(tuple(variants), tuple(left_out), root)


def no_variant(group: str, name: str, known: Mapping[str, list[str]]) -> MillError:
    """The error for a variant that is not there, with those that are."""
    said = f"{group}={name}" if group else name
    listed = "; ".join(listing(known)) or "none"
    return MillError(
        f"The file has no variant “{said}”.", f"It has: {listed}.", "Nothing was imported."
    )


def listing(known: Mapping[str, list[str]]) -> list[str]:
    """Sets with their variants, in words; those without a name by their variants alone."""
    out = []
    for group, names in known.items():
        some = ", ".join(names[:MOST_SAID]) + (", …" if len(names) > MOST_SAID else "")
        out.append(f"{group}: {some}" if group else some)
    return out
