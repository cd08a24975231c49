"""What the programming interface answers with."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from pydantic import BaseModel, ConfigDict, Field


class _Answer(BaseModel):
    model_config = ConfigDict(extra="forbid")


class Refusal(_Answer):
    """Why something was refused, as problem details (RFC 9457, `application/problem+json`)."""

    type: str = Field(description="`about:blank`: the status says what kind it is.")
    title: str = Field(description="The status in words.")
    status: int = Field(description="The status.")
    detail: str = Field(description="One sentence: what is wrong, where, and what to do.")


class JobOut(_Answer):
    """A car under work."""

    id: int
    customer: str
    car: str
    details: str
    closed: bool
    round: int = Field(description="Number of the round under work.")
    move: str = Field(description="Whose move it is.")
    sentence: str = Field(description="How it stands.")
    moved_at: datetime = Field(description="When the move last passed, UTC.")


class JobsOut(_Answer):
    """Some of a shop's jobs."""

    jobs: list[JobOut]
    next: int | None = Field(description="Give this as `after` for those that follow; null at the end.")


class LogOut(_Answer):
    """A log."""

    id: int
    job: int
    round: int
    name: str
    size: int = Field(description="Bytes of the file.")
    state: str = Field(description="`stored`, `importing`, `ready`, `refused` …")
    accepted: bool = Field(description="Whether it is used for the round's work.")
    message: str = Field(description="Why it cannot be used, if it cannot.")
    seconds: float | None = Field(description="How long it is; null until it was read.")
    uploaded_at: datetime


class LogsOut(_Answer):
    """The logs of a round."""

    logs: list[LogOut]


class FindingOut(_Answer):
    """One thing that a check found."""

    rule: str
    severity: str
    customer: str = Field(description="In plain words.")
    tuner: str = Field(description="In technical words.")
    spans: list[tuple[float, float]] = Field(description="Where it shows, seconds from … to.")


class FindingsOut(_Answer):
    """What the checks found in a log."""

    log: int
    findings: list[FindingOut]


class RevisionOut(_Answer):
    """A frozen calibration."""

    number: int
    notes: str
    frozen_at: datetime
    final: bool
    flashed: bool
    withdrawn: bool
    sha256: str = Field(description="Of the calibration's JSON.")
    image: bool = Field(description="Whether it goes out as an image.")


class RevisionsOut(_Answer):
    """A job's revisions."""

    revisions: list[RevisionOut]


class ProposalOut(_Answer):
    """A correction that was computed and not taken."""

    kind: str
    round: int
    report: dict[str, Any] = Field(description="As `uchiwa propose --report` writes it.")


class AxisOut(_Answer):
    """Breakpoints."""

    quantity: str
    unit: str
    breakpoints: list[float]


class BinsOut(_Answer):
    """Figures gathered on axes; `figure[j][i]` stands at `y[j]`, `x[i]`, null where there is too little evidence."""

    unit: str
    logs: list[str]
    x: AxisOut
    y: AxisOut | None
    figure: list[list[float | None]]
    samples: list[list[float]]
    used: int
    total: int
    left_out: dict[str, int]
