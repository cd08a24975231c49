"""The samples of one or more logs that say how wrong the airflow model of a table is."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.conditions import (
    CLOSED_LOOP,
    FOLLOWING,
    MISSING,
    NO_TARGET,
    OPEN_LOOP,
    OUTSIDE,
    RULES,
    Limits,
    Samples,
    Sieve,
    applies,
    sift,
)
from uchiwa.core.evidence.delay import NO_DELAY, Delay
from uchiwa.core.evidence.delay_estimate import DelaySamples, estimate_delay
from uchiwa.core.evidence.log_levels import log_levels
from uchiwa.core.evidence.quantisation import quantum
from uchiwa.core.evidence.stretches import NO_GAIN, Gain, stretches_of
from uchiwa.core.evidence.transients import (
    FAR,
    SLOW_TRIMS,
    STILL_MOVING,
    WALL_FILM,
    Signals,
    Transient,
    chosen,
    estimate_transients,
    transient_factor,
)
from uchiwa.core.formulas.computed import SHIPPED, Book
from uchiwa.core.logs.log import BoolArray, FloatArray, IntArray, Log
from uchiwa.core.logs.recognition.doubt import ask
from uchiwa.core.logs.signal import durations
from uchiwa.core.proposals.fuel.one_log import OneLog, one_log
from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.core.tables.table import Axis, Calibration, Table, frozen

_FIRST_DELAY = Delay(0.1, 1.0)
_STILL_UNSURE = 0.65
"""Share of what slow trims were found to lag by that is held to be uncertain itself: loops and zones differ in pace."""

QUANTITIES = frozenset(
    {
        "engine_speed", "manifold_pressure", "barometric_pressure", "pressure_ratio", "boost_pressure", "airflow",
        "airflow_frequency", "airflow_voltage", "throttle_position", "coolant_temperature", "intake_air_temperature",
        "lambda_measured", "lambda_measured_2", "lambda_target", "short_term_trim", "short_term_trim_2",
        "long_term_trim", "long_term_trim_2", "loop_state", "injector_pulse", "after_start_active",
        "overrun_cut_active", "vehicle_speed",
    }
)  # fmt: skip
"""Every quantity that fuel evidence may look at; conditions of one's own may name others."""


@dataclass(frozen=True, eq=False)
class FuelParts:
    """The factors of the fuel error at each sample; shape (n,).

    Attributes:
        mixture: λm/λt; without a sensor 1 throughout.
        short_trim, long_trim: as fractions.
        transient: what rids the error of wall film and slow trims; 1 where nothing changes.
    """

    mixture: FloatArray
    short_trim: FloatArray
    long_trim: FloatArray
    transient: FloatArray

    @property
    def error(self) -> FloatArray:
        """e = A_true / A_model = (λm/λt)·(1 + s)·(1 + l), for trims s and l as fractions, less the transients.

        The controller injects F = A_model·(1 + s)(1 + l)/(λt·AFRst); what the sensor sees is A_true = λm·AFRst·F.
        """
        return self.mixture * (1 + self.short_trim) * (1 + self.long_trim) * self.transient


ESTIMATED_BY = 2
"""Grows whenever delay and transients are estimated otherwise: what was kept before then is not what would be found now."""


@dataclass(frozen=True)
class Estimated:
    """What gathering evidence estimates: delay, its gain, and transients, as `Evidence` has them."""

    delay: Delay
    delay_gain: Gain
    transients: tuple[Transient, ...]


