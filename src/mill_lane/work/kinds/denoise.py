"""Taking the noise out of a trial or a frame: its picture once more, clean, beside its layers."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any, Literal

from pydantic import BaseModel, Field
from sqlalchemy import select
from sqlalchemy.orm import Session

from mill_lane.core.denoise.names import DENOISED, KEPT_EXR, LOST, MOST_BESIDE, RADIUS
from mill_lane.core.denoise.verdict import Verdict
from mill_lane.core.errors import MillError
from mill_lane.core.recipe_versions import read_recipe
from mill_lane.store.files import Taken, list_file
from mill_lane.store.home import Home
from mill_lane.store.models import Render
from mill_lane.work.kinds.base import AT_ONCE, Context, Kind, Report
from mill_lane.work.kinds.render_parts import THUMBNAIL, Output, of_run

if TYPE_CHECKING:
    from mill_lane.core.denoise.showing import Kept

CLEAN_FOLDER = "denoised"  # beside the frames of a run as they were rendered


class Wanted(BaseModel):
    """How a trial is worked: the mode, pixels to either side, how much guides count, components
    that are cleaned one by one (none: all the light together), frames before and after it that are
    used along the motion.
    """

    mode: Literal["quality", "preview", "fireflies"] = "quality"
    radius: Annotated[int, Field(ge=1, le=20)] = RADIUS
    guides: dict[Literal["albedo", "normal", "depth"], Annotated[float, Field(ge=0, le=1)]] = {}
    components: list[Annotated[str, Field(max_length=40)]] = []
    beside: Annotated[int, Field(ge=0, le=MOST_BESIDE)] = 0


class Payload(Wanted):
    """Of which trial or frame, and how it is worked."""

    render: int


class Request(BaseModel):
    """The trial's EXR, those of frames before and after by how many frames later they are, how it
    is shown, and where to put pictures.
    """

    exr: Path
    beside: dict[int, Path] = {}
    exposure: float
    wanted: Wanted
    later: bool
    folder: Path
    frame: int = 0
    output: Output | None = None


class Result(BaseModel):
    """The clean picture, raw and clean light, a map of the detail that went where the halves tell
    it, a small picture for frames of a run, and figures.
    """

    picture: Path
    kept: Path
    lost: Path | None
    most_lost: float
    thumbnail: Path | None = None
    measured: dict[str, Any]


def frames_beside(db: Session, row: Render, most: int) -> list[Render]:
    """Pictures of the frames before and after one, of the same scene, size and crop, in order.

    At most `most` to either side; the newest of each frame.
    """
    query = select(Render).where(
        Render.job_id == row.job_id,
        Render.kind == row.kind,
        Render.version_id == row.version_id,
        Render.frame.between(row.frame - most, row.frame + most),
        Render.frame != row.frame,
        Render.exr.is_not(None),
        Render.removed.is_(False),
    )
    size = row.recipe["width"], row.recipe["height"]
    found: dict[int, Render] = {}
    for other in db.scalars(query.order_by(Render.id)):
        if (other.recipe["width"], other.recipe["height"]) == size and other.region == row.region:
            found[other.frame] = other
    return [found[frame] for frame in sorted(found)]


class Denoise(Kind[Payload, Request, Result]):
    """Take the noise out of a trial or a frame, as soon as it may be."""

    name = "denoise"
    priority = -1  # the next picture waits: this one is not done before
    later = False
    payload_type = Payload
    request_type = Request
    result_type = Result
    grace = AT_ONCE

    def prepare(self, context: Context, payload: Payload) -> Request:
        """Find the trial's file."""
        row = context.db.get_one(Render, payload.render)
        if not row.exr:
            raise MillError("There is no picture.", "Render it again, then denoise it.")
        return Request(
            exr=context.home.files.path(row.exr),
            beside={
                other.frame - row.frame: context.home.files.path(other.exr)
                for other in frames_beside(context.db, row, payload.beside)
                if other.exr
            },
            exposure=read_recipe(row.recipe).exposure,
            wanted=Wanted.model_validate(payload.model_dump(exclude={"render"})),
            later=self.later,
            folder=context.folder,
            frame=row.frame,
            output=of_run(context.db, row).get("output"),
        )

    def run(self, request: Request, report: Report) -> Result:
        """Denoise it, and look for what went with the noise."""
        import time
        from contextlib import ExitStack

        from mill_lane.core.denoise.files import Wishes, open_source, strips_for
        from mill_lane.core.denoise.masks import shares_of
        from mill_lane.core.denoise.notes import Notes
        from mill_lane.core.denoise.showing import collect, write_kept
        from mill_lane.core.denoise.strips import Settings
        from mill_lane.core.formats.exr_rows import ExrRows
        from mill_lane.core.formats.pictures import write_pixels, write_thumbnail
        from mill_lane.core.image.maps import ramp
        from mill_lane.core.image.srgb import in_bands, view
        from mill_lane.core.render.session import threads_to_use
        from mill_lane.work.kept_scene import forget_scene
        from mill_lane.work.memory import peak_since, reset_peak, resident, return_large_blocks

        if request.later:
            forget_scene()
        return_large_blocks()
        baseline = resident()
        reset_peak()
        report(0.0, "reading the picture")
        wanted, notes = request.wanted, Notes()
        start = time.perf_counter()

        def tell(share: float) -> None:
            report(0.02 + 0.9 * share, "taking the noise out")

        counts: dict[str, float] = {**wanted.guides}  # type: ignore[dict-item]
        settings = Settings(wanted.mode, wanted.radius, counts, threads_to_use(64))
        wishes = Wishes(settings, components=tuple(wanted.components))
        with ExitStack() as open_files:
            rows = open_files.enter_context(ExrRows(request.exr))
            others = [
                open_source(open_files.enter_context(ExrRows(path)), step, wishes, Notes())
                for step, path in sorted(request.beside.items())
            ]
            if wanted.beside:
                notes.say(f"{len(others)} of the frames before and after were there")
            strips = strips_for(open_source(rows, 0, wishes, notes), wishes, notes, others, tell)
            kept, light, lost, verdict = collect(strips, rows.height, rows.width)
        seconds = time.perf_counter() - start
        report(0.95, "writing")
        picture, exr = request.folder / "denoised.png", request.folder / "denoised.exr"
        write_pixels(picture, in_bands(lambda x: view(x, request.exposure), kept.clean))
        write_kept(exr, kept)
        measured: dict[str, Any] = {
            "mode": wanted.mode,
            "peak_memory_bytes": peak_since(baseline),
            "seconds": seconds,
            "light_change": light.change,
            "fireflies": round(light.fireflies),
            "moved": light.moved_share,
            "notes": list(notes.words()),
        }
        if verdict is not None:
            measured["verdict"] = verdict.model_dump()
        if request.output is not None:
            measured["written"] = put_out(request, request.output, kept)
        shown, most = None, 0.0
        if lost is not None:
            shown, most = request.folder / "lost.png", float(lost.shown.max())
            write_pixels(shown, in_bands(lambda x: ramp(x / max(most, 1e-6)), lost.shown))
            measured |= {"lost": lost.share, "worst": lost.worst()}
        if kept.objects is not None:
            measured["objects"] = shares_of(kept.objects)
        small = write_thumbnail(picture, request.folder) if request.output is not None else None
        return Result(
            picture=picture,
            kept=exr,
            lost=shown,
            most_lost=most,
            thumbnail=small,
            measured=measured,
        )

    def store(self, home: Home, result: Result) -> dict[str, Taken]:
        """Take the pictures in."""
        files = {DENOISED: result.picture, KEPT_EXR: result.kept} | (
            {LOST: result.lost} if result.lost else {}
        )
        if result.thumbnail:
            files[THUMBNAIL] = result.thumbnail
        return {name: home.files.put(path) for name, path in files.items()}

    def keep(
        self, context: Context, payload: Payload, result: Result, taken: Mapping[str, Taken]
    ) -> dict[str, Any]:
        """Put them beside the layers of the trial."""
        row = context.db.get_one(Render, payload.render)
        made: dict[str, Any] = {
            name: {"hash": list_file(context.db, file)} for name, file in taken.items()
        }
        if result.measured.get("verdict") is not None:
            verdict = Verdict(**result.measured["verdict"])
            made[DENOISED]["share"] = verdict.share
            if not verdict.better:
                # It is not shown in the raw one's place by itself.
                made[DENOISED]["unsure"] = True
                made.pop(THUMBNAIL, None)
        if LOST in made:
            made[LOST] |= {"low": 0.0, "high": 100 * result.most_lost, "unit": "%"}
        others = {k: v for k, v in row.layers.items() if k != LOST}  # an older one's map goes
        row.layers = {**others, **made}
        return {"measured": result.measured}


def put_out(request: Request, output: Output, kept: Kept) -> list[str]:
    """Write a frame of a run denoised, in a folder of its own beside the raw one; the names of
    what was written, or why it could not be.
    """
    from mill_lane.core.formats.exr import read_header
    from mill_lane.core.plan.frame_output import write_frame

    name = Path(output.sheet.name)
    sheet = output.sheet.model_copy(
        update={"name": (name.parent / CLEAN_FOLDER / name.name).as_posix(), "layers": "beauty"}
    )
    try:
        made = write_frame(
            sheet,
            output.folder,
            request.frame,
            lambda: [("beauty", kept.mixed())],
            request.exposure,
            read_header(request.exr),
        )
    except MillError as e:
        return [f"not written: {e.message}"]
    return [str(path) for path in made]


class DenoiseLater(Denoise):
    """The same when nothing else is to be done, with no scene in memory."""

    name = "denoise_later"
    priority = 6
    gives_way = True
    apart = True
    later = True


DENOISE, DENOISE_LATER = Denoise(), DenoiseLater()
