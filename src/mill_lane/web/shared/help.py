"""What each station is for, and its keys: shown at “?”."""

from __future__ import annotations

Keys = tuple[tuple[str, str], ...]
EVERYWHERE: Keys = (("1 … 6", "to a station"), ("?", "this help, and away"))
PICTURE: Keys = (
    ("f", "all of the picture"),
    ("z", "1:1, then 2:1, then 4:1"),
    ("w", "two pictures by wipe"),
    ("s", "side by side, up to four in a row"),
    ("t", "in turns; again: the other one"),
    ("d", "what is between them"),
)
ROWS: Keys = (("↑ ↓", "along the rows of a table"),)
# Words, and keys of its own.
STATIONS: dict[str, tuple[str, Keys]] = {
    "scene": (
        "What is in the scene, what it weighs in memory, and which of it the shot never shows. "
        "Select a row: it is outlined in the picture and on the plan.",
        ROWS,
    ),
    "machine": (
        "The computer and cards that may render, and how much of their memory is kept free. "
        "Simulated ones answer whether it would fit.",
        (),
    ),
    "fit": (
        "Whether the scene fits the chosen device, step by step, and what would change that. "
        "Nothing here changes the final recipe.",
        (),
    ),
    "trials": (
        "Look at the picture as it sharpens, draw a crop over the worst place, change one thing. "
        "Freeze what you see, or run a trial whose time counts; compare two, put settings back.",
        PICTURE,
    ),
    "trim": (
        "What can be made lighter, sorted by what it saves, with the picture before and after. "
        "What is staged becomes a new scene version; the old one stays.",
        ROWS,
    ),
    "finish": (
        "The final recipe, what is to be looked at before it starts, the frame or the range of "
        "frames, and the scene to take home.",
        (),
    ),
}


def help_of(station: str) -> tuple[str, Keys]:
    """What a station is for, and all its keys; nothing for what is none."""
    words, keys = STATIONS.get(station, ("", ()))
    return words, (*keys, *EVERYWHERE)
