"""What an idling engine needs of air, from moments at which it stood on its target: samples over coolant, by gear."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np

from uchiwa.core.airflow.crosscheck import meter_air
from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.conditions import Sieve, sift
from uchiwa.core.evidence.gather import axis_values
from uchiwa.core.formulas.evaluation import Scope, Workings, condition
from uchiwa.core.idle.moments import NO_READING, OUTSIDE, Gear, IdleRules, idle_moments
from uchiwa.core.idle.starts import running
from uchiwa.core.logs.log import BoolArray, FloatArray, IntArray, Log
from uchiwa.core.logs.recognition.doubt import ask
from uchiwa.core.logs.signal import durations, smooth
from uchiwa.core.logs.timebase import on_one_base
from uchiwa.core.proposals.fuel.trusted import speed_density
from uchiwa.core.proposals.idle_air.policy import IdleAirPolicy
from uchiwa.core.quantities.units import convert
from uchiwa.core.tables.table import Calibration, Table

ROLE = "idle_airflow"
QUANTITIES = frozenset({
    "engine_speed", "coolant_temperature", "idle_airflow_target", "target_idle_speed", "idle_actuator_position",
    "throttle_position", "pedal_position", "vehicle_speed", "in_gear", "gear", "after_start_active", "airflow",
    "airflow_frequency", "airflow_voltage", "manifold_pressure", "barometric_pressure", "boost_pressure",
    "pressure_ratio", "intake_air_temperature", "spark_advance", "lambda_measured", "lambda_measured_2",
    "lambda_target", "short_term_trim", "short_term_trim_2", "long_term_trim", "long_term_trim_2", "loop_state",
})  # fmt: skip
"""Every quantity that the station looks at; conditions of one's own may name others."""
STRETCH_S = 15.0
"""Samples this near to each other are one stretch: a fan, an alternator, a breath of the control lasts as long."""
_OWN_TABLE_GS = 0.03
_BAD_MIXTURE = 0.04
_FEW = 5
_CALM_S, _MOST_TO_TARGET = 1.5, 1.25


@dataclass(frozen=True, eq=False)
class IdleAirEvidence:
    """Samples of all logs, one after the other; arrays of shape (n,).

    Attributes:
        names: of the logs.
        source: where the airflow was taken from: `desired`, `meter` or `speed_density`.
        log: index of the log each sample is from.
        time: seconds in its log.
        coolant: in the unit of the table's axis.
        air: that the engine needs, in the table's unit; NaN where it is not known.
        in_gear: 1 in gear, 0 in neutral.
        away: of the speed from its target, rpm.
        weight: 0 … 1, how still the speed stood.
        duration: seconds each sample stands for.
        stretch: number of the stretch of time it belongs to.
        sieve: which samples are used, and why the others are not.
        mixture: fuel error e less 1 of the used samples, on average; NaN if not known.
        notes: what could not be told or had to be assumed, as sentences.
    """

    names: tuple[str, ...]
    source: str
    log: IntArray
    time: FloatArray
    coolant: FloatArray
    air: FloatArray
    in_gear: FloatArray
    away: FloatArray
    weight: FloatArray
    duration: FloatArray
    stretch: IntArray
    sieve: Sieve
    mixture: float
    notes: tuple[str, ...] = ()

    def left_out(self) -> dict[str, int]:
        """Samples left out, by reason."""
        counts = np.bincount(self.sieve.verdict + 1, minlength=len(self.sieve.reasons) + 1)[1:]
        return {reason: int(count) for reason, count in zip(self.sieve.reasons, counts, strict=True)}

    def of(self, gear: Gear) -> BoolArray:
        """The used samples of a gear."""
        pulls = self.in_gear > 0.5
        chosen: BoolArray = self.sieve.used & (pulls if gear is Gear.IN_GEAR else ~pulls)
        return chosen