@dataclass(frozen=True, eq=False)
class Evidence:
    """Samples of all logs, one after the other; arrays of shape (n,).

    Attributes:
        names: of the logs.
        log: index of the log each sample is from.
        time: seconds in its log.
        x, y: where it lies, in the units of the table's axes; `y` is None for a curve.
        parts: the factors of the error.
        error: error factor e; NaN where it cannot be computed.
        duration: seconds the sample stands for.
        sieve: which samples are used, and why the others are not.
        delay: the mixture delay that was taken.
        delay_gain: by how much that delay, chosen without a stretch of the logs, predicts that stretch better.
        transients: what was found to change the error while conditions change, and was taken out of it.
        banks: how much more fuel bank 2 asks for than bank 1, as a fraction; NaN or None without a second bank.
        floor: error that no number of samples averages away, as a fraction: of trims that are still following.
        ahead: how far the fuel demand is ahead of its past, by the slowest film; None where that is not known.
        grain: the steps in which the error is read, as a fraction; 0 if they are too fine to tell.
        region: the `Region` of each sample.
        notes: what was left out altogether, as sentences.
    """

    names: tuple[str, ...]
    log: IntArray
    time: FloatArray
    x: FloatArray
    y: FloatArray | None
    parts: FuelParts
    error: FloatArray
    duration: FloatArray
    sieve: Sieve
    delay: Delay
    delay_gain: Gain
    region: IntArray
    transients: tuple[Transient, ...] = ()
    banks: FloatArray | None = None
    floor: float = 0.0
    grain: float = 0.0
    ahead: FloatArray | None = None
    notes: tuple[str, ...] = ()

    @property
    def estimated(self) -> Estimated:
        """What was estimated on the way."""
        return Estimated(self.delay, self.delay_gain, self.transients)

    @property
    def breaks(self) -> IntArray:
        """A number that changes wherever used samples are not neighbours in time."""
        skipped = np.cumsum(~self.sieve.used)
        return (skipped + self.log * (self.sieve.verdict.size + 1)).astype(np.int64)

    def left_out(self) -> dict[str, int]:
        """Samples left out, by reason; reasons that left none out are 0."""
        counts = np.bincount(self.sieve.verdict + 1, minlength=len(self.sieve.reasons) + 1)[1:]
        return {reason: int(count) for reason, count in zip(self.sieve.reasons, counts, strict=True)}


def _sift(one: OneLog, table: Table, policy: Policy, moved: _Moved) -> Sieve:
    """Verdict on the samples of one log, with the mixture already free of its delay."""
    outside = ~table.x.covers(one.x)
    missing = ~np.isfinite(moved.parts.error) | ~np.isfinite(one.x)
    if one.y is not None and table.y is not None:
        missing |= ~np.isfinite(one.y)
        outside |= ~table.y.covers(one.y)
    signals = dict(one.signals)
    signals.pop("lambda_measured", None)
    if moved.seen is not None:
        signals["lambda_measured"] = moved.seen
    samples = Samples(one.time, signals, Limits(), policy.settle_s)
    ruled = {rule.id: rule.finds(samples) for rule in RULES if applies(rule, policy.without, policy.also)}
    # What its rail or a fuel cut left without a reading is counted as that, not as missing.
    missing &= ~(
        np.isnan(moved.parts.mixture) & (ruled.get("rail", samples.none()) | ruled.get("overrun", samples.none()))
    )
    found: list[tuple[str, BoolArray]] = [own for own in one.own if own[0] == NO_TARGET]
    found += [(MISSING, missing), *(own for own in one.own if own[0] != NO_TARGET)]
    if one.ratio is None:
        if one.reading is None or policy.loop == "closed":
            found.append((OPEN_LOOP, ~(signals["loop_state"] > 0.5)))
        elif policy.loop == "open":
            found.append((CLOSED_LOOP, signals["loop_state"] > 0.5))
    found += [(rule.id, ruled.get(rule.id, samples.none())) for rule in RULES]
    found.append((OUTSIDE, outside))
    return sift(found, one.time.size)


@dataclass(frozen=True, eq=False)
class _Moved:
    """A log under a delay.

    Attributes:
        parts: of the error.
        seen: the mixture with nothing left out, for the rules; None without a sensor.
    """

    parts: FuelParts
    seen: FloatArray | None


def _under(one: OneLog, delay: Delay) -> _Moved:
    """Mixture at the moment of combustion and the parts of the error, under a delay."""
    ones = np.ones(one.time.shape)
    if one.ratio is not None:
        return _Moved(FuelParts(one.ratio, one.short_trim, one.long_trim, ones), None)
    if one.reading is None or one.raw is None:
        return _Moved(FuelParts(ones, one.short_trim, one.long_trim, ones), None)
    mixture, raw = one.read_under(delay)
    return _Moved(FuelParts(mixture / one.target, one.short_trim, one.long_trim, ones), raw)


def _finer(axis: Axis) -> Axis:
    """The axis with its middles as well."""
    points = axis.breakpoints
    middles = (points[1:] + points[:-1]) / 2
    return replace(axis, breakpoints=frozen(np.sort(np.concatenate((points, middles)))))


def _cells(one: OneLog, table: Table, *, finer: bool = False) -> tuple[IntArray, int]:
    """The cell that each sample lies in, or the quarter of one, and how many there are."""
    x = _finer(table.x) if finer else table.x
    cell, count = x.nearest(np.nan_to_num(one.x)), x.size
    if one.y is not None and table.y is not None:
        y = _finer(table.y) if finer else table.y
        cell, count = cell + y.nearest(np.nan_to_num(one.y)) * x.size, x.size * y.size
    return cell, count


