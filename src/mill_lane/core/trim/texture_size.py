"""Textures made smaller: by the distance rule, or by what the shot can show."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Annotated

from pydantic import BaseModel, Field

from mill_lane.core.errors import MillError
from mill_lane.core.progress import Progress, silent
from mill_lane.core.scene.model import Scene
from mill_lane.core.trim.model import Change, Choice, OpenScene, Proposal, Target, Trim, Values
from mill_lane.core.trim.pictures import chosen_images, with_rows
from mill_lane.core.trim.shrink import shrink
from mill_lane.core.weigh.analysis import Analysis, TextureRow
from mill_lane.core.weigh.rules import RULES, usual_rule
from mill_lane.core.weigh.rules.sizes import shrunk


class Parameters(Values):
    """How large textures may be: a rule of `rules.RULES`, and the height of the final picture."""

    rule: str = ""  # empty: the usual one, by what is known of the shot
    height: Annotated[int, Field(ge=1, le=16384)] = 1080


class Limit(Values):
    """What is chosen for a texture: its longest side, pixels."""

    limit: Annotated[int, Field(ge=1, le=65536, title="longest side, px")]
    # Of a normal map: what of its bumps is lost makes its materials rougher (Toksvig 2005).
    bumps: Annotated[bool, Field(title="lost bumps into roughness")] = False


class TextureSize(Trim):
    """Halves pictures until they are no larger than they need to be."""

    name = "texture_size"
    title = "Texture size"
    parameters_type = Parameters
    choice_type = Limit

    def propose(
        self,
        scene: OpenScene,
        analysis: Analysis,
        parameters: BaseModel,
        progress: Progress = silent,
    ) -> list[Proposal]:
        """Find textures larger than a rule asks; see `Trim.propose`."""
        assert isinstance(parameters, Parameters)
        rule = parameters.rule or usual_rule(analysis)
        if rule not in RULES:
            raise MillError(
                f"There is no rule “{rule}”.",
                f"Choose from {', '.join(RULES.names)}.",
            )
        out = []
        limits = RULES[rule].limits(analysis, parameters.height)
        together = shared_limits(analysis, {x.row.index: x.limit for x in limits})
        for found in limits:
            row = found.row
            limit = together.get(row.index, found.limit)
            size, held = shrunk(row, limit)
            if size == (row.width, row.height):
                continue
            out.append(
                Proposal(
                    trim=self.name,
                    target=Target(kind="image", index=row.index, name=row.name),
                    parameters={"limit": max(size)},
                    before=[row.width, row.height],
                    after=list(size),
                    memory_before_bytes=row.memory_bytes,
                    memory_saved_bytes=row.memory_bytes - held,
                    file_saved_bytes=file_saved(row, size),
                    facts={"rule": rule, "nearest_frame": row.nearest_frame, **found.facts},
                )
            )
        return sorted(out, key=lambda p: (-p.memory_saved_bytes, p.target.index))

    def apply(
        self, scene: Scene, choices: Sequence[Choice], progress: Progress
    ) -> tuple[Scene, list[Change]]:
        """Halve the chosen pictures; see `Trim.apply`."""
        chosen = {i: self.checked(c) for i, c in chosen_images(scene, choices).items()}
        sizes = {i: limit.limit for i, limit in chosen.items()}
        bumps = {i for i, limit in chosen.items() if limit.bumps}
        trimmed, shrinks = shrink(scene, sizes, progress, bumps)
        changes = [
            Change(
                kind=self.name,
                target=s.name,
                key=f"image:{s.image}",
                from_=list(s.old),
                to=list(s.new),
                memory_saved_bytes=s.old_bytes - s.new_bytes,
                file_saved_bytes=s.old_file_bytes - s.new_file_bytes,
            )
            for s in shrinks
        ]
        return trimmed, changes

    def describe(self, change: Change) -> str:
        """Tell the sizes before and after."""
        (w, h), (x, y) = change.from_, change.to
        return f"{w} × {h} → {x} × {y} px"

    def explain(self, proposal: Proposal) -> str:
        """Tell what the shot asks for and what is held."""
        facts, held = proposal.facts, max(proposal.before)
        asked = proposal.parameters["limit"]
        if facts.get("shown"):
            across, down = facts["shown"]
            return f"the shot shows {across} x {down} of it: {asked} px asked, {held} held"
        if facts.get("nearest_m") is None:
            return ""
        at = f" at frame {facts['nearest_frame']}" if facts.get("nearest_frame") else ""
        text = f"nearest {facts['nearest_m']:.1f} m{at}: {asked} px asked, {held} held"
        if facts.get("too_little_for"):
            text += f"; too few, the shot shows {facts['too_little_for']}"
        return text

    def summarise(self, changes: Sequence[Change]) -> str:
        """Tell how many textures were made smaller."""
        return f"{len(changes)} texture{'s' * (len(changes) != 1)} made smaller"

    def foresee(self, analysis: Analysis, choices: Sequence[Choice]) -> Analysis:
        """Predict what the chosen textures will hold; see `Trim.foresee`."""
        limits = {c.target.index: self.checked(c).limit for c in choices}
        rows = {}
        for t in analysis.textures:
            if t.index in limits and t.memory_bytes:
                (width, height), held = shrunk(t, limits[t.index])
                smaller = {
                    "width": width,
                    "height": height,
                    "memory_bytes": held,
                    "file_bytes": t.file_bytes - file_saved(t, (width, height)),
                    "jpeg_bytes": None
                    if t.jpeg_bytes is None
                    else round(t.jpeg_bytes * width * height / (t.width * t.height)),
                }
                rows[t.index] = t.model_copy(update=smaller)
        return with_rows(analysis, rows)


def shared_limits(analysis: Analysis, limits: Mapping[int, int]) -> dict[int, int]:
    """Limits of pictures that are stored more than once: what the most demanding of them needs.

    One may stand for all of them after another trim.
    """
    most: dict[int, int] = {}
    groups = {t.index: t.same_as if t.same_as is not None else t.index for t in analysis.textures}
    for t in analysis.textures:
        need = limits.get(t.index, max(t.width, t.height))
        first = groups[t.index]
        most[first] = max(most.get(first, 0), need if t.memory_bytes else 0)
    return {i: most[groups[i]] for i in limits if most[groups[i]]}


def file_saved(row: TextureRow, size: tuple[int, int]) -> int:
    """About the bytes that a smaller file saves: as many a pixel as before."""
    return round(row.file_bytes * (1 - size[0] * size[1] / (row.width * row.height)))
