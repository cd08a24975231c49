"""Whether a log fulfils a drive of the brief, and what to tell the customer if not."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from uchiwa.core.briefs.brief import Acceptance, DriveAsk
from uchiwa.core.briefs.coverage import Coverage, dwell
from uchiwa.core.checks.examined import ExaminedLog
from uchiwa.core.checks.finding import Finding, Severity
from uchiwa.core.logs.drives import Drive, DriveKind
from uchiwa.core.logs.log import BoolArray, FloatArray
from uchiwa.core.logs.signal import durations, within
from uchiwa.core.words.sentence import Sentence

# Not the driver's to repeat: the tuner works on these, and the log is good for it.
_TUNERS = frozenset(
    {
        "lean_at_load",
        "lean_tip_in",
        "trim_beyond",
        "injector_duty",
        "knock_repeated",
        "knock_single",
        "airflow_ceiling",
        "coverage",
        "unit_doubt",
        "low_octane",
        "fuel_pressure",
        "exhaust_hot",
        "stalled",
    }
)


@dataclass(frozen=True)
class Verdict:
    """What a log is worth for a drive of the brief.

    Attributes:
        kind: of the drive.
        met: whether it counts.
        said: a plain sentence for the customer.
        seconds: of the drive that the log holds.
    """

    kind: DriveKind
    met: bool
    said: str
    seconds: float = 0.0


def blocking(findings: Sequence[Finding]) -> Finding | None:
    """The finding that makes a log unfit until the customer has done something, if there is one."""
    return next(
        (finding for finding in findings if finding.severity is Severity.CRITICAL and finding.rule not in _TUNERS), None
    )


def _length(seconds: float) -> Sentence:
    if seconds < 120:
        return Sentence("{seconds:.0f} s", seconds=seconds)
    return Sentence("{minutes:.0f} minutes", minutes=seconds / 60)


def judge(
    ask: DriveAsk, it: ExaminedLog, findings: Sequence[Finding], before: FloatArray | None = None
) -> Verdict | None:
    """What a log is worth for one drive of the brief; None if it does not hold that drive at all.

    Args:
        ask: the drive of the brief.
        it: the log.
        findings: what the checks found in it.
        before: seconds that earlier accepted logs spent in each cell of the table; shape (rows, columns).
    """
    drives = [drive for drive in it.drives if drive.kind is ask.kind]
    if not drives and not (ask.kind is DriveKind.WARM_IDLE and _cold_idle(it)):
        return None
    inside = within(it.time, [(drive.start, drive.end) for drive in drives])
    held = _Held(ask, it, drives, inside, durations(it.time))
    stop = blocking(findings)
    if stop is not None:
        return Verdict(ask.kind, False, stop.customer, held.seconds)
    said, seconds = _temperature_unmet(held)
    said = said or _unmet(held, seconds, before)
    return Verdict(ask.kind, not said, said or _praise(ask, it, drives, held.seconds), held.seconds)


@dataclass(frozen=True, eq=False)
class _Held:
    """What a log holds of one drive: the drives, their samples and the seconds of each sample."""

    ask: DriveAsk
    it: ExaminedLog
    drives: list[Drive]
    inside: BoolArray
    span: FloatArray

    @property
    def wanted(self) -> Acceptance:
        return self.ask.acceptance

    @property
    def seconds(self) -> float:
        return self.seconds_of(self.inside)

    def seconds_of(self, these: BoolArray) -> float:
        return float(self.span[these].sum())


def _cold_idle(it: ExaminedLog) -> bool:
    speed = it.signals["engine_speed"]
    return (
        not it.warm.any()
        and bool(((speed > 450) & (speed < 2000)).mean() > 0.8)
        and not any(drive.kind is DriveKind.COLD_START for drive in it.drives)
    )


def _temperature_unmet(held: _Held) -> tuple[str, float]:
    """What is wrong with the coolant of a drive, and the seconds of it that count."""
    wanted, inside = held.wanted, held.inside
    seconds = held.seconds
    coolant = held.it.get("coolant_temperature")
    if coolant is None:
        return "", seconds
    if wanted.warm is not None:
        warm = held.seconds_of(inside & (coolant >= wanted.warm))
        if (not inside.any() or warm < min(wanted.seconds, 0.8 * seconds)) and seconds - warm > 2.0:
            cold = Sentence(
                "The engine was still cold for all but {warm}. Please drive until it is warm (about 10 minutes), then record again.",
                warm=_length(warm),
            )
            return cold, seconds
        if not inside.any():
            return Sentence("The engine was still cold. Please repeat this once it is warm."), seconds
        seconds = warm
    if wanted.cold_below is not None and not coolant[0] < wanted.cold_below:
        already = Sentence(
            "The engine was already at {coolant:.0f} °C. Please leave the car to cool, best overnight, and record from before you start it.",
            coolant=float(coolant[0]),
        )
        return already, seconds
    if wanted.until is not None and inside.any():
        reached = float(np.nanmax(coolant[inside]))
        if reached < wanted.until:
            short = Sentence(
                "It went to {reached:.0f} °C, and {until:.0f} °C are needed. Please let it idle, feet off, until it is warm.",
                reached=reached,
                until=wanted.until,
            )
            return short, seconds
    return "", seconds


def _unmet(held: _Held, seconds: float, before: FloatArray | None) -> str:
    """What else a drive lacks."""
    wanted, cruise = held.wanted, held.ask.kind is DriveKind.CRUISE
    if len(held.drives) < wanted.count:
        return Sentence(
            "There was {there} of {wanted}. Please send the rest.", there=len(held.drives), wanted=wanted.count
        )
    short = _too_short_a_pull(wanted, held.it, held.drives)
    if short:
        return short
    if not cruise and seconds < wanted.seconds:
        return Sentence(
            "That was {was}, and {wanted} are needed. Please record it a little longer.",
            was=_length(seconds),
            wanted=_length(wanted.seconds),
        )
    hasty = _too_much_throttle(wanted, held.it, held.inside, held.span)
    if hasty:
        return hasty
    return _uncovered(wanted, held.it, seconds, before) if cruise else ""


def _too_short_a_pull(wanted: Acceptance, it: ExaminedLog, drives: list[Drive]) -> str:
    """What a pull lacks that did not go through the speeds asked for."""
    if wanted.to_speed is None and wanted.from_speed is None:
        return ""
    speed = it.signals["engine_speed"]
    reach = []
    for drive in drives:
        there = speed[within(it.time, [(drive.start, drive.end)])]
        reach.append((float(np.nanmin(there)), float(np.nanmax(there))))
    low, high = wanted.from_speed, wanted.to_speed
    if any((low is None or a <= low) and (high is None or b >= high) for a, b in reach):
        return ""
    lowest, highest = min(reach)[0], max(top for _, top in reach)
    return Sentence(
        "The pull went from {lowest:.0f} to {highest:.0f} rpm. Please begin below {low:.0f} and hold it to {high:.0f} rpm or the limiter.",
        lowest=lowest,
        highest=highest,
        low=low or 0,
        high=high or 0,
    )


def _too_much_throttle(wanted: Acceptance, it: ExaminedLog, inside: np.ndarray, span: FloatArray) -> str:
    """What a gentle drive lacks that was not gentle."""
    throttle = it.get("throttle_position")
    if wanted.throttle_most is None or throttle is None:
        return ""
    moving = inside | (throttle > wanted.throttle_most)
    over = float(span[throttle > wanted.throttle_most].sum())
    if not moving.any() or over <= 0.15 * float(span[moving].sum()):
        return ""
    return Sentence(
        "The throttle was beyond {most:.0f} % for {over}. Please keep it below half and let the hills do the work.",
        most=wanted.throttle_most,
        over=_length(over),
    )


def _uncovered(wanted: Acceptance, it: ExaminedLog, seconds: float, before: FloatArray | None) -> str:
    """A cruise is done when enough cells are covered, counting what came before; its length is the second measure."""
    found = covered(wanted, it, before)
    if found is not None and found.share * 100 >= wanted.cell_share and seconds >= 0.3 * wanted.seconds:
        return ""
    if found is not None and wanted.cells and found.share * 100 < wanted.cell_share:
        return Sentence(
            "Good so far: {share:.0f} % of what is needed is covered. Still wanted: {more}.",
            share=found.share * 100,
            more=list(found.missing()[:3]),
        )
    if seconds < wanted.seconds and (found is None or not wanted.cells):
        return Sentence(
            "That was {was} of cruise, and {wanted} are needed. Please drive on and send the next part.",
            was=_length(seconds),
            wanted=_length(wanted.seconds),
        )
    return ""


def covered(wanted: Acceptance, it: ExaminedLog, before: FloatArray | None) -> Coverage | None:
    """Coverage of the wanted cells by a log and what came before it; None without a table."""
    if it.table is None:
        return None
    seconds = dwell(it.table, it.time, it.signals, it.warm & it.running)
    if before is not None and before.shape == seconds.shape:
        seconds = seconds + before
    cells = [(i, j) for i, j in wanted.cells if j < it.table.shape[0] and i < it.table.shape[1]]
    return Coverage(it.table, cells, seconds, wanted.cell_seconds)


def _praise(ask: DriveAsk, it: ExaminedLog, drives: list[Drive], seconds: float) -> str:
    coolant = it.get("coolant_temperature")
    if ask.kind in (DriveKind.WARM_UP, DriveKind.IN_GEAR_WARM_UP) and coolant is not None:
        return Sentence(
            "From {low:.0f} to {high:.0f} °C. Just right, thank you.",
            low=float(coolant[0]),
            high=float(np.nanmax(coolant)),
        )
    if ask.kind is DriveKind.COLD_START and coolant is not None:
        return Sentence(
            "{seconds:.0f} s from {coolant:.0f} °C. Just right, thank you.", seconds=seconds, coolant=float(coolant[0])
        )
    if ask.kind is DriveKind.PULL:
        speed = it.signals["engine_speed"]
        best = max(drives, key=lambda drive: drive.seconds)
        here = speed[within(it.time, [(best.start, best.end)])]
        return Sentence(
            "From {low:.0f} to {high:.0f} rpm. Thank you.", low=float(np.nanmin(here)), high=float(np.nanmax(here))
        )
    if ask.kind is DriveKind.ROLL_ON:
        return Sentence("{count} good ones. Thank you.", count=len(drives))
    return Sentence("{length}. Thank you.", length=_length(seconds))
