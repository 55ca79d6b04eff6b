"""Findings in plain words."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from mill_lane.core.weigh.findings import Finding
from mill_lane.core.words import plural
from mill_lane.web.shared.format import listed, percent, size


@dataclass(frozen=True)
class Said:
    """A finding in words, its saving, and the query of the table that shows it."""

    text: str
    saving: str
    query: str


def _texels_wasted(f: Finding) -> Said:
    n, held = len(f.targets), f.values["held"]
    text = f"{plural(n, 'texture has', 'textures have')} more texels than the shot can show"
    after = size(held - f.saving_bytes)
    return Said(text, f"{size(held)} could be {after}", "tab=textures&sort=wasted")


def _distance_rule(f: Finding) -> Said:
    text = f"{plural(len(f.targets), 'texture')} larger than the distance rule asks"
    return Said(text, f"{size(f.values['held'])} → {size(f.values['after'])}", "tab=textures")


def _unused_bits(f: Finding) -> Said:
    names = listed(f"{n} ({why})" for n, why in zip(f.targets, f.values["why"], strict=True))
    saving = f"{size(f.saving_bytes)} for nothing"
    return Said(f"Stored and not used: {names}", saving, "tab=textures&q=unused+bits")


def _unused_pictures(f: Finding) -> Said:
    text = f"Stored, and used by nothing that is drawn: {listed(f.targets)}"
    return Said(
        text, f"{size(f.values['file_bytes'])} in the file", "tab=textures&q=used+by+nothing"
    )


def _deep_textures(f: Finding) -> Said:
    text = f"{plural(len(f.targets), 'texture')} with 16 bits: {listed(f.targets)}"
    return Said(text, f"{size(f.values['held'])} held", "tab=textures")


def _same_picture(f: Finding) -> Said:
    text = f"The same picture again: {listed(f.targets)}"
    return Said(text, size(f.saving_bytes), "tab=textures&q=same")


def _duplicates(f: Finding) -> Said:
    v = f.values
    text = f"{plural(len(f.targets), 'mesh is a copy', 'meshes are copies')} of {v['groups']}"
    text += f", {v['baked']} of them turned, mirrored or scaled" if v["baked"] else ""
    return Said(text, f"{size(v['held'])} could be {size(v['after'])}", "tab=meshes&q=copy")


def _never(words: str, query: str) -> Callable[[Finding], Said]:
    def said(f: Finding) -> Said:
        saving = f"{size(f.saving_bytes)} with their textures"
        return Said(f"{words} the picture: {listed(f.targets)}", saving, f"tab=meshes&q={query}")

    return said


def _too_fine(f: Finding) -> Said:
    limit = f.values["triangles_per_px"]
    text = f"Finer than {limit:.0f} triangles a pixel: {listed(f.targets)}"
    return Said(text, f"{size(f.saving_bytes)} beyond that", "tab=meshes&sort=density")


def _small_and_strong(f: Finding) -> Said:
    return Said(f"Small and strong: {listed(f.targets)}", "grain", "tab=lights")


def _idle_lights(f: Finding) -> Said:
    n = len(f.targets)
    each = "light gives less than 0.1 % of it"
    if n > 1:
        each = "lights give less than 0.1 % of the light each"
    text = f"{n} {each}: {listed(f.targets)}"
    return Said(text, "time", "tab=lights&sort=share&turned=true")


def _blown_out(f: Finding) -> Said:
    shares = zip(f.targets, f.values["shares"], strict=True)
    names = listed(f"{name} ({percent(share)} of the picture)" for name, share in shares)
    return Said(f"Brighter than white: {names}", "blown out", "tab=transparency")


WORDS: dict[str, Callable[[Finding], Said]] = {
    "texels_wasted": _texels_wasted,
    "distance_rule": _distance_rule,
    "unused_bits": _unused_bits,
    "unused_pictures": _unused_pictures,
    "deep_textures": _deep_textures,
    "same_picture": _same_picture,
    "duplicates": _duplicates,
    "never_matters": _never("Never matters to", "never"),
    "out_of_view": _never("Never in", "not+in+view"),
    "too_fine": _too_fine,
    "small_and_strong": _small_and_strong,
    "idle_lights": _idle_lights,
    "blown_out": _blown_out,
}


def said(f: Finding) -> Said:
    """A finding in words; one that has none yet is told by its code and what it concerns."""
    if f.code in WORDS:
        return WORDS[f.code](f)
    text = f"{f.code.replace('_', ' ').capitalize()}: {listed(f.targets)}"
    return Said(text, size(f.saving_bytes) if f.saving_bytes else "", "")
