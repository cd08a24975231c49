"""How a live session begins: what the program at the car says of itself and of its channels."""

from __future__ import annotations

from typing import Annotated, Any, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from uchiwa.core.errors import BadInput
from uchiwa.core.json_text import read_json

FORMAT = "uchiwa.live/1"
MOST_CHANNELS = 200
MOST_RATE_HZ = 200.0
WHERE = "the beginning of the session"
Words = Annotated[str, Field(max_length=120)]


class LiveChannel(BaseModel):
    """A channel that is passed on.

    Attributes:
        name: as the logger calls it.
        unit: of its readings; empty for a plain number.
        rate: readings a second, if the program knows it.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    name: Annotated[str, Field(min_length=1, max_length=120)]
    unit: Annotated[str, Field(max_length=32)] = ""
    rate: Annotated[float, Field(gt=0, le=MOST_RATE_HZ, allow_inf_nan=False)] | None = None


class Opening(BaseModel):
    """The first line of a live session, and of the file that it becomes.

    Attributes:
        format: names the protocol.
        channels: in the order in which each row has them.
        mark: of the calibration that the car runs, as its controller or logger tells it.
        program: what passes the samples on, and its version.
        drive: what is driven, in a few words.
        session: its number where it is kept; filled in there, so that no two sessions are the same file.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    format: Literal["uchiwa.live/1"] = "uchiwa.live/1"
    channels: Annotated[tuple[LiveChannel, ...], Field(min_length=1, max_length=MOST_CHANNELS)]
    mark: Words = ""
    program: Words = ""
    drive: Words = ""
    session: Annotated[int, Field(ge=1)] | None = None

    @classmethod
    def read(cls, data: Any) -> Self:
        """An opening from plain data.

        Raises:
            BadInput: says which field is wrong, and what it may be.
        """
        try:
            found = cls.model_validate(data)
        except ValidationError as error:
            first = error.errors(include_url=False)[0]
            where = ".".join(str(part) for part in first["loc"]) or "it"
            raise BadInput(
                f"{where}: {first['msg'][:1].lower()}{first['msg'][1:]}", where=WHERE, advice="see docs/live.md"
            ) from error
        names = [channel.name for channel in found.channels]
        twice = next((name for name in names if names.count(name) > 1), None)
        if twice is not None:
            raise BadInput(f"two channels are called “{twice}”", where=WHERE, advice="give each a name of its own")
        return found

    @classmethod
    def loads(cls, text: str | bytes) -> Self:
        """An opening as it is written.

        Raises:
            BadInput: it is not JSON, or a field is wrong.
        """
        return cls.read(read_json(text, where=WHERE, advice="see docs/live.md"))

    @property
    def line(self) -> str:
        """As it is written: one line, its line end included."""
        return self.model_dump_json(exclude_none=True) + "\n"
