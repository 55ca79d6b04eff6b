"""A device: something that renders, with memory and a share of it that is not ours."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field, field_validator, model_validator

from mill_lane.core.devices.kinds import DEVICE_KINDS

GB = 10**9


class Device(BaseModel):
    """One device of the machine.  Bytes; GB is 10^9.

    `desktop_bytes` is kept for the desktop and other programs; `threads_free` are left idle so that
    the computer stays usable while it renders (one, common practice).  A card is simulated: its
    pixels are computed by this computer's CPU and only its memory is modelled.
    """

    model_config = ConfigDict(frozen=True, extra="forbid")

    name: Annotated[str, Field(min_length=1, max_length=80)]
    kind: str
    memory_bytes: Annotated[int, Field(ge=10**6, le=10**13)]
    desktop_bytes: Annotated[int, Field(ge=0, le=10**13)] = 0
    threads: Annotated[int, Field(ge=1, le=4096)] = 1
    threads_free: Annotated[int, Field(ge=0, le=4095)] = 1
    samples_in_flight: Annotated[int, Field(ge=0, le=10**9)] = 0  # paths kept at once
    # Of the computer's memory, lent to a card: slower, but it runs.
    lent_bytes: Annotated[int, Field(ge=0, le=10**13)] = 0
    # What other programs hold at this moment: looked up, never stored.
    held_bytes: Annotated[int, Field(ge=0, exclude=True)] = 0

    @field_validator("kind")
    @classmethod
    def _kind_is_known(cls, value: str) -> str:
        if value not in DEVICE_KINDS:
            raise ValueError(f"is one of {', '.join(DEVICE_KINDS.names)}")
        return value

    @model_validator(mode="after")
    def _something_is_left(self) -> Device:
        if self.desktop_bytes >= self.memory_bytes:
            raise ValueError(
                "Kept for the desktop is all the memory there is: lower it, or raise the memory"
            )
        return self

    @property
    def free_bytes(self) -> int:
        """What a render may take: what is not kept for others, nor held by them now, and lent."""
        own = max(0, self.memory_bytes - max(self.desktop_bytes, self.held_bytes))
        return own + self.lent_bytes

    @property
    def render_threads(self) -> int:
        """Threads that render: all but the ones kept free, at least one."""
        return max(1, self.threads - self.threads_free)

    @property
    def simulated(self) -> bool:
        """Whether only its memory is modelled."""
        return DEVICE_KINDS[self.kind].simulated

    @property
    def batches(self) -> bool:
        """Whether it keeps a number of paths in flight, rather than one for each thread."""
        return DEVICE_KINDS[self.kind].batches


DEMO_CARD = Device(
    name="Card, 4 GB",
    kind="card",
    memory_bytes=4 * GB,
    desktop_bytes=1 * GB,
    samples_in_flight=262_144,
)
