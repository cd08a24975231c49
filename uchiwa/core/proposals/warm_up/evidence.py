"""How much more fuel an engine needs while it warms: samples of the factor over coolant, against the cold target."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.conditions import RULES, Limits, Samples, Sieve, sift
from uchiwa.core.evidence.gather import axis_values
from uchiwa.core.formulas.computed import SHIPPED, Book
from uchiwa.core.formulas.evaluation import Scope, condition
from uchiwa.core.idle.starts import after_start, running
from uchiwa.core.logs.log import BoolArray, FloatArray, IntArray, Log
from uchiwa.core.logs.recognition.doubt import ask
from uchiwa.core.logs.signal import durations, held
from uchiwa.core.logs.timebase import on_one_base
from uchiwa.core.proposals.fuel import banks
from uchiwa.core.proposals.warm_up.policy import WarmUpPolicy
from uchiwa.core.quantities.units import convert
from uchiwa.core.tables.table import Calibration, Table

ROLE = "warmup_factor"
QUANTITIES = frozenset({
    "engine_speed", "coolant_temperature", "lambda_measured", "lambda_measured_2", "lambda_target",
    "short_term_trim", "short_term_trim_2", "long_term_trim", "long_term_trim_2", "loop_state", "after_start_active",
    "overrun_cut_active", "injector_pulse", "throttle_position", "manifold_pressure", "barometric_pressure",
    "boost_pressure", "pressure_ratio", "intake_air_temperature", "airflow", "vehicle_speed",
})  # fmt: skip
"""Every quantity that warm-up evidence may look at; conditions of one's own may name others."""

NOT_RUNNING = "not_running"
COLD_SENSOR = "cold_sensor"
AFTER_START = "after_start"
NO_READING = "missing"
OUTSIDE = "outside"
WARM = "warm"
_RULES = ("overrun", "rail", "transient")
TITLES = {
    NOT_RUNNING: ("not running", "The engine stands or is being cranked."),
    COLD_SENSOR: ("sensor cold", "The mixture sensor has not moved yet since the log began: it is still heating."),
    AFTER_START: ("after start", "After-start enrichment is still active; it is shown, and not corrected."),
    NO_READING: ("no reading", "A channel that is needed has no reading here."),
    OUTSIDE: ("off the table", "Beyond the table's last temperature by more than half its spacing."),
    WARM: ("warm", "The engine is warm: what the mixture is off by here is the airflow model's, which warm-up is held against."),
}  # fmt: skip
"""The words and the sentence for each reason of its own; the others are those of fuel."""

_FAR = 1e15
STRETCH_S = 12.0
_SENSOR_MOVED = 0.004
_FEW = 30
_FULL_LOOK_S = 1.5
_WARM_SETTLED = 4.0


@dataclass(frozen=True, eq=False)
class AfterStart:
    """After-start enrichment as a log shows it.

    Attributes:
        log: name.
        start, seconds: when it began, s in the log, and how long it was active.
        richest: how much richer than the cold target the mixture was, at most, as a share; NaN if it was not read.
        coolant: at the start, degC.
    """

    log: str
    start: float
    seconds: float
    richest: float
    coolant: float


@dataclass(frozen=True, eq=False)
class WarmUpEvidence:
    """Samples of all logs, one after the other; arrays of shape (n,).

    Attributes:
        names: of the logs.
        log: index of the log each sample is from.
        time: seconds in its log.
        coolant: in the unit of the table's axis.
        factor: that the engine needs, in the table's unit; NaN where it is not known.
        error: e, of which that follows.
        mixture, target: λ measured and asked for.
        duration: seconds each sample stands for.
        stretch: number of the stretch of time it belongs to.
        sieve: which samples are used, and why the others are not.
        warm_error: e when warm, which is the airflow model's own, by log; NaN where a log never was warm.
        after_starts: as the logs show them.
        notes: what could not be told or had to be assumed, as sentences.
    """

    names: tuple[str, ...]
    log: IntArray
    time: FloatArray
    coolant: FloatArray
    factor: FloatArray
    error: FloatArray
    mixture: FloatArray
    target: FloatArray
    duration: FloatArray
    stretch: IntArray
    sieve: Sieve
    warm_error: tuple[float, ...]
    after_starts: tuple[AfterStart, ...]
    notes: tuple[str, ...] = ()

    def left_out(self) -> dict[str, int]:
        """Samples left out, by reason."""
        counts = np.bincount(self.sieve.verdict + 1, minlength=len(self.sieve.reasons) + 1)[1:]
        return {reason: int(count) for reason, count in zip(self.sieve.reasons, counts, strict=True)}