def _delay_samples(one: OneLog, table: Table, policy: Policy) -> DelaySamples | None:
    if one.reading is None:
        return None
    used = _sift(one, table, policy, _under(one, _FIRST_DELAY)).used
    rest = (1 + one.short_trim) * (1 + one.long_trim) / one.target
    cells = np.where(used, _cells(one, table)[0], -1)
    film = one.changing.get(WALL_FILM, [])
    ahead = film[len(film) // 2][1] if film else None
    return DelaySamples(one.time, one.reading, rest, one.airflow, cells, ahead)


def _on_one_level(parts: list[DelaySamples]) -> list[DelaySamples]:
    """The logs without what they lie apart as wholes, which would look like scatter within cells."""
    if len(parts) < 2:
        return parts
    used = [(part.cell >= 0) & (part.reading * part.rest > 0) for part in parts]
    number = np.repeat(np.arange(len(parts)), [int(one.sum()) for one in used])
    cell = np.concatenate([part.cell[one] for part, one in zip(parts, used, strict=True)])
    value = np.log(np.concatenate([(part.reading * part.rest)[one] for part, one in zip(parts, used, strict=True)]))
    levels = np.exp(log_levels(cell, number, value, len(parts)))
    return [replace(part, rest=part.rest / level) for part, level in zip(parts, levels, strict=True)]


def _used(table: Table, policy: Policy) -> set[str]:
    """Quantities that the evidence rests on; what only a rule looks at belongs to them if it decides by its height."""
    used = {axis.quantity for axis in (table.x, table.y) if axis is not None}
    if used & {"pressure_ratio", "boost_pressure"}:
        used |= {"manifold_pressure", "barometric_pressure"}
    if policy.source != "fuel":
        return used | {"manifold_pressure", "intake_air_temperature", "coolant_temperature", "airflow"}
    used |= {"lambda_measured", "lambda_measured_2", "coolant_temperature"}
    if policy.target == "log":
        used.add("lambda_target")
    if policy.use_trims == "both":
        used |= {"short_term_trim", "short_term_trim_2"}
    if policy.use_trims in ("both", "long"):
        used |= {"long_term_trim", "long_term_trim_2"}
    return used


def gather(
    logs: Sequence[Log],
    calibration: Calibration,
    table: Table,
    policy: Policy,
    where: Sequence[str] = (),
    book: Book = SHIPPED,
    known: Estimated | None = None,
) -> Evidence:
    """Fuel errors of all logs on the axes of a table.

    Two banks are averaged. Without a measured mixture only closed-loop samples count, with λm/λt = 1.

    Args:
        known: what was estimated when the same was gathered before, which takes most of the time.

    Raises:
        BadInput: a log lacks a channel that is needed, or there is no log, or a condition is wrong.
        DoubtError: a channel that is used is in doubt.
    """
    if not logs:
        raise BadInput("there is no log to compute from", advice="accept at least one log of this round")
    ask(logs, _used(table, policy))
    ones = [one_log(log, calibration, table, policy, where, book) for log in logs]
    delay, gain = NO_DELAY, NO_GAIN
    if known is not None:
        delay, gain = known.delay, known.delay_gain
    elif policy.delay == "auto":
        parts = _on_one_level(
            [part for part in (_delay_samples(one, table, policy) for one in ones) if part is not None]
        )
        found = estimate_delay(parts, _cells(ones[0], table)[1])
        delay, gain = found.delay, found.gain
    else:
        delay = Delay(*policy.delay)
    moved = [_under(one, delay) for one in ones]
    sieves = [_sift(one, table, policy, under) for one, under in zip(ones, moved, strict=True)]
    reasons = tuple(dict.fromkeys(reason for sieve in sieves for reason in sieve.reasons))
    number = {reason: index for index, reason in enumerate(reasons)}
    verdicts = [
        np.array([number[reason] for reason in sieve.reasons] + [-1], dtype=np.int64)[sieve.verdict] for sieve in sieves
    ]
    joined = FuelParts(
        np.concatenate([under.parts.mixture for under in moved]),
        np.concatenate([under.parts.short_trim for under in moved]),
        np.concatenate([under.parts.long_trim for under in moved]),
        np.concatenate([under.parts.transient for under in moved]),
    )
    ys = [one.y for one in ones if one.y is not None]
    evidence = Evidence(
        names=tuple(log.name for log in logs),
        log=np.repeat(np.arange(len(ones)), [one.time.size for one in ones]).astype(np.int64),
        time=np.concatenate([one.time for one in ones]),
        x=np.concatenate([one.x for one in ones]),
        y=np.concatenate(ys) if ys else None,
        parts=joined,
        error=joined.error,
        duration=np.concatenate([durations(one.time) for one in ones]),
        sieve=Sieve(reasons, np.concatenate(verdicts)),
        delay=delay,
        delay_gain=gain,
        region=np.concatenate([one.region for one in ones]),
        banks=_joined([one.banks for one in ones], [one.time.size for one in ones]),
        notes=tuple(
            dict.fromkeys(f"{log.name}: {note}" for log, one in zip(logs, ones, strict=True) for note in one.notes)
        ),
    )
    return _without_transients(evidence, table, ones, known)


def _joined(parts: list[FloatArray | None], sizes: list[int]) -> FloatArray | None:
    if all(part is None for part in parts):
        return None
    pairs = zip(parts, sizes, strict=True)
    return np.concatenate([np.full(size, np.nan) if part is None else part for part, size in pairs])


def _changing(ones: Sequence[OneLog]) -> Signals:
    """The signals of all logs, one after the other; a log without one has nought."""
    found: dict[str, list[tuple[float, FloatArray]]] = {}
    for words in dict.fromkeys(words for one in ones for words in one.changing):
        times = next([seconds for seconds, _ in one.changing[words]] for one in ones if words in one.changing)
        found[words] = [
            (
                seconds,
                np.concatenate(
                    [one.changing[words][at][1] if words in one.changing else np.zeros(one.time.shape) for one in ones]
                ),
            )
            for at, seconds in enumerate(times)
        ]
    return found


def _without_transients(evidence: Evidence, table: Table, ones: list[OneLog], known: Estimated | None) -> Evidence:
    """The evidence with the error free of what only changing conditions add, and its floor."""
    signals = _changing(ones)
    used = evidence.sieve.used
    if known is not None:
        found = known.transients
    else:
        # Trims move for long while the engine moves through a cell, so that place and pace must be told apart within it.
        finer = all(one.reading is None for one in ones)
        cells = np.concatenate([_cells(one, table, finer=finer)[0] for one in ones])
        stretch, first = [], 0
        for one in ones:
            stretch.append(stretches_of(one.time, first))
            first = int(stretch[-1][-1]) + 1 if stretch[-1].size else first
        levels = log_levels(cells[used], evidence.log[used], np.log(np.maximum(evidence.error[used], 1e-6)), len(ones))
        found = estimate_transients(
            cells[used],
            np.concatenate(stretch)[used],
            evidence.error[used] / np.exp(levels)[evidence.log[used]],
            {words: [(time, signal[used]) for time, signal in every] for words, every in signals.items()},
        )
    steps = max((_steps(one) for one in ones if one.ratio is None), default=0.0)
    follow = sum(
        (one.slope * chosen(one, signals[one.words])[used] for one in found if one.words == SLOW_TRIMS),
        np.zeros(int(used.sum())),
    )
    left = _STILL_UNSURE * float(np.sqrt(np.mean(np.square(follow)))) if used.any() else 0.0
    films = signals.get(WALL_FILM)
    evidence = replace(evidence, floor=left, grain=steps, ahead=films[-1][1] if films else None)
    if SLOW_TRIMS in signals:
        evidence = replace(evidence, sieve=evidence.sieve.without(FOLLOWING, _still_following(found, signals)))
    if not found:
        return evidence
    parts = replace(evidence.parts, transient=transient_factor(found, signals, evidence.time.size))
    return replace(evidence, parts=parts, error=parts.error, transients=found)


def _still_following(found: Sequence[Transient], signals: Signals) -> BoolArray:
    """Where trims that are all there is to go by have not arrived: too far to be told from their rate."""
    every = signals[SLOW_TRIMS]
    moving = np.abs(every[len(every) // 2][1]) > STILL_MOVING
    for one in found:
        if one.words == SLOW_TRIMS:
            moving = np.abs(one.slope * chosen(one, every)) > FAR
    return moving


def _steps(one: OneLog) -> float:
    """The steps in which a log's error comes, as a fraction: of its trims without a sensor, else of the mixture."""
    if one.reading is None:
        return quantum(one.short_trim + one.long_trim)
    usual = float(np.nanmedian(one.target)) if np.isfinite(one.target).any() else 1.0
    return quantum(one.reading) / usual
