"""The brief: which channels and which drives a customer is asked for, with reasons; chosen by car and purpose."""

from __future__ import annotations

import json
from typing import Annotated, Any, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.drives import DriveKind
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.words.sentence import N_

Purpose = Literal["fuel", "full_load", "idle", "torque", "clamp"]
PURPOSES: dict[Purpose, str] = {
    "fuel": "fuel, from idle to cruise",
    "full_load": "fuel and knock at full load",
    "idle": "start, warm-up and idle",
    "torque": "spark by torque",
    "clamp": "signal clamp, before boost",
}
MUST, SHOULD, NICE = 1, 2, 3
LAW = N_(
    "Drive within the law. Full-load pulls belong on a dyno or a closed course; have somebody else watch the logger."
)


class ChannelAsk(BaseModel):
    """A channel of the brief.

    Attributes:
        quantity: its id.
        reason: what it is needed for.
        loss: what cannot be done without it.
        priority: 1 must, 2 should, 3 nice to have.
        kept: whether it is asked for; False if it had to give way or was taken off.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    quantity: str
    reason: Annotated[str, Field(max_length=200)]
    loss: Annotated[str, Field(max_length=200)] = ""
    priority: Annotated[int, Field(ge=1, le=3)] = 2
    kept: bool = True

    @property
    def title(self) -> str:
        """The quantity's words."""
        return QUANTITIES[self.quantity].title if self.quantity in QUANTITIES else self.quantity


class Acceptance(BaseModel):
    """When a drive counts as done.

    Attributes:
        seconds: how long at least.
        warm: coolant in °C that the counted part must have reached; None: any.
        cold_below: coolant in °C that the start must be below; None: any.
        until: coolant in °C that must be reached; None: any.
        from_speed, to_speed: engine speeds that must be reached, low and high, rpm.
        throttle_most: throttle that is not to be exceeded for more than a moment, %.
        cells: of the table under work that are to be visited.
        cell_seconds: how long each.
        cell_share: share of the cells that is enough, %.
        count: how many such stretches.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    seconds: Annotated[float, Field(ge=0, le=14400)] = 0
    warm: Annotated[float, Field(ge=0, le=120)] | None = None
    cold_below: Annotated[float, Field(ge=-40, le=80)] | None = None
    until: Annotated[float, Field(ge=0, le=120)] | None = None
    from_speed: Annotated[float, Field(ge=0, le=20000)] | None = None
    to_speed: Annotated[float, Field(ge=0, le=20000)] | None = None
    throttle_most: Annotated[float, Field(ge=0, le=100)] | None = None
    cells: tuple[tuple[int, int], ...] = ()
    cell_seconds: Annotated[float, Field(ge=0, le=600)] = 2
    cell_share: Annotated[float, Field(ge=0, le=100)] = 60
    count: Annotated[int, Field(ge=1, le=50)] = 1


class DriveAsk(BaseModel):
    """A drive of the brief: what to do, how, and when it counts."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    kind: DriveKind
    title: Annotated[str, Field(max_length=80)]
    how: Annotated[str, Field(max_length=600)]
    short: Annotated[str, Field(max_length=160)]
    acceptance: Acceptance = Acceptance()
    kept: bool = True


class Brief(BaseModel):
    """What a customer is asked to record."""

    model_config = ConfigDict(extra="forbid", frozen=True)

    purpose: Purpose = "fuel"
    channels: tuple[ChannelAsk, ...] = ()
    drives: tuple[DriveAsk, ...] = ()
    note: Annotated[str, Field(max_length=2000)] = ""

    @classmethod
    def read(cls, data: Any) -> Self:
        """A brief from plain data.

        Raises:
            BadInput: a field is unknown or out of range; the first is named.
        """
        try:
            return cls.model_validate(data)
        except ValidationError as error:
            first = error.errors()[0]
            raise BadInput(
                first["msg"].lower(), where=".".join(map(str, first["loc"])), advice="correct this field"
            ) from error

    @classmethod
    def loads(cls, text: str) -> Self:
        """A brief as it is stored."""
        return cls.read(json.loads(text))

    @property
    def asked(self) -> tuple[ChannelAsk, ...]:
        """The channels that are asked for."""
        return tuple(channel for channel in self.channels if channel.kept)

    @property
    def given_up(self) -> tuple[ChannelAsk, ...]:
        """The channels that are not."""
        return tuple(channel for channel in self.channels if not channel.kept)

    @property
    def to_drive(self) -> tuple[DriveAsk, ...]:
        """The drives that are asked for."""
        return tuple(drive for drive in self.drives if drive.kept)
