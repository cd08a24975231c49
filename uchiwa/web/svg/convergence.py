"""How a job converges: error, cells and trims by round, as SVG."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from uchiwa.core.proposals.fuel.proposal import TARGET_PERCENT
from uchiwa.core.rounds.convergence import TRIM_PERCENT, RoundResult

WIDTH, ERROR_HEIGHT, CELLS_HEIGHT, TRIM_HEIGHT = 384.0, 96.0, 52.0, 40.0
_LEFT = 34.0
_LEAST_SLOTS = 3


@dataclass(frozen=True)
class RoundMark:
    """One round's marks in the three panels; all in px from a panel's top."""

    number: int
    x: float
    error_y: float
    error: str
    cells_y: float
    within_y: float
    cells: str
    trim_y: float | None
    trim: str


@dataclass(frozen=True)
class ConvergencePicture:
    """Three panels over the rounds."""

    marks: tuple[RoundMark, ...]
    line: str
    trim_line: str
    band: float
    trim_band: tuple[float, float]
    bar: float


def convergence_picture(rounds: Sequence[RoundResult]) -> ConvergencePicture:
    """The picture of some rounds, oldest first."""
    slots = max(len(rounds), _LEAST_SLOTS)
    step = (WIDTH - _LEFT) / slots
    top = max(3.0 * TARGET_PERCENT, max((round_.error_percent for round_ in rounds), default=0.0) * 1.25)
    most = max((round_.cells for round_ in rounds), default=1) or 1
    reach = max(2 * TRIM_PERCENT, max((abs(round_.trim_percent or 0.0) for round_ in rounds), default=0.0) * 1.1)

    def trim_y(percent: float) -> float:
        return round(TRIM_HEIGHT / 2 * (1 - percent / reach), 1)

    marks = tuple(
        RoundMark(
            round_.number,
            round(_LEFT + step * (at + 0.5), 1),
            round(ERROR_HEIGHT * (1 - min(round_.error_percent, top) / top), 1),
            f"{round_.error_percent:.1f}",
            round(CELLS_HEIGHT * (1 - round_.cells / most), 1),
            round(CELLS_HEIGHT * (1 - round_.within / most), 1),
            f"{round_.within} of {round_.cells}",
            None if round_.trim_percent is None else trim_y(round_.trim_percent),
            "" if round_.trim_percent is None else f"{round_.trim_percent:+.1f}".replace("-", "−"),
        )
        for at, round_ in enumerate(rounds)
    )
    return ConvergencePicture(
        marks,
        " ".join(f"{mark.x},{mark.error_y}" for mark in marks),
        " ".join(f"{mark.x},{mark.trim_y}" for mark in marks if mark.trim_y is not None),
        round(ERROR_HEIGHT * (1 - TARGET_PERCENT / top), 1),
        (trim_y(TRIM_PERCENT), trim_y(-TRIM_PERCENT)),
        round(min(step * 0.5, 46.0), 1),
    )