@dataclass(frozen=True, eq=False)
class _Asked:
    calibration: Calibration
    table: Table
    policy: WarmUpPolicy
    book: Book


def gather_warming(
    logs: Sequence[Log], calibration: Calibration, table: Table, policy: WarmUpPolicy, book: Book = SHIPPED
) -> WarmUpEvidence:
    """Every moment of warming up, with the factor that the engine needed.

    The controller injects F = A·f/(λt·AFRst), times trims; so the factor that gives the mixture asked for is f·e, for e as
    in `FuelParts.error`. What e is once warm belongs to the airflow model: it is divided out, where the logs tell it.

    Raises:
        BadInput: a channel that is needed is wanting.
        DoubtError: one that would be used is in doubt.
    """
    if not logs:
        raise BadInput("there is no log", advice="give at least one")
    ask(logs, {"coolant_temperature", "lambda_measured", "lambda_target", "short_term_trim", "long_term_trim"})
    asked = _Asked(calibration, table, policy, book)
    parts = [_of_log(log, asked) for log in logs]
    warm = [part.warm for part in parts]
    known = [one for one in warm if np.isfinite(one)]
    notes = list(dict.fromkeys(note for part in parts for note in part.notes))
    usual = float(np.median(known)) if known else 1.0
    if not known:
        notes.append(
            "no log reaches a warm engine: what the airflow model itself is off by at idle cannot be told from warm-up"
        )
    elif abs(usual - 1.0) > 0.03:
        notes.append(
            f"warm, the mixture is {abs(usual - 1) * 100:.0f} % {'lean' if usual > 1 else 'rich'} of its target: that is the "
            "airflow model's, put it right with Fuel; warm-up is held against it"
        )
    factors = [part.factor / (part.warm if np.isfinite(part.warm) else usual) for part in parts]
    offset = np.cumsum([0, *(int(part.stretch.max(initial=-1)) + 1 for part in parts)])
    reasons = parts[0].sieve.reasons
    return WarmUpEvidence(
        tuple(log.name for log in logs),
        np.repeat(np.arange(len(parts)), [part.time.size for part in parts]).astype(np.int64),
        np.concatenate([part.time for part in parts]),
        np.concatenate([part.coolant for part in parts]),
        np.concatenate(factors),
        np.concatenate([part.error for part in parts]),
        np.concatenate([part.mixture for part in parts]),
        np.concatenate([part.target for part in parts]),
        np.concatenate([part.duration for part in parts]),
        np.concatenate([part.stretch + offset[number] for number, part in enumerate(parts)]).astype(np.int64),
        Sieve(reasons, np.concatenate([part.sieve.verdict for part in parts])),
        tuple(warm),
        tuple(start for part in parts for start in part.after_starts),
        tuple(notes),
    )


@dataclass(frozen=True, eq=False)
class _Part:
    time: FloatArray
    coolant: FloatArray
    factor: FloatArray
    error: FloatArray
    mixture: FloatArray
    target: FloatArray
    duration: FloatArray
    stretch: IntArray
    sieve: Sieve
    warm: float
    after_starts: tuple[AfterStart, ...]
    notes: tuple[str, ...]


