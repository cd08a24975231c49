"""What `job.json` of a job's archive holds (`uchiwa.job/1`)."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field

FORMAT = "uchiwa.job/1"
Text = Annotated[str, Field(max_length=4_000_000)]
Name = Annotated[str, Field(max_length=200)]
Digest = Annotated[str, Field(pattern=r"^[0-9a-f]{64}$")]


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid")


class RoundPart(_Part):
    """A round; `policy` and `brief` as JSON text."""

    number: Annotated[int, Field(ge=1, le=10_000)]
    policy: Text
    spark: Text = "{}"
    brief: Text
    opened_at: datetime
    returned_at: datetime | None


class NotePart(_Part):
    """A note on a log."""

    start_s: float
    end_s: float
    text: Annotated[str, Field(max_length=1000)]
    shown: bool
    by: Name
    at: datetime


class PullPart(_Part):
    """The note of a pull in a log."""

    number: Annotated[int, Field(ge=1, le=10_000)]
    note: Annotated[str, Field(max_length=300)]
    hidden: bool
    place: float | None


class LogPart(_Part):
    """An uploaded file; `path` is its place in the archive."""

    path: Annotated[str, Field(max_length=400)]
    name: Name
    round: int
    sha256: Digest
    accepted: bool
    decided: bool
    baseline: bool
    by_customer: bool
    uploaded_at: datetime
    was: int
    notes: list[NotePart] = []
    pulls: list[PullPart] = []


class ImagePart(_Part):
    """An image file and its layout as JSON text."""

    path: Annotated[str, Field(max_length=400)]
    name: Name
    layout: Text
    sha256: Digest


class RevisionPart(_Part):
    """A revision; `calibration` is the hash under which its content is in the archive."""

    number: Annotated[int, Field(ge=0, le=10_000)]
    parent: int | None
    round: int | None
    calibration: Digest
    by: Name
    notes: Text
    frozen_at: datetime
    final: bool
    report: Text
    brief: Text
    downloaded_at: datetime | None
    flashed_at: datetime | None
    withdrawn_at: datetime | None
    withdrawn_why: Annotated[str, Field(max_length=500)]
    image: ImagePart | None


class DraftPart(_Part):
    """The draft."""

    base: int
    calibration: Digest
    version: Annotated[int, Field(ge=1)]
    pins: Text


class EventPart(_Part):
    """A step of the job's history; `inputs` is its JSON."""

    kind: Annotated[str, Field(max_length=24)]
    round: int | None
    by: Name | None
    at: datetime
    sentence: Annotated[str, Field(max_length=500)]
    inputs: dict[str, Any]
    before: Digest | None
    after: Digest | None
    put_back: bool
    abandoned: bool
    version: int | None


class AnswerPart(_Part):
    """An accepted concern."""

    round: int
    concern: Annotated[str, Field(max_length=24)]
    rule: Annotated[str, Field(max_length=32)]
    sentence: Annotated[str, Field(max_length=500)]
    reason: Annotated[str, Field(max_length=500)]
    by: Name
    at: datetime


class DecisionPart(_Part):
    """What a person holds the knock in some cells to be."""

    round: int
    table: Annotated[str, Field(max_length=64)]
    verdict: Literal["real", "noise", "unsure"]
    reason: Annotated[str, Field(max_length=300)]
    cells: Annotated[list[tuple[int, int]], Field(max_length=65_536)]
    by: Name
    at: datetime


class MessagePart(_Part):
    """A few words; without `by` they are the customer's."""

    by: Name | None
    text: Annotated[str, Field(max_length=2000)]
    at: datetime


class ChannelPart(_Part):
    """What a person said a channel of this car is."""

    channel: Annotated[str, Field(max_length=255)]
    quantity: Annotated[str, Field(max_length=64)] | None
    unit: Annotated[str, Field(max_length=32)]


class JobPart(_Part):
    """A whole job."""

    format: Literal["uchiwa.job/1"]
    customer: Annotated[str, Field(min_length=1, max_length=120)]
    car: Annotated[str, Field(min_length=1, max_length=120)]
    details: Name
    car_file: Text
    closed: bool
    setup: Text | None
    moved_at: datetime
    rounds: Annotated[list[RoundPart], Field(min_length=1, max_length=1000)]
    logs: Annotated[list[LogPart], Field(max_length=10_000)]
    revisions: Annotated[list[RevisionPart], Field(min_length=1, max_length=1000)]
    draft: DraftPart
    events: Annotated[list[EventPart], Field(max_length=200_000)]
    answers: list[AnswerPart]
    decisions: list[DecisionPart] = []
    messages: list[MessagePart]
    channels: list[ChannelPart]
    image: ImagePart | None
