"""How the error shrank from round to round, and when to stop: judged by region, never by time alone."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

from uchiwa.core.evidence.regions import TITLES, Region

ENOUGH_SHARE = 0.90
ENOUGH_RMS_PERCENT = 1.5
TRIM_PERCENT = 3.0
LEAN_PERCENT = 2.0
"""A cell at full load whose samples stand further above their target than this, beyond chance, is lean."""
FEWEST = {Region.IDLE: 1, Region.CRUISE: 12, Region.LOAD: 4}
"""Cells that a region must have been driven in before anything is said of it."""
_HELPED = 0.8


@dataclass(frozen=True)
class RegionError:
    """What a round's logs showed in one region.

    Attributes:
        region: idle, cruise or full load.
        error_percent: RMS over its driven cells, weighted by time in each.
        cells, within: cells with enough evidence, and those of them within ±2 %.
        lean_percent: the most that a cell asks for more fuel, beyond chance; 0 if none does.
    """

    region: Region
    error_percent: float
    cells: int
    within: int
    lean_percent: float

    @property
    def measured(self) -> bool:
        """Whether it was driven in enough cells to be judged."""
        return self.cells >= FEWEST[self.region]

    @property
    def done(self) -> bool:
        """Whether it is measured, within ±2 % in nine cells of ten, 1.5 % RMS, and, at load, nowhere lean."""
        close = self.within >= ENOUGH_SHARE * self.cells and self.error_percent <= ENOUGH_RMS_PERCENT
        return self.measured and close and not self.lean

    @property
    def lean(self) -> bool:
        """Whether the car runs lean here at full load."""
        return self.region is Region.LOAD and self.lean_percent > LEAN_PERCENT


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
        regions: the same by region; empty where it was not kept.
    """

    number: int
    error_percent: float
    cells: int
    within: int
    trim_percent: float | None = None
    driven_s: float | None = None
    done: tuple[str, ...] = ()
    regions: tuple[RegionError, ...] = ()

    @property
    def share(self) -> float:
        """Share of the driven cells within ±2 %."""
        return self.within / self.cells if self.cells else 0.0

    def region(self, region: Region) -> RegionError:
        """One region; without a cell where it was not driven."""
        return next((error for error in self.regions if error.region is region), RegionError(region, 0.0, 0, 0, 0.0))


class NextRoundAdvice(StrEnum):
    """What the results say of another round."""

    NOTHING = "nothing measured"
    LEAN = "lean at load"
    DONE = "done"
    TRIMS = "trims still hold"
    UNMEASURED = "a region is not measured"
    STUCK = "hardly helps"
    GO_ON = "go on"


@dataclass(frozen=True)
class Verdict:
    """Whether fuel is done, why, and a sentence or two of it."""

    code: NextRoundAdvice
    sentence: str

    @property
    def stop(self) -> bool:
        """Whether more rounds would follow noise."""
        return self.code is NextRoundAdvice.DONE


def _listed(regions: Sequence[Region]) -> str:
    words = [TITLES[region] for region in regions]
    return words[0] if len(words) == 1 else f"{', '.join(words[:-1])} and {words[-1]}"


def verdict(rounds: Sequence[RoundResult]) -> Verdict:
    """Whether another round of fuel is worth the customer's time.

    Done is, in each of idle, cruise and full load: within ±2 % in 90 % of enough driven cells, 1.5 % RMS, and nowhere lean
    at full load; and trims on average within ±3 %. Three rounds in which the error hardly falls call for another cause.
    """
    if not rounds:
        return Verdict(NextRoundAdvice.NOTHING, "Nothing has been measured yet.")
    last = rounds[-1]
    words = f"Within ±2 % in {last.share * 100:.0f} % of {last.cells} driven cells"
    load = last.region(Region.LOAD)
    if load.lean:
        return Verdict(
            NextRoundAdvice.LEAN,
            f"{words}, but full load runs {load.lean_percent:.0f} % lean in places: that comes first, and no full throttle "
            "until it is right.",
        )
    done = [region for region in Region if last.region(region).done]
    unmeasured = [region for region in Region if not last.region(region).measured]
    open_ = [region for region in Region if region not in done and region not in unmeasured]
    if done and not open_:
        if last.trim_percent is not None and abs(last.trim_percent) > TRIM_PERCENT:
            return Verdict(
                NextRoundAdvice.TRIMS,
                f"{words}, but trims still hold {last.trim_percent:+.1f} %: were they reset after the flash?",
            )
        if not unmeasured:
            return Verdict(
                NextRoundAdvice.DONE, f"{words}, at {_listed(list(Region))} alike. More rounds would follow noise."
            )
        return Verdict(
            NextRoundAdvice.UNMEASURED,
            f"{words}. {_listed(done).capitalize()} {'are' if len(done) > 1 else 'is'} done; {_listed(unmeasured)} "
            f"{'were' if len(unmeasured) > 1 else 'was'} hardly driven. Ask for a drive that covers it.",
        )
    if len(rounds) >= 3 and all(
        later.error_percent > _HELPED * earlier.error_percent
        for earlier, later in zip(rounds[-3:-1], rounds[-2:], strict=True)
    ):
        return Verdict(
            NextRoundAdvice.STUCK,
            f"{words}. The last two rounds hardly helped ({rounds[-3].error_percent:.1f} → {last.error_percent:.1f} %): "
            "look for another cause, such as the mixture sensor, fuel pressure, or the other airflow model.",
        )
    where = f" Not right yet: {_listed(open_)}." if open_ and done else ""
    return Verdict(NextRoundAdvice.GO_ON, f"{words}. Another round is worth it.{where}")