def _of_log(log: Log, asked: _Asked) -> _Part:
    time, signals = on_one_base(log)
    table, policy = asked.table, asked.policy
    if "coolant_temperature" not in signals:
        raise BadInput(
            "the log has no coolant temperature, the axis of the table",
            where=log.name,
            advice="record it from cold to warm",
        )
    measured = banks.mixture(time, signals, Limits(), rails=True)
    if measured is None:
        raise BadInput(
            "the log has no measured mixture, and until the loop is closed trims say nothing of warm-up",
            where=log.name,
            advice="record λ from the wideband sensor",
        )
    target, told = _target(signals, asked, log.name)
    short = banks.trim(signals, "short_term_trim") if policy.use_trims == "both" else None
    long = banks.trim(signals, "long_term_trim") if policy.use_trims in ("both", "long") else None
    trims = np.ones(time.shape)
    for one in (short, long):
        if one is not None:
            trims = trims * (1.0 + np.nan_to_num(one.values))
    with np.errstate(invalid="ignore", divide="ignore"):
        error = np.where(target > 0, measured.values / target, np.nan) * trims
    coolant = axis_values(table.x, signals, log.name)
    celsius = signals["coolant_temperature"]
    factor = table.lookup(coolant) * error
    late = after_start(time, signals, policy.after_start_s)
    found = _reasons(time, signals, asked, (measured.raw, error, coolant, late))
    warm_here = celsius >= policy.warm_from
    found.append((WARM, warm_here))
    sieve = sift(found, time.size)
    settled = warm_here & ~np.any([mask for reason, mask in found if reason != WARM], axis=0)
    warm = _warm_error(error * table.lookup(coolant) / 100.0, celsius, settled, policy.warm_from)
    notes = (*told, *measured.notes, *_course(celsius, log.name))
    return _Part(
        time, coolant, factor, error, measured.values, target, durations(time),
        np.clip(np.floor((time - time[0]) / STRETCH_S), -_FAR, _FAR).astype(np.int64), sieve, warm,
        _after_starts(time, signals, late, error, log.name), notes,
    )  # fmt: skip


def _reasons(
    time: FloatArray,
    signals: dict[str, FloatArray],
    asked: _Asked,
    at: tuple[FloatArray, FloatArray, FloatArray, BoolArray],
) -> list[tuple[str, BoolArray]]:
    """What leaves a sample out, in the order in which it is asked."""
    raw, error, coolant, late = at
    samples = Samples(time, signals, Limits(), asked.policy.settle_s)
    ruled = {rule.id: rule.finds(samples) for rule in RULES if rule.id in _RULES}
    own = [
        (text, ~condition(text, signals, time, Scope(asked.calibration, None, asked.book)))
        for text in asked.policy.where
    ]
    missing = ~np.isfinite(error) | ~np.isfinite(coolant)
    return [
        (NOT_RUNNING, ~running(signals["engine_speed"])),
        (COLD_SENSOR, _sensor_cold(raw)),
        (AFTER_START, late),
        ("rail", ruled["rail"]),
        ("overrun", ruled["overrun"]),
        ("transient", ruled["transient"]),
        (NO_READING, missing),
        (OUTSIDE, ~asked.table.x.covers(np.nan_to_num(coolant))),
        *own,
    ]


def _sensor_cold(raw: FloatArray) -> BoolArray:
    """From the log's beginning until the sensor's reading first moves: what it shows until then is its rest."""
    known = np.flatnonzero(np.isfinite(raw))
    cold = np.zeros(raw.shape, dtype=np.bool_)
    if known.size == 0:
        return cold
    moved = np.flatnonzero(np.isfinite(raw) & (np.abs(raw - raw[known[0]]) > _SENSOR_MOVED))
    cold[: int(moved[0]) if moved.size else raw.size] = True
    return cold


