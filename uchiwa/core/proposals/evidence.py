"""The samples of one or more logs that say how wrong the airflow model of a table is."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from uchiwa.core.airflow import logged_airflow
from uchiwa.core.align import Delay, DelaySamples, estimate_delay, inconsistency, undelayed
from uchiwa.core.conditions import (
    CLOSED_LOOP,
    MISSING,
    NO_TARGET,
    NOT_IN_USE,
    OPEN_LOOP,
    OUTSIDE,
    RULES,
    Limits,
    Samples,
    Sieve,
    applies,
    sift,
)
from uchiwa.core.errors import BadInput
from uchiwa.core.formulas.computed import SHIPPED, Book
from uchiwa.core.formulas.evaluation import condition
from uchiwa.core.gather import axis_values
from uchiwa.core.log import BoolArray, FloatArray, IntArray, Log
from uchiwa.core.proposals.policy import Policy
from uchiwa.core.proposals.transients import (
    SLOW_TRIMS,
    WALL_FILM,
    Transient,
    estimate_transients,
    film_signal,
    transient_factor,
    trim_signal,
)
from uchiwa.core.proposals.trusted import against_trusted
from uchiwa.core.signal import durations
from uchiwa.core.table import Calibration, Table
from uchiwa.core.timebase import on_one_base

_FIRST_DELAY = Delay(0.1, 1.0)

QUANTITIES = frozenset(
    {
        "engine_speed", "manifold_pressure", "barometric_pressure", "pressure_ratio", "boost_pressure", "airflow",
        "airflow_frequency", "airflow_voltage", "throttle_position", "coolant_temperature", "intake_air_temperature",
        "lambda_measured", "lambda_measured_2", "lambda_target", "short_term_trim", "short_term_trim_2",
        "long_term_trim", "long_term_trim_2", "loop_state", "injector_pulse", "after_start_active",
        "overrun_cut_active",
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


@dataclass(frozen=True)
class Estimated:
    """What gathering evidence estimates: delay, its gain, and transients, as `Evidence` has them."""

    delay: Delay
    delay_gain: float
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
        delay_gain: by how much that delay makes the error more consistent within cells, as a fraction of its variance.
        transients: what was found to change the error while conditions change, and was taken out of it.
        banks: how much more fuel bank 2 asks for than bank 1, as a fraction; NaN or None without a second bank.
        floor: error that no number of samples averages away, as a fraction: of trims that come in steps and follow.
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
    delay_gain: float
    transients: tuple[Transient, ...] = ()
    banks: FloatArray | None = None
    floor: float = 0.0

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


@dataclass(frozen=True, eq=False)
class _OneLog:
    """One log's signals, ready for a mixture delay."""

    time: FloatArray
    signals: dict[str, FloatArray]
    x: FloatArray
    y: FloatArray | None
    reading: FloatArray | None
    ratio: FloatArray | None
    target: FloatArray
    short_trim: FloatArray
    long_trim: FloatArray
    airflow: FloatArray | None
    own: list[tuple[str, BoolArray]]
    changing: dict[str, FloatArray]
    banks: FloatArray | None


def _trim(signals: dict[str, FloatArray], quantity: str) -> FloatArray | None:
    """A trim as a fraction; two banks are averaged."""
    banks = [signals[one] for one in (quantity, f"{quantity}_2") if one in signals]
    return np.mean(banks, axis=0) / 100.0 if banks else None


def _mixture(signals: dict[str, FloatArray]) -> FloatArray | None:
    banks = [signals[one] for one in ("lambda_measured", "lambda_measured_2") if one in signals]
    return np.mean(banks, axis=0) if banks else None


