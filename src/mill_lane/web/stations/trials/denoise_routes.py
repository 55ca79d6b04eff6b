"""Noise taken out of a trial, masks of it, and how few samples hold."""

from __future__ import annotations

from typing import Annotated, Literal

from fastapi import APIRouter, Request
from fastapi.responses import FileResponse, Response
from pydantic import BaseModel, Field

from mill_lane.core.crop import crop_of
from mill_lane.core.denoise.masks import Where
from mill_lane.core.denoise.names import MOST_BESIDE, PICTURE, RADIUS, STRENGTH
from mill_lane.core.names import short_name
from mill_lane.jobs import masks
from mill_lane.jobs.denoising import blend, clean_file, denoise_trial, kept_of
from mill_lane.jobs.exposed import within
from mill_lane.jobs.holding import TARGET, ask
from mill_lane.jobs.lookup import find_job, find_render
from mill_lane.web.shared.context import AHome, Db, Done
from mill_lane.web.stations.trials.denoising import numbers_of
from mill_lane.web.stations.trials.sent import sent_for_trial
from mill_lane.work.kinds.denoise import Wanted

router = APIRouter()
Share = Annotated[float, Field(ge=0, le=1)]
MASK_LIMIT = 200 * 10**6


class DenoiseForm(BaseModel):
    """How a trial is denoised; a control for each guide, and components by name."""

    mode: Literal["quality", "preview", "fireflies"] = "quality"
    radius: Annotated[int, Field(ge=1, le=20)] = RADIUS
    albedo: Share = 1.0
    normal: Share = 1.0
    depth: Share = 1.0
    beside: Annotated[int, Field(ge=0, le=MOST_BESIDE)] = 0
    components: list[str] | str = []

    @property
    def wanted(self) -> Wanted:
        """The same as the task takes it."""
        guides = {"albedo": self.albedo, "normal": self.normal, "depth": self.depth}
        parts = [self.components] if isinstance(self.components, str) else self.components
        return Wanted.model_validate(
            {
                "mode": self.mode,
                "radius": self.radius,
                "guides": {name: count for name, count in guides.items() if count < 1},
                "components": [p for p in parts if p],
                "beside": self.beside,
            }
        )


@router.post("/api/trials/{trial}/denoise")
def denoise(db: Db, trial: int, form: DenoiseForm) -> Done:
    """Take the noise out of a trial; what it was stays."""
    row = find_render(db, trial, "trial")
    denoise_trial(db, row, form.wanted)
    # What is shown goes back to what is usual: the clean picture, as soon as it is there.
    return Done(go=f"/jobs/{row.job_id}/trials?b={row.number}&a=&layer=")


@router.get("/trials/{trial}/denoised.png", include_in_schema=False)
def denoised(
    db: Db,
    home: AHome,
    trial: int,
    strength: Share = STRENGTH,
    mask: str = "",
    objects: Annotated[str, Field(max_length=2000)] = "",
    detail: Share = 0.0,
    stops: float = 0.0,
) -> Response:
    """A denoised trial, blended with the raw one as wanted."""
    row = find_render(db, trial, "trial")
    painted = masks.mask_picture(home, row) if mask == PICTURE else None
    where = Where(mask, frozenset(numbers_of(objects)), painted)
    pixels = blend(home, row, strength, where, detail, within(stops))
    # The address names what was denoised: another one has another.
    kept = {"cache-control": "private, max-age=3600"}
    return Response(pixels, media_type="image/png", headers=kept)


class AnObject(BaseModel):
    """The number of an object; 0 for none."""

    object: int


@router.get("/api/trials/{trial}/object")
def object_at(db: Db, home: AHome, trial: int, x: Share, y: Share) -> AnObject:
    """Which object is seen at a place of a denoised trial, in shares of the whole picture."""
    row = find_render(db, trial, "trial")
    return AnObject(object=masks.object_at(kept_of(home, row), row, x, y))


@router.post("/api/trials/{trial}/mask", max_body_size=MASK_LIMIT)
async def set_mask(request: Request, trial: int, name: str) -> Done:
    """Take a painted or loaded picture as the mask of a trial: white is what is cleaned."""
    words = "Save it as grey PNG of the trial's size.", "Save it again."
    short = short_name(name, "mask")
    return await sent_for_trial(
        request, trial, short, MASK_LIMIT, words, masks.take_mask, masks.use_mask
    )


@router.delete("/api/trials/{trial}/mask")
def no_mask(db: Db, trial: int) -> Done:
    """Clear the mask of a trial; it can be taken back."""
    masks.use_mask(db, find_render(db, trial, "trial"), None)
    return Done()


@router.post("/api/trials/{trial}/mask/undo")
def undo_mask(db: Db, trial: int) -> Done:
    """Go back to the mask of before."""
    masks.undo_mask(find_render(db, trial, "trial"))
    return Done()


@router.get("/trials/{trial}/denoised.exr", include_in_schema=False)
def denoised_exr(db: Db, home: AHome, trial: int) -> FileResponse:
    """The clean light of a denoised trial, with the raw one and the maps beside it."""
    path, name = clean_file(home, find_render(db, trial, "trial"))
    return FileResponse(path, media_type="image/x-exr", filename=name)


class HoldForm(BaseModel):
    """Where, and with which error at most, in percent."""

    crop: Annotated[str, Field(max_length=200)] = ""  # as shares of the frame
    frame: int = 1
    target: Annotated[float, Field(allow_inf_nan=False)] = 100 * TARGET


@router.post("/api/jobs/{job}/samples-that-hold")
def samples_that_hold(db: Db, job: int, form: HoldForm) -> Done:
    """Find how few samples hold, denoised, by a pilot of a crop."""
    row = find_job(db, job)
    ask(db, row, crop_of(form.crop), form.frame, form.target / 100)
    return Done()
