"""The form of the next trial, which is what the look that runs looks at, too."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import BaseModel, Field

from mill_lane.core.crop import crop_of
from mill_lane.core.recipe import Recipe
from mill_lane.jobs.renders import Preview, Wish
from mill_lane.web.shared.recipes import values_of


class TrialForm(BaseModel):
    """A trial to be run: the changed fields of the recipe, the crop, the frame, the device."""

    model_config = {"extra": "allow"}

    after: int | None = None  # the trial it will be compared with
    role: Literal["draft", "final"] = "draft"
    crop: Annotated[str, Field(max_length=200)] = ""  # as shares of the frame
    frame: int = 1
    device: int | None = None
    note: Annotated[str, Field(max_length=2000)] = ""
    whole: bool = False
    endless: bool = False  # until it is stopped by hand, or by the noise or the time
    # What is left out for looking; the recipe stays as it is.
    hide: list[Literal["indirect", "shadows", "refraction", "fog", "motion", "depth_of_field"]] = []
    only_object: Annotated[str, Field(max_length=200)] = ""
    only_component: Annotated[str, Field(max_length=40)] = ""
    view: Literal["light", "occlusion", "wires"] = "light"

    def wish(self, recipe: Recipe) -> Wish:
        """What is wanted, of a recipe as it is kept.

        Raises
        ------
        MillError
            Naming a field that is wrong.
        """
        return Wish(
            role=self.role,
            values=values_of(self.model_extra or {}, recipe),
            crop=None if self.whole else crop_of(self.crop),
            frame=self.frame,
            device=self.device,
            note=self.note,
            endless=self.endless,
            preview=Preview(tuple(self.hide), self.only_object, self.only_component, self.view),
        )