def _bank_difference(signals: dict[str, FloatArray], policy: Policy) -> FloatArray | None:
    """Error of bank 2 over that of bank 1, less 1; None unless both banks were recorded."""
    ratio: FloatArray | None = None
    pairs = [("lambda_measured", 0.0, 1.0)]
    if policy.use_trims == "both":
        pairs.append(("short_term_trim", 1.0, 100.0))
    if policy.use_trims in ("both", "long"):
        pairs.append(("long_term_trim", 1.0, 100.0))
    for quantity, plus, scale in pairs:
        if quantity in signals and f"{quantity}_2" in signals:
            with np.errstate(invalid="ignore", divide="ignore"):
                one = (plus + signals[f"{quantity}_2"] / scale) / (plus + signals[quantity] / scale)
            ratio = one if ratio is None else ratio * one
    return None if ratio is None else ratio - 1.0


def _target(signals: dict[str, FloatArray], calibration: Calibration, policy: Policy, name: str) -> FloatArray | None:
    """λ target at each sample: logged, or looked up in the calibration's own table."""
    tables = calibration.by_role("lambda_target")
    if policy.target == "log" and ("lambda_target" in signals or not tables):
        return signals.get("lambda_target")
    if not tables:
        raise BadInput("the calibration has no λ target table", advice="take λ target from the log")
    table = tables[0]
    y = axis_values(table.y, signals, name) if table.y is not None else None
    looked_up = table.lookup(axis_values(table.x, signals, name), y)
    if (table.grid <= 0).any():
        without = table.with_grid((table.grid <= 0).astype(np.float64))
        y = y if table.y is not None else None
        looked_up = np.where(without.lookup(axis_values(table.x, signals, name), y) > 0, 0.0, looked_up)
    return looked_up


def _own_conditions(
    time: FloatArray,
    signals: dict[str, FloatArray],
    calibration: Calibration,
    table: Table,
    policy: Policy,
    where: Sequence[str],
    book: Book,
) -> list[tuple[str, BoolArray]]:
    """What conditions of one's own leave out, after what was recorded while another table was in use."""
    own = [(text, ~condition(text, signals, time, calibration, book=book)) for text in (*policy.where, *where)]
    if table.id in policy.in_use:
        own.insert(0, (NOT_IN_USE, ~condition(policy.in_use[table.id], signals, time, calibration, book=book)))
    return own


def _one_log(
    log: Log, calibration: Calibration, table: Table, policy: Policy, where: Sequence[str], book: Book
) -> _OneLog:
    time, signals = on_one_base(log)
    zero = np.zeros(time.shape)
    if policy.source != "fuel":
        ratio = against_trusted(policy.source, table, time, signals, calibration, book, log.name)
        return _OneLog(
            time=time,
            signals={key: values for key, values in signals.items() if key != "lambda_measured"},
            x=axis_values(table.x, signals, log.name),
            y=axis_values(table.y, signals, log.name) if table.y is not None else None,
            reading=None,
            ratio=ratio,
            target=np.ones(time.shape),
            short_trim=zero,
            long_trim=zero,
            airflow=None,
            own=_own_conditions(time, signals, calibration, table, policy, where, book),
            changing={},
            banks=None,
        )
    reading = _mixture(signals)
    short = _trim(signals, "short_term_trim") if policy.use_trims == "both" else None
    long = _trim(signals, "long_term_trim") if policy.use_trims in ("both", "long") else None
    if reading is None and short is None and long is None:
        raise BadInput(
            "the log has neither a measured mixture nor fuel trims",
            where=log.name,
            advice="record λ from the wideband sensor, or the fuel trims",
        )
    target = _target(signals, calibration, policy, log.name) if reading is not None else None
    if reading is not None and target is None:
        raise BadInput(
            "the log has no λ target to compare the measured mixture with", where=log.name, advice="record it as well"
        )
    if reading is not None and policy.loop != "any" and "loop_state" not in signals:
        raise BadInput(
            f"only samples of {policy.loop} loop are asked for, and the log does not say when the loop was closed",
            where=log.name,
            advice="record the loop state, or let samples of any loop state count",
        )
    if reading is None:
        if policy.loop == "open":
            raise BadInput(
                "the log has no measured mixture, and in open loop the trims say nothing",
                where=log.name,
                advice="let closed-loop samples count",
            )
        if "loop_state" not in signals:
            raise BadInput(
                "the log has no measured mixture and does not say when the loop was closed",
                where=log.name,
                advice="record the loop state with the trims",
            )
        target = None
    own = _own_conditions(time, signals, calibration, table, policy, where, book)
    if target is not None:
        own.append((NO_TARGET, ~(target > 0) & ~np.isnan(target)))
        target = np.where(target > 0, target, np.nan)
    airflow = logged_airflow(signals, calibration)
    changing: dict[str, FloatArray] = {}
    if policy.transients == "auto":
        if reading is not None and airflow is not None and target is not None:
            changing[WALL_FILM] = film_signal(time, airflow, target)
        elif reading is None:
            trims = (zero if short is None else short) + (zero if long is None else long)
            changing[SLOW_TRIMS] = -trim_signal(time, trims)
    return _OneLog(
        time=time,
        signals=signals,
        x=axis_values(table.x, signals, log.name),
        y=axis_values(table.y, signals, log.name) if table.y is not None else None,
        reading=reading,
        ratio=None,
        target=target if target is not None else np.ones(time.shape),
        short_trim=zero if short is None else short,
        long_trim=zero if long is None else long,
        airflow=airflow,
        own=own,
        changing=changing,
        banks=_bank_difference(signals, policy),
    )


