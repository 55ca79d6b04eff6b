"""Stored analyses of every schema version, upgraded when they are read."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from math import ceil
from typing import Any

from mill_lane.core.render.sizes import LEAF_BYTES, NODE_BYTES
from mill_lane.core.weigh.analysis import ACCELERATION_BYTES, SCHEMA, Analysis

Values = dict[str, Any]

SEEN_IN_1 = {
    "seen": "camera",
    "reflected": "reflection",
    "lights": "light_only",
    "never": "never",
}


def _renamed(values: Mapping[str, Any], names: Mapping[str, str]) -> Values:
    return {names.get(k, k): v for k, v in values.items()}


def _seen(row: Values) -> Values:
    return row | {"seen": SEEN_IN_1.get(row["seen"], row["seen"])} if row.get("seen") else row


def _note(note: Any) -> Values:
    """Notes had no codes: the one that later work goes by is known by its words."""
    level, text = note
    return {
        "code": "unit_guessed" if "nor which way is up" in text else "earlier",
        "level": level,
        "text": text,
    }


def _from_1(values: Values) -> Values:
    """Version 2 calls things by the names of the trade, and notes have codes."""
    out = _renamed(
        values,
        {
            "look": "visibility",
            "see_through": "transparent_materials",
            "footprints": "outlines",
            "footprints_left_out": "outlines_left_out",
        },
    )
    mesh = {"twin_of": "duplicate_of", "twin_baked": "duplicate_baked"}
    out["meshes"] = [_seen(_renamed(m, mesh)) for m in out["meshes"]]
    out["textures"] = [_seen(_renamed(t, {"need": "texel_need"})) for t in out["textures"]]
    outline = {"outline": "points", "thing": "object"}
    out["outlines"] = [_seen(_renamed(f, outline)) for f in out["outlines"]]
    out["lights"] = [
        _renamed(x, {"grainy": "noisy"})
        | {"kind": "emissive mesh" if x["kind"] == "glowing mesh" else x["kind"]}
        for x in out["lights"]
    ]
    if out.get("visibility"):
        depth = {"layers_most": "transparency_depth", "layers_p99": "transparency_depth_p99"}
        out["visibility"] = _renamed(out["visibility"], depth)
    out["notes"] = [_note(n) for n in out.get("notes", [])]
    return out


def _from_2(values: Values) -> Values:
    """Version 3 knows surfaces by what their cages hold, which version 2 did not keep."""
    return values | {"meshes": [m | {"subdivision": None} for m in values["meshes"]]}


def _from_3(values: Values) -> Values:
    """Version 4 estimates acceleration structures as the builder makes them since; before, at 57.5
    bytes a triangle.
    """

    def held(before: int) -> int:
        return max(min(before, NODE_BYTES + LEAF_BYTES), ceil(before * ACCELERATION_BYTES / 57.5))

    meshes = [m | {"acceleration_bytes": held(m["acceleration_bytes"])} for m in values["meshes"]]
    return values | {"meshes": meshes}


STEPS: dict[int, Callable[[Values], Values]] = {1: _from_1, 2: _from_2, 3: _from_3}


def read_analysis(values: Mapping[str, Any]) -> Analysis:
    """Read a stored analysis of any version.

    Parameters
    ----------
    values : mapping
        As JSON; without a `schema_version` it is of the first.

    Raises
    ------
    ValueError
        For a version that is newer than this edition knows, or for damaged values.
    """
    version = int(values.get("schema_version", 1))
    if not 1 <= version <= SCHEMA:
        raise ValueError(
            f"the analysis has schema version {version}; this edition reads up to {SCHEMA}"
        )
    out = dict(values)
    for step in range(version, SCHEMA):
        out = STEPS[step](out)
    return Analysis.model_validate(out | {"schema_version": SCHEMA})
