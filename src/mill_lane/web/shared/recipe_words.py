"""What differs between two recipes, in running text."""

from __future__ import annotations

from typing import Any

from mill_lane.core.recipe import MOST_SAMPLES, Recipe

SHORT = {
    "noise": "noise threshold",
    "radiance_limit_indirect": "clamp",
    "samples": "samples",
}
Values = dict[str, Any]
FIELDS = dict(Recipe.model_fields)


def name_of(setting: str) -> str:
    """A setting in running text."""
    title = str(FIELDS[setting].title or setting)
    return SHORT.get(setting, title[0].lower() + title[1:])


def as_text(setting: str, value: Any) -> str:
    """A setting's value in running text."""
    if setting in ("noise", "converged_fraction"):
        return f"{value * 100:g} %"
    if setting == "samples" and value >= MOST_SAMPLES:
        return "no end"
    if setting == "environment_picture":
        return value.split("/")[2] if value else "none"
    if isinstance(value, bool):
        return "on" if value else "off"
    return f"{value:g}" if isinstance(value, float) else "none" if value is None else str(value)


def light_changes(old: dict[str, float], new: dict[str, float]) -> list[str]:
    """Lights that were made weaker, stronger, or switched off."""
    names = sorted(n for n in {*old, *new} if old.get(n, 1.0) != new.get(n, 1.0))
    return [f"{n} × {new.get(n, 1.0):g}" if new.get(n, 1.0) else f"{n} off" for n in names]


def setting_changes(before: Values, after: Values) -> list[str]:
    """What differs between two stored recipes of the present schema."""
    return [words for _, words in differences(before, after)]


def differences(before: Values, after: Values) -> list[tuple[str, str]]:
    """The same, each with the field that it is about, and once for a field."""
    out: list[tuple[str, str]] = []
    for field, known in FIELDS.items():
        usual = known.default
        old, new = before.get(field, usual), after.get(field, usual)
        if old == new or field == "schema_version":
            continue
        if field == "light_scales":
            out.append((field, ", ".join(light_changes(old, new))))
        elif field == "layers":
            if set(old) != set(new):
                out.append((field, "layers changed"))
        else:
            out.append((field, f"{name_of(field)} {as_text(field, old)} → {as_text(field, new)}"))
    return out