def gather_idle(
    logs: Sequence[Log], table: Table, policy: IdleAirPolicy, scope: Scope, *, automatic: bool | None = None
) -> IdleAirEvidence:
    """Idle moments of logs, each with the air that the engine needed.

    Args:
        logs: recognised.
        table: of the role `idle_airflow`.
        policy: which samples count.
        scope: the calibration that the car ran, which there must be, and the computed channels that conditions may name.
        automatic: whether the gearbox pulls in gear while standing; None if nobody said.

    Raises:
        BadInput: a channel that is needed is wanting, or no sample is left.
        DoubtError: one that would be used is in doubt.
    """
    if not logs:
        raise BadInput("there is no log", advice="give at least one")
    ask(logs, {"coolant_temperature", "airflow", "manifold_pressure", "intake_air_temperature"})
    bases = [(log.name, *on_one_base(log)) for log in logs]
    calibration = scope.calibration
    if calibration is None:
        raise TypeError("idle air needs the calibration that the car ran")
    source, told = _source(bases, calibration, table, policy)
    asked = _Asked(calibration, table, policy, source, automatic, scope)
    parts = [_of_log(base, asked) for base in bases]
    notes = list(dict.fromkeys([*told, *(note for part in parts for note in part.notes)]))
    verdicts, reasons = _one_sieve([part.sieve for part in parts])
    errors = np.concatenate([part.error for part in parts])
    sieve = Sieve(reasons, verdicts)
    used = sieve.used & np.isfinite(errors)
    mixture = float(np.median(errors[used])) if used.sum() >= _FEW else float("nan")
    if np.isfinite(mixture) and abs(mixture) > _BAD_MIXTURE:
        way = "lean" if mixture > 0 else "rich"
        notes.append(
            f"the mixture at idle is {abs(mixture) * 100:.0f} % {way} of its target: put fuel right first, for air "
            "that is needed changes with it"
        )
    return _joined(logs, source, parts, sieve, (mixture, tuple(notes)))


@dataclass(frozen=True, eq=False)
class _Asked:
    """What every log is read for."""

    calibration: Calibration
    table: Table
    policy: IdleAirPolicy
    source: str
    automatic: bool | None
    scope: Scope


@dataclass(frozen=True, eq=False)
class _Part:
    time: FloatArray
    coolant: FloatArray
    air: FloatArray
    in_gear: FloatArray
    away: FloatArray
    weight: FloatArray
    duration: FloatArray
    stretch: IntArray
    error: FloatArray
    sieve: Sieve
    notes: tuple[str, ...]


def _joined(
    logs: Sequence[Log], source: str, parts: Sequence[_Part], sieve: Sieve, told: tuple[float, tuple[str, ...]]
) -> IdleAirEvidence:
    """The samples of all logs, one after the other, each log's stretches apart from the others'.

    Args:
        told: the fuel error at idle, and notes.
    """

    def every(read: Callable[[_Part], FloatArray]) -> FloatArray:
        return np.concatenate([read(part) for part in parts])

    offset = np.cumsum([0, *(int(part.stretch.max(initial=-1)) + 1 for part in parts)])
    return IdleAirEvidence(
        tuple(log.name for log in logs),
        source,
        np.repeat(np.arange(len(parts)), [part.time.size for part in parts]).astype(np.int64),
        every(lambda part: part.time),
        every(lambda part: part.coolant),
        every(lambda part: part.air),
        every(lambda part: part.in_gear),
        every(lambda part: part.away),
        every(lambda part: part.weight),
        every(lambda part: part.duration),
        np.concatenate([part.stretch + offset[number] for number, part in enumerate(parts)]).astype(np.int64),
        sieve,
        *told,
    )


_Based = tuple[str, FloatArray, dict[str, FloatArray]]


def _source(
    bases: Sequence[_Based], calibration: Calibration, table: Table, policy: IdleAirPolicy
) -> tuple[str, tuple[str, ...]]:
    """Where the airflow is taken from, and what to say of that.

    Raises:
        BadInput: the logs do not hold it.
    """
    every = [set(signals) for _, _, signals in bases]
    desired = all("idle_airflow_target" in one for one in every)
    metered = all(meter_air(signals, calibration, name) is not None for name, _, signals in bases)
    modelled = bool(calibration.by_role("volumetric_efficiency")) and all(
        {"manifold_pressure", "intake_air_temperature"} <= one for one in every
    )
    held = {"desired": desired, "meter": metered, "speed_density": modelled}
    if policy.source != "auto":
        if not held[policy.source]:
            words = {"desired": "the desired idle airflow", "meter": "airflow by the meter",
                     "speed_density": "intake pressure and intake air temperature, or the calibration no VE"}  # fmt: skip
            raise BadInput(f"not every log has {words[policy.source]}", advice="take another source, or record it")
        return policy.source, ()
    told: tuple[str, ...] = ()
    if desired and all(_is_the_tables_own(base, table) for base in bases):
        told = ("the desired airflow that was logged is the table's own, without what the control adds to it",)
        held["desired"] = not (metered or modelled)
    found = next((one for one, there in held.items() if there), None)
    if found is None:
        raise BadInput(
            "the logs have neither desired idle airflow, nor airflow by a meter, nor what speed density needs",
            advice="record the desired idle airflow from cold to warm",
        )
    return found, told