def _sift(one: _OneLog, table: Table, policy: Policy, mixture: FloatArray, error: FloatArray) -> Sieve:
    """Verdict on the samples of one log, with the mixture already free of its delay."""
    missing = ~np.isfinite(error) | ~np.isfinite(one.x)
    outside = ~table.x.covers(one.x)
    if one.y is not None and table.y is not None:
        missing |= ~np.isfinite(one.y)
        outside |= ~table.y.covers(one.y)
    found: list[tuple[str, BoolArray]] = [own for own in one.own if own[0] == NO_TARGET]
    found += [(MISSING, missing), *(own for own in one.own if own[0] != NO_TARGET)]
    signals = dict(one.signals)
    if one.reading is None:
        signals.pop("lambda_measured", None)
    else:
        signals["lambda_measured"] = mixture
    if one.ratio is not None:
        pass
    elif one.reading is None or policy.loop == "closed":
        found.append((OPEN_LOOP, ~(signals["loop_state"] > 0.5)))
    elif policy.loop == "open":
        found.append((CLOSED_LOOP, signals["loop_state"] > 0.5))
    samples = Samples(one.time, signals, Limits(), policy.settle_s)
    found += [
        (rule.id, rule.finds(samples) if applies(rule, policy.without, policy.also) else samples.none())
        for rule in RULES
    ]
    found.append((OUTSIDE, outside))
    return sift(found, one.time.size)


def _under(one: _OneLog, delay: Delay) -> tuple[FloatArray, FuelParts]:
    """Mixture at the moment of combustion and the parts of the error, under a delay."""
    if one.ratio is not None:
        return one.ratio, FuelParts(one.ratio, one.short_trim, one.long_trim, np.ones(one.time.shape))
    if one.reading is None:
        mixture = np.ones(one.time.shape)
        return mixture, FuelParts(mixture, one.short_trim, one.long_trim, np.ones(one.time.shape))
    mixture = undelayed(one.time, one.reading, delay.seconds(one.airflow, one.time.shape))
    return mixture, FuelParts(mixture / one.target, one.short_trim, one.long_trim, np.ones(one.time.shape))


