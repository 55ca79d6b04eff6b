"""What trims share: a target, a proposal, a choice, a change, and what a trim can do."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping, Sequence
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field

from mill_lane.core.errors import MillError
from mill_lane.core.progress import Progress
from mill_lane.core.scene.model import Scene
from mill_lane.core.weigh.analysis import Analysis

TargetKind = Literal["image", "mesh", "object", "material", "light", "scene"]
OpenScene = Callable[[], Scene]


class Target(BaseModel):
    """What of a scene is trimmed: an entry of one of its lists, or all of it."""

    model_config = ConfigDict(frozen=True)

    kind: TargetKind
    index: int = 0
    name: str

    @property
    def key(self) -> str:
        """By which it is found among others: "image:3"."""
        return f"{self.kind}:{self.index}"


class Proposal(BaseModel):
    """Something that a trim could do, and what that saves.

    Attributes
    ----------
    trim : str
        The name of the trim.
    target : Target
    parameters : dict
        What it would be done with, as JSON; the trim's own `Choice` fields.
    before, after : any
        What changes, as JSON: for a texture its pixels, [width, height].
    memory_saved_bytes : int
    facts : dict
        What the proposal rests on, as JSON: metres, frames, a rule.
    """

    model_config = ConfigDict(frozen=True)

    trim: str
    target: Target
    parameters: dict[str, Any]
    before: Any
    after: Any
    memory_before_bytes: int = 0
    memory_saved_bytes: int
    facts: dict[str, Any] = {}


class Choice(BaseModel):
    """A proposal that was accepted, or a wish of one's own: a target and what is done with it."""

    model_config = ConfigDict(frozen=True)

    trim: str
    target: Target
    parameters: dict[str, Any] = {}


class Change(BaseModel):
    """What a trim did to one target; the same shape for every trim."""

    model_config = ConfigDict(frozen=True, populate_by_name=True)

    kind: str
    target: str
    key: str = ""
    from_: Any = Field(default=None, alias="from")
    to: Any = None
    memory_saved_bytes: int = 0
    file_saved_bytes: int = 0

    def as_json(self) -> dict[str, Any]:
        """As it is kept and printed."""
        return self.model_dump(mode="json", by_alias=True)


class Trim(ABC):
    """A way to make a scene lighter.  One module each, listed in `trim.TRIMS`.

    Attributes
    ----------
    name : str
        By which it is found in files, addresses and on the command line.
    title : str
        What it is called on a page.
    parameters_type : type of BaseModel
        How proposals are to be made; each field has a default.
    """

    name: str
    title: str
    parameters_type: type[BaseModel]

    @abstractmethod
    def propose(
        self, scene: OpenScene, analysis: Analysis, parameters: BaseModel
    ) -> list[Proposal]:
        """Find what could be done, the largest saving first.

        Parameters
        ----------
        scene : callable
            Opens the scene, for trims that cannot go by the analysis alone.
        analysis : Analysis
        parameters : BaseModel
            Of the trim's own type.
        """

    @abstractmethod
    def apply(
        self, scene: Scene, choices: Sequence[Choice], progress: Progress
    ) -> tuple[Scene, list[Change]]:
        """Make the scene lighter.

        Parameters
        ----------
        scene : Scene
            Left as it is.
        choices : sequence of Choice
            Of this trim.
        progress : callable

        Returns
        -------
        scene : Scene
        changes : list of Change
            In the order of the choices; what changed nothing is left out.

        Raises
        ------
        MillError
            Where a choice names what the scene has not, or its parameters are wrong.
        """

    @abstractmethod
    def describe(self, change: Change) -> str:
        """Tell what a change did, in a few trade words."""

    def summarise(self, changes: Sequence[Change]) -> str:
        """Tell what several changes did together."""
        if len(changes) == 1:
            return f"{changes[0].target}: {self.describe(changes[0])}"
        return f"{self.title}: {len(changes)} changes"

    def memory_after(self, analysis: Analysis, choices: Sequence[Choice]) -> Mapping[int, int]:
        """Predict the bytes that images would hold, by index; for trims that change pictures."""
        return {}


def parameters_of(trim: Trim, values: Mapping[str, Any]) -> BaseModel:
    """Check the parameters of a trim.

    Raises
    ------
    MillError
        Naming the first that is wrong.
    """
    try:
        return trim.parameters_type.model_validate(dict(values))
    except ValueError as e:
        errors = getattr(e, "errors", None)
        first = errors()[0] if errors else {"msg": str(e), "loc": ()}
        field = ".".join(str(x) for x in first["loc"])
        raise MillError(
            f"{field or trim.name}: {first['msg']}.", "Correct it and try again."
        ) from e
