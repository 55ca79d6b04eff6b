"""The first look at a scene version: its camera's view, small and soon."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

from pydantic import BaseModel

from mill_lane.core.progress import part
from mill_lane.store.files import Taken, list_file
from mill_lane.store.home import Home
from mill_lane.store.models import SceneVersion
from mill_lane.work.kinds.base import AT_ONCE, Context, Kind, Report
from mill_lane.work.kinds.final import final_recipe

WIDTH = 480  # pixels of the longer side; the other goes by the final picture
LEAST = 16  # pixels of the shorter one
SMALL = 2  # times smaller is what is shown first
PICTURE, MESHES = "look.png", "meshes.png"


def size_of(aspect: float) -> tuple[int, int]:
    """Width and height of a look, pixels: `WIDTH` at the longer side, and at least a few."""
    sides = (WIDTH, WIDTH / aspect) if aspect >= 1.0 else (WIDTH * aspect, WIDTH)
    return max(round(sides[0]), LEAST), max(round(sides[1]), LEAST)


class Payload(BaseModel):
    """Of which scene version, through which camera, at which frame, and of which shape.

    An aspect of 0 is that of the final set when it begins.
    """

    version: int
    camera: str = ""
    frame: int | None = None
    aspect: float = 0.0


class Request(BaseModel):
    """The scene, what is looked at, and where to put the pictures."""

    scene: Path
    size: tuple[int, int]
    camera: str
    frame: int | None
    folder: Path


class Result(BaseModel):
    """The pictures as they are now."""

    picture: Path
    meshes: Path
    samples: float
    complete: bool


class FirstLook(Kind[Payload, Request, Result]):
    """Draw the camera's view, again and again, each time better."""

    name = "first_look"
    payload_type = Payload
    request_type = Request
    result_type = Result
    lane = "looks"
    gives_way = True
    kernels = True
    grace = AT_ONCE
    priority = 20

    def prepare(self, context: Context, payload: Payload) -> Request:
        """Find the scene."""
        row = context.db.get_one(SceneVersion, payload.version)
        recipe = final_recipe(context.db, row.job_id)
        aspect = payload.aspect or recipe.width / recipe.height
        return Request(
            scene=context.home.files.path(row.file_hash),
            size=size_of(aspect),
            camera=payload.camera,
            frame=payload.frame,
            folder=context.folder,
        )

    def run(self, request: Request, report: Report) -> Result:
        """Look; every better picture is shown as soon as it is there."""
        from mill_lane.core.formats.opening import open_scene
        from mill_lane.core.formats.pictures import write_pixels
        from mill_lane.core.render.look import first_look, mesh_codes
        from mill_lane.core.render.session import threads_to_use
        from mill_lane.work.warm import prepare

        prepare(part(report, 0.0, 0.05))
        scene = open_scene(request.scene)
        result = None
        for size in (SMALL, 1):
            shares = (0.05, 0.35) if size > 1 else (0.35, 1.0)
            looks = first_look(
                scene,
                request.size[0] // size,
                request.size[1] // size,
                request.camera or None,
                request.frame,
                threads_to_use(64),
                part(report, *shares),
            )
            for number, look in enumerate(looks):
                picture, meshes = request.folder / PICTURE, request.folder / MESHES
                for path, pixels in ((picture, look.picture), (meshes, mesh_codes(look.meshes))):
                    beside = path.with_suffix(".part.png")
                    write_pixels(beside, pixels)
                    beside.replace(path)
                result = Result(
                    picture=picture, meshes=meshes, samples=look.samples, complete=look.complete
                )
                # The page shows it from the task's folder; the stamp tells that it is another.
                stamp = number + (1 if size > 1 else 2)
                report.live = {"stamp": stamp, "samples": look.samples, "shown": True}
                report(shares[0], "the first look")
                if size > 1:
                    break  # the small one only has to be soon
        assert result is not None
        return result

    def store(self, home: Home, result: Result) -> dict[str, Taken]:
        """Take both pictures in."""
        return {"picture": home.files.put(result.picture), "meshes": home.files.put(result.meshes)}

    def keep(
        self, context: Context, payload: Payload, result: Result, taken: Mapping[str, Taken]
    ) -> dict[str, Any]:
        """Keep them with the scene version; they are no trial."""
        hashes = {name: list_file(context.db, file) for name, file in taken.items()}
        return {**hashes, "samples": result.samples, "complete": result.complete}


FIRST_LOOK = FirstLook()