def _is_the_tables_own(log: _Based, table: Table) -> bool:
    """Whether the desired airflow that was logged is what the table says, so that it tells nothing of the engine."""
    name, _, signals = log
    if table.x.quantity not in signals:
        return False
    told = convert(signals["idle_airflow_target"], "g/s", table.unit)
    coolant = axis_values(table.x, signals, name)
    rows = [table.grid[0]] if table.y is None else list(table.grid)
    nearest = np.min([np.abs(np.interp(coolant, table.x.breakpoints, row) - told) for row in rows], axis=0)
    idling = running(signals["engine_speed"]) & np.isfinite(nearest)
    return bool(idling.sum() >= _FEW and float(np.quantile(nearest[idling], 0.9)) < _OWN_TABLE_GS)


def _of_log(log: _Based, asked: _Asked) -> _Part:
    name, time, signals = log
    table, policy = asked.table, asked.policy
    if "coolant_temperature" not in signals:
        raise BadInput(
            "the log has no coolant temperature, the axis of the table",
            where=name,
            advice="record it from cold to warm",
        )
    rules = IdleRules(policy.settle_s, policy.after_start_s, policy.within_rpm, asked.automatic)
    moments = idle_moments(time, signals, rules)
    coolant = axis_values(table.x, signals, name)
    air, notes = _air(log, asked)
    if moments.targeted:
        air = air * _to_target(time, signals["engine_speed"], moments.away)
    own = [(text, ~condition(text, signals, time, asked.scope)) for text in policy.where]
    missing = ~np.isfinite(air) | ~np.isfinite(coolant)
    found = [*moments.reasons, (NO_READING, missing), (OUTSIDE, ~table.x.covers(np.nan_to_num(coolant))), *own]
    sieve = sift(found, time.size)
    air_here = convert(air, "g/s", table.unit)
    return _Part(
        time, coolant, air_here, moments.in_gear, moments.away, moments.stillness, durations(time),
        np.floor((time - time[0]) / STRETCH_S).astype(np.int64), _error(signals), sieve, (*moments.notes, *notes),
    )  # fmt: skip


def _air(log: _Based, asked: _Asked) -> tuple[FloatArray, tuple[str, ...]]:
    """The air that the engine took or was asked to take, g/s, with notes."""
    name, time, signals = log
    calibration = asked.calibration
    if asked.source == "desired":
        return signals["idle_airflow_target"], ()
    if asked.source == "meter":
        air = meter_air(signals, calibration, name)
        if air is None:
            raise BadInput("the log has no airflow by the meter", where=name, advice="record it")
        return air, (
            "the air that the engine took stands for what was desired: they differ by leaks and by the actuator",
        )
    ve = calibration.by_role("volumetric_efficiency")[0]
    air = speed_density(ve, Workings(time, signals, asked.scope), calibration, name)
    return air, ("the air is speed density's: as good as VE at idle",)


def _to_target(time: FloatArray, speed: FloatArray, away: FloatArray) -> FloatArray:
    """What the air has to be multiplied with for the target speed, where the engine stood near it.

    Idle torque against friction is set by the air in a cycle, which at another speed takes airflow in proportion to speed.
    """
    calm = smooth(time, speed, _CALM_S)
    with np.errstate(invalid="ignore", divide="ignore"):
        ratio = (calm - smooth(time, away, _CALM_S)) / calm
    return np.clip(np.where(np.isfinite(ratio), ratio, 1.0), 1.0 / _MOST_TO_TARGET, _MOST_TO_TARGET)


def _error(signals: dict[str, FloatArray]) -> FloatArray:
    """Fuel error e less 1 at each sample, as far as the log tells; NaN elsewhere."""
    measured, target = signals.get("lambda_measured"), signals.get("lambda_target")
    size = signals["engine_speed"].shape
    if measured is None or target is None:
        return np.full(size, np.nan)
    with np.errstate(invalid="ignore", divide="ignore"):
        e = np.where((measured > 0.69) & (measured < 1.3) & (target > 0), measured / target, np.nan)
    for trim in ("short_term_trim", "long_term_trim"):
        if trim in signals:
            e = e * (1.0 + signals[trim] / 100.0)
    return np.asarray(e - 1.0)


def _one_sieve(sieves: Sequence[Sieve]) -> tuple[IntArray, tuple[str, ...]]:
    """The verdicts of several logs under one list of reasons."""
    reasons = tuple(dict.fromkeys(reason for sieve in sieves for reason in sieve.reasons))
    place = {reason: number for number, reason in enumerate(reasons)}
    verdicts = []
    for sieve in sieves:
        moved = np.array([place[reason] for reason in sieve.reasons], dtype=np.int64)
        verdicts.append(np.where(sieve.verdict < 0, -1, moved[np.maximum(sieve.verdict, 0)]))
    return np.concatenate(verdicts), reasons