def _target(signals: dict[str, FloatArray], asked: _Asked, name: str) -> tuple[FloatArray, tuple[str, ...]]:
    """The mixture that is asked for while cold: the log's, or the tables' with the cold offset.

    A logged target may be the warm one. Where the calibration has a cold offset, the log's is compared with both.
    """
    calibration = asked.calibration
    offset = _offset(signals, calibration, name)
    logged = signals.get("lambda_target")
    if asked.policy.target == "log" and logged is not None:
        if offset is None:
            return logged, ()
        own = _from_table(signals, calibration, name)
        cold = np.abs(offset) > 0.01
        if own is not None and (cold & np.isfinite(logged)).sum() >= _FEW:
            with_it = float(np.nanmedian(np.abs(logged - own - offset)[cold]))
            without = float(np.nanmedian(np.abs(logged - own)[cold]))
            if without < 0.5 * with_it:
                return logged + offset, (
                    "the λ target that was logged is the warm one: the cold offset is added to it",
                )
        return logged, ()
    own = _from_table(signals, calibration, name)
    if own is None:
        raise BadInput(
            "neither the log nor the calibration tells the λ target", where=name, advice="record λ target as well"
        )
    return own + (0.0 if offset is None else offset), ()


def _from_table(signals: dict[str, FloatArray], calibration: Calibration, name: str) -> FloatArray | None:
    tables = calibration.by_role("lambda_target")
    if not tables or any(axis is not None and axis.quantity not in signals for axis in (tables[0].x, tables[0].y)):
        return None
    table = tables[0]
    y = axis_values(table.y, signals, name) if table.y is not None else None
    return table.lookup(axis_values(table.x, signals, name), y)


def _offset(signals: dict[str, FloatArray], calibration: Calibration, name: str) -> FloatArray | None:
    """The cold target's offset in λ at each sample."""
    tables = calibration.by_role("cold_lambda_offset")
    if not tables or tables[0].y is not None or tables[0].x.quantity not in signals:
        return None
    table = tables[0]
    return convert(table.lookup(axis_values(table.x, signals, name)), table.unit, "1")


def _warm_error(error: FloatArray, celsius: FloatArray, settled: BoolArray, warm_from: float) -> float:
    """e of the warm engine, the factor in the car included; of the hotter samples where the coolant gets well beyond."""
    hot = settled & np.isfinite(error)
    beyond = hot & (celsius >= warm_from + _WARM_SETTLED)
    chosen = beyond if beyond.sum() >= _FEW else hot
    return float(np.median(error[chosen])) if chosen.sum() >= _FEW else float("nan")


def _course(celsius: FloatArray, name: str) -> tuple[str, ...]:
    """What is odd about a warming."""
    known = np.isfinite(celsius)
    if not known.any():
        return ()
    highest = np.maximum.accumulate(np.where(known, celsius, -np.inf))
    fallen = float(np.max(np.where(known, highest - celsius, 0.0)))
    if fallen > 15.0 and float(celsius[known][-1]) < float(np.nanmax(celsius)) - 10.0:
        return (f"the coolant falls by {fallen:.0f} °C in {name}: a sensor or a thermostat, not a warming",)
    return ()


def _after_starts(
    time: FloatArray, signals: dict[str, FloatArray], late: BoolArray, error: FloatArray, name: str
) -> tuple[AfterStart, ...]:
    """Each stretch of after-start enrichment: how long, and how rich."""
    flag = signals.get("after_start_active")
    active = late if flag is None else held(time, flag > 0.5, 0.0)
    edges = np.flatnonzero(np.diff(np.concatenate(([False], active, [False])).astype(np.int8)))
    found = []
    for first, last in zip(edges[::2], edges[1::2] - 1, strict=True):
        here = error[first : last + 1]
        richest = 1.0 - float(np.nanmin(here)) if np.isfinite(here).any() else float("nan")
        coolant = float(signals["coolant_temperature"][first])
        found.append(AfterStart(name, float(time[first]), float(time[last] - time[first]), richest, coolant))
    return tuple(found)
