"""What a render needs beside its scene and its recipe: this computer, and a sky picture."""

from __future__ import annotations

from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from mill_lane.core.devices.model import Device
from mill_lane.core.errors import MillError
from mill_lane.core.recipe import Recipe
from mill_lane.store.home import Home
from mill_lane.store.models import DeviceRow, StoredFile


def own_cpu(db: Session) -> Device:
    """This computer, as it was found."""
    return Device.model_validate(db.scalars(select(DeviceRow).where(DeviceRow.found)).one().data)


def sky_file(db: Session, home: Home, recipe: Recipe) -> Path | None:
    """The file of a recipe's sky picture; None where it has none.

    Raises
    ------
    MillError
        Where it is no longer kept.
    """
    digest = recipe.environment_picture.split("/")[0]
    if not digest:
        return None
    if db.get(StoredFile, digest) is None:
        raise MillError(
            "The sky picture is no longer there.", "Choose it again under “Sky picture”."
        )
    return home.files.path(digest)
