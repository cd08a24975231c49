"""What `job.json` of a job's archive holds (`uchiwa.job/1`)."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Any, Literal

from pydantic import AfterValidator, BaseModel, ConfigDict, Field

FORMAT = "uchiwa.job/1"
Text = Annotated[str, Field(max_length=4_000_000)]
Name = Annotated[str, Field(max_length=200)]
Seconds = Annotated[float, Field(allow_inf_nan=False, ge=-1e9, le=1e9)]
Version = Annotated[int, Field(ge=0, le=2**31 - 2)]


def _in_our_time(moment: datetime) -> datetime:
    if not 1970 <= moment.year <= 2200:
        raise ValueError("this moment is not of our time")
    return moment


Moment = Annotated[datetime, AfterValidator(_in_our_time)]
Digest = Annotated[str, Field(pattern=r"^[0-9a-f]{64}$")]


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid")


class RoundPart(_Part):
    """A round; `policy` and `brief` as JSON text."""

    number: Annotated[int, Field(ge=1, le=10_000)]
    policy: Text
    spark: Text = "{}"
    brief: Text
    opened_at: Moment
    returned_at: Moment | None


class NotePart(_Part):
    """A note on a log."""

    start_s: Seconds
    end_s: Seconds
    text: Annotated[str, Field(max_length=1000)]
    shown: bool
    by: Name
    at: Moment


class PullPart(_Part):
    """The note of a pull in a log."""

    number: Annotated[int, Field(ge=1, le=10_000)]
    note: Annotated[str, Field(max_length=300)]
    hidden: bool
    place: Seconds | None


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
    uploaded_at: Moment
    was: Annotated[int, Field(ge=0, le=2**63 - 1)]
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
    round: Annotated[int, Field(ge=0, le=10_000)] | None
    calibration: Digest
    by: Name
    notes: Text
    frozen_at: Moment
    final: bool
    report: Text
    brief: Text
    downloaded_at: Moment | None
    flashed_at: Moment | None
    withdrawn_at: Moment | None
    withdrawn_why: Annotated[str, Field(max_length=500)]
    start_map: bool = False
    image: ImagePart | None


class DraftPart(_Part):
    """The draft."""

    base: int
    calibration: Digest
    version: Annotated[int, Field(ge=1, le=2**31 - 2)]
    pins: Text


class EventPart(_Part):
    """A step of the job's history; `inputs` is its JSON."""

    kind: Annotated[str, Field(max_length=24)]
    round: Annotated[int, Field(ge=0, le=10_000)] | None
    by: Name | None
    at: Moment
    sentence: Annotated[str, Field(max_length=500)]
    inputs: dict[str, Any]
    before: Digest | None
    after: Digest | None
    put_back: bool
    abandoned: bool
    version: Version | None


class AnswerPart(_Part):
    """An accepted concern."""

    round: int
    concern: Annotated[str, Field(max_length=24)]
    rule: Annotated[str, Field(max_length=32)]
    sentence: Annotated[str, Field(max_length=500)]
    reason: Annotated[str, Field(max_length=500)]
    by: Name
    at: Moment


class DecisionPart(_Part):
    """What a person holds the knock in some cells to be."""

    round: int
    table: Annotated[str, Field(max_length=64)]
    verdict: Literal["real", "noise", "unsure"]
    reason: Annotated[str, Field(max_length=300)]
    cells: Annotated[list[tuple[int, int]], Field(max_length=65_536)]
    by: Name
    at: Moment


class MessagePart(_Part):
    """A few words; without `by` they are the customer's."""

    by: Name | None
    text: Annotated[str, Field(max_length=2000)]
    at: Moment


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
    moved_at: Moment
    rounds: Annotated[list[RoundPart], Field(min_length=1, max_length=1000)]
    logs: Annotated[list[LogPart], Field(max_length=10_000)]
    revisions: Annotated[list[RevisionPart], Field(min_length=1, max_length=1000)]
    draft: DraftPart
    events: Annotated[list[EventPart], Field(max_length=200_000)]
    answers: Annotated[list[AnswerPart], Field(max_length=20_000)]
    decisions: Annotated[list[DecisionPart], Field(max_length=20_000)] = []
    messages: Annotated[list[MessagePart], Field(max_length=100_000)]
    channels: Annotated[list[ChannelPart], Field(max_length=20_000)]
    image: ImagePart | None
