"""How the error shrank from round to round, and when to stop."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

ENOUGH_SHARE = 0.90
ENOUGH_RMS_PERCENT = 1.5
FEW_CELLS = 25
TRIM_PERCENT = 3.0
_HELPED = 0.8


@dataclass(frozen=True)
class RoundResult:
    """What a round's logs showed, against the revision they were recorded with.

    Attributes:
        number: of the round.
        error_percent: RMS over driven cells, weighted by time in each.
        cells, within: cells with enough evidence, and those of them within ±2 %.
        trim_percent: mean of short- and long-term trim over the used samples, or None without trims.
        driven_s: time that the used samples stand for.
        done: what was taken in the round, in plain sentences.
    """

    number: int
    error_percent: float
    cells: int
    within: int
    trim_percent: float | None = None
    driven_s: float | None = None
    done: tuple[str, ...] = ()

    @property
    def share(self) -> float:
        """Share of the driven cells within ±2 %."""
        return self.within / self.cells if self.cells else 0.0


@dataclass(frozen=True)
class Verdict:
    """Whether fuel is done, and a sentence or two why."""

    stop: bool
    sentence: str


def verdict(rounds: Sequence[RoundResult]) -> Verdict:
    """Whether another round of fuel is worth the customer's time.

    Done is: within ±2 % in 90 % of driven cells, 1.5 % RMS, in enough cells, with trims on average within ±3 %. Three
    rounds in which the error hardly falls call for another cause.
    """
    if not rounds:
        return Verdict(False, "Nothing has been measured yet.")
    last = rounds[-1]
    words = f"Within ±2 % in {last.share * 100:.0f} % of {last.cells} driven cells"
    if last.cells < FEW_CELLS and last.share >= ENOUGH_SHARE:
        return Verdict(False, f"{words}: good, but these are few. Ask for a drive that covers more of the table.")
    if last.share >= ENOUGH_SHARE and last.error_percent <= ENOUGH_RMS_PERCENT:
        if last.trim_percent is not None and abs(last.trim_percent) > TRIM_PERCENT:
            return Verdict(
                False, f"{words}, but trims still hold {last.trim_percent:+.1f} %: were they reset after the flash?"
            )
        return Verdict(True, f"{words}. Fuel is done where the car was driven; more rounds would follow noise.")
    if len(rounds) >= 3 and all(
        later.error_percent > _HELPED * earlier.error_percent
        for earlier, later in zip(rounds[-3:-1], rounds[-2:], strict=True)
    ):
        return Verdict(
            False,
            f"{words}. The last two rounds hardly helped ({rounds[-3].error_percent:.1f} → {last.error_percent:.1f} %): "
            "look for another cause, such as the mixture sensor, fuel pressure, or the other airflow model.",
        )
    return Verdict(False, f"{words}. Another round is worth it.")