def _delay_samples(one: _OneLog, table: Table, policy: Policy) -> DelaySamples | None:
    if one.reading is None:
        return None
    mixture, parts = _under(one, _FIRST_DELAY)
    used = _sift(one, table, policy, mixture, parts.error).used
    cell = table.x.nearest(np.nan_to_num(one.x))
    if one.y is not None and table.y is not None:
        cell = cell + table.y.nearest(np.nan_to_num(one.y)) * table.x.size
    rest = (1 + one.short_trim) * (1 + one.long_trim) / one.target
    cells = np.where(used, cell, -1)
    return DelaySamples(one.time, one.reading, rest, one.airflow, cells, one.changing.get(WALL_FILM))


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
    """
    if not logs:
        raise BadInput("there is no log to compute from", advice="accept at least one log of this round")
    ones = [_one_log(log, calibration, table, policy, where, book) for log in logs]
    gain = 0.0
    if known is not None:
        delay, gain = known.delay, known.delay_gain
    elif policy.delay == "auto":
        parts = [part for part in (_delay_samples(one, table, policy) for one in ones) if part is not None]
        cells = table.shape[0] * table.shape[1]
        delay = estimate_delay(parts, cells)
        gain = consistency_gain(parts, delay, cells)
    else:
        delay = Delay(*policy.delay)
    mixtures = [_under(one, delay) for one in ones]
    sieves = [_sift(one, table, policy, mixture, p.error) for one, (mixture, p) in zip(ones, mixtures, strict=True)]
    reasons = tuple(dict.fromkeys(reason for sieve in sieves for reason in sieve.reasons))
    number = {reason: index for index, reason in enumerate(reasons)}
    verdicts = [
        np.array([number[reason] for reason in sieve.reasons] + [-1], dtype=np.int64)[sieve.verdict] for sieve in sieves
    ]
    joined = FuelParts(
        np.concatenate([p.mixture for _, p in mixtures]),
        np.concatenate([p.short_trim for _, p in mixtures]),
        np.concatenate([p.long_trim for _, p in mixtures]),
        np.concatenate([p.transient for _, p in mixtures]),
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
        banks=_joined([one.banks for one in ones], [one.time.size for one in ones]),
    )
    return _without_transients(evidence, table, ones, known)


def _joined(parts: list[FloatArray | None], sizes: list[int]) -> FloatArray | None:
    if all(part is None for part in parts):
        return None
    pairs = zip(parts, sizes, strict=True)
    return np.concatenate([np.full(size, np.nan) if part is None else part for part, size in pairs])


def _without_transients(evidence: Evidence, table: Table, ones: list[_OneLog], known: Estimated | None) -> Evidence:
    """The evidence with the error free of what only changing conditions add."""
    signals = {
        words: np.concatenate([one.changing.get(words, np.zeros(one.time.shape)) for one in ones])
        for words in dict.fromkeys(words for one in ones for words in one.changing)
    }
    used = evidence.sieve.used
    if known is not None:
        found = known.transients
    else:
        found = estimate_transients(
            table,
            evidence.x[used],
            evidence.y[used] if evidence.y is not None else None,
            evidence.error[used],
            evidence.breaks[used],
            {words: signal[used] for words, signal in signals.items()},
        )
    steps = max((_trim_step(one) for one in ones if one.reading is None and one.ratio is None), default=0.0)
    follow = sum(one.slope * signals[one.words][used] for one in found if one.words == SLOW_TRIMS)
    left = float(np.sqrt(np.mean(np.square(follow)))) / 2 if used.any() else 0.0
    evidence = replace(evidence, floor=float(np.hypot(steps / np.sqrt(12.0), left)))
    if not found:
        return evidence
    parts = replace(evidence.parts, transient=transient_factor(found, signals, evidence.time.size))
    return replace(evidence, parts=parts, error=parts.error, transients=found)


def _trim_step(one: _OneLog) -> float:
    """The steps in which a log's trims come, as a fraction; 0 if they are fine."""
    values = np.unique(np.round((one.short_trim + one.long_trim)[:20_000], 7))
    steps = np.diff(values[np.isfinite(values)])
    return float(np.quantile(steps, 0.25)) if steps.size > 3 else 0.0


def consistency_gain(parts: list[DelaySamples], delay: Delay, cells: int) -> float:
    """Share of the within-cell variance that a delay removes, against no delay at all; 0 … 1."""
    if not any((part.cell >= 0).any() for part in parts):
        return 0.0
    without = inconsistency(parts, Delay(0.0, 0.0), cells)
    return float(1 - inconsistency(parts, delay, cells) / without) if without > 0 else 0.0
