"""What trims share: a target, a proposal, a choice, a change, and what a trim can do."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping, Sequence
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from mill_lane.core.errors import MillError, input_words
from mill_lane.core.progress import Progress, silent
from mill_lane.core.scene.model import Scene
from mill_lane.core.weigh.analysis import Analysis
from mill_lane.core.words import plural

TargetKind = Literal["image", "mesh", "object", "material", "light", "medium", "scene"]
OpenScene = Callable[[], Scene]


class Values(BaseModel):
    """What all parameters and choices of trims share: they are kept as they are, nothing beside."""

    model_config = ConfigDict(frozen=True, extra="forbid")


class Nothing(Values):
    """Nothing to be set."""


class StandsFor(Values):
    """The thing of the same kind, by its index, that stands for the target."""

    of: Annotated[int, Field(ge=0)]


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
    memory_before_bytes, memory_saved_bytes : int
        Held while it renders, of the target alone.
    file_saved_bytes : int
    triangles_saved : int
        Drawn, all copies counted.
    facts : dict
        What the proposal rests on, as JSON: metres, frames, a rule.
    left_alone : str
        Why nothing can be done about the target, although it weighs; empty for what can be staged.
    """

    model_config = ConfigDict(frozen=True)

    trim: str
    target: Target
    parameters: dict[str, Any]
    before: Any
    after: Any
    memory_before_bytes: int = 0
    memory_saved_bytes: int
    file_saved_bytes: int = 0
    triangles_saved: int = 0
    facts: dict[str, Any] = {}
    left_alone: str = ""

    @property
    def choice(self) -> Choice:
        """The choice that accepts it as it is."""
        return Choice(trim=self.trim, target=self.target, parameters=self.parameters)


class Choice(BaseModel):
    """A proposal that was accepted, or a wish of one's own: a target and what is done with it."""

    model_config = ConfigDict(frozen=True)

    trim: str
    target: Target
    parameters: dict[str, Any] = {}


class Change(BaseModel):
    """What a trim did to one target, and why; the same shape for every trim."""

    model_config = ConfigDict(frozen=True, populate_by_name=True)

    kind: str
    target: str
    key: str = ""
    from_: Any = Field(default=None, alias="from")
    to: Any = None
    memory_saved_bytes: int = 0
    file_saved_bytes: int = 0
    why: str = ""
    facts: dict[str, Any] = {}

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
    choice_type : type of BaseModel
        What a choice says of its target; fields with a title can be set by hand.
    exact : bool
        Whether nothing that is drawn changes.
    """

    name: str
    title: str
    parameters_type: type[BaseModel]
    choice_type: type[BaseModel]
    exact: bool = False

    @property
    def by_size(self) -> bool:
        """Whether it goes by the height of the picture, a parameter of its."""
        return "height" in self.parameters_type.model_fields

    def usual(self, height: int) -> BaseModel:
        """The parameters that it is asked with where nobody chose, for a picture so high."""
        return self.parameters_type(**({"height": height} if self.by_size else {}))

    def opens_scene(self, parameters: BaseModel) -> bool:
        """Whether proposing looks into the scene, which may take a while."""
        return False

    @abstractmethod
    def propose(
        self,
        scene: OpenScene,
        analysis: Analysis,
        parameters: BaseModel,
        progress: Progress = silent,
    ) -> list[Proposal]:
        """Find what could be done, the largest saving first.

        Parameters
        ----------
        scene : callable
            Opens the scene, for trims that cannot go by the analysis alone.
        analysis : Analysis
        parameters : BaseModel
            Of the trim's own type.
        progress : callable
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
        return f"{self.title}: {plural(len(changes), 'change')}"

    def explain(self, proposal: Proposal) -> str:
        """Tell why, in a few trade words; empty where there is nothing to say."""
        return ""

    def foresee(self, analysis: Analysis, choices: Sequence[Choice]) -> Analysis:
        """Predict what weighing will find once choices of this trim are applied.

        Parameters
        ----------
        analysis : Analysis
            Of the scene before, maybe after other trims.
        choices : sequence of Choice

        Returns
        -------
        Analysis
            With other rows where the trim changes what they hold.
        """
        return analysis

    def checked(self, choice: Choice) -> Any:
        """The parameters of a choice, as `choice_type`.

        Raises
        ------
        MillError
            Naming the target and the first that is wrong.
        """
        return _validated(self.choice_type, choice.parameters, choice.target.name)


def parameters_of(trim: Trim, values: Mapping[str, Any]) -> BaseModel:
    """Check the parameters of a trim.

    Raises
    ------
    MillError
        Naming the first that is wrong.
    """
    return _validated(trim.parameters_type, values, trim.name)


def _validated(model: type[BaseModel], values: Mapping[str, Any], what: str) -> BaseModel:
    try:
        return model.model_validate(dict(values))
    except ValueError as e:
        first = e.errors()[0] if isinstance(e, ValidationError) else {"msg": str(e), "loc": ()}
        field = ".".join(str(x) for x in first["loc"])
        wrong = f"“{what}”, {field}" if field else f"“{what}”"
        raise MillError(f"{wrong}: {input_words(first)}.", "Correct it and try again.") from e
