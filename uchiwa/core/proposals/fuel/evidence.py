"""The samples of one or more logs that say how wrong the airflow model of a table is."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.evidence.conditions import (
    CLOSED_LOOP,
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
from uchiwa.core.evidence.stretches import NO_GAIN
from uchiwa.core.evidence.transients import (
    WALL_FILM,
)
from uchiwa.core.formulas.evaluation import Scope
from uchiwa.core.logs.log import BoolArray, FloatArray, Log
from uchiwa.core.logs.recognition.doubt import ask
from uchiwa.core.logs.signal import durations
from uchiwa.core.proposals.fuel.cell_numbers import cell_numbers
from uchiwa.core.proposals.fuel.one_log import OneLog, one_log
from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.core.proposals.fuel.samples import Estimated, Evidence, FuelParts
from uchiwa.core.proposals.fuel.without_transients import free_of_transients
from uchiwa.core.tables.table import Table

_FIRST_DELAY = Delay(0.1, 1.0)
QUANTITIES = frozenset(
    {
        "engine_speed", "manifold_pressure", "barometric_pressure", "pressure_ratio", "boost_pressure", "airflow",
        "airflow_frequency", "airflow_voltage", "throttle_position", "coolant_temperature", "intake_air_temperature",
        "lambda_measured", "lambda_measured_2", "lambda_target", "short_term_trim", "short_term_trim_2",
        "long_term_trim", "long_term_trim_2", "loop_state", "injector_pulse", "after_start_active",
        "overrun_cut_active", "vehicle_speed", "fuel_overlay",
    }
)  # fmt: skip
"""Every quantity that fuel evidence may look at; conditions of one's own may name others."""


def _sift(log: OneLog, table: Table, policy: Policy, moved: _Moved) -> Sieve:
    """Verdict on the samples of one log, with the mixture already free of its delay."""
    outside = ~table.x.covers(log.x)
    missing = ~np.isfinite(moved.parts.error) | ~np.isfinite(log.x)
    if log.y is not None and table.y is not None:
        missing |= ~np.isfinite(log.y)
        outside |= ~table.y.covers(log.y)
    signals = dict(log.signals)
    signals.pop("lambda_measured", None)
    if moved.seen is not None:
        signals["lambda_measured"] = moved.seen
    samples = Samples(log.time, signals, Limits(), policy.settle_s)
    ruled = {rule.id: rule.finds(samples) for rule in RULES if applies(rule, policy.without, policy.also)}
    # What its rail or a fuel cut left without a reading is counted as that, not as missing.
    missing &= ~(
        np.isnan(moved.parts.mixture) & (ruled.get("rail", samples.none()) | ruled.get("overrun", samples.none()))
    )
    found: list[tuple[str, BoolArray]] = [own for own in log.own if own[0] == NO_TARGET]
    found += [(MISSING, missing), *(own for own in log.own if own[0] != NO_TARGET)]
    if log.ratio is None:
        if log.reading is None or policy.loop == "closed":
            found.append((OPEN_LOOP, ~(signals["loop_state"] > 0.5)))
        elif policy.loop == "open":
            found.append((CLOSED_LOOP, signals["loop_state"] > 0.5))
    found += [(rule.id, ruled.get(rule.id, samples.none())) for rule in RULES]
    found.append((OUTSIDE, outside))
    return sift(found, log.time.size)


@dataclass(frozen=True, eq=False)
class _Moved:
    """A log under a delay.

    Attributes:
        parts: of the error.
        seen: the mixture with nothing left out, for the rules; None without a sensor.
    """

    parts: FuelParts
    seen: FloatArray | None


def _under(log: OneLog, delay: Delay) -> _Moved:
    """Mixture at the moment of combustion and the parts of the error, under a delay."""
    ones = np.ones(log.time.shape)
    if log.ratio is not None:
        return _Moved(FuelParts(log.ratio, log.short_trim, log.long_trim, ones, log.overlay), None)
    if log.reading is None or log.raw is None:
        return _Moved(FuelParts(ones, log.short_trim, log.long_trim, ones, log.overlay), None)
    mixture, raw = log.read_under(delay)
    return _Moved(FuelParts(mixture / log.target, log.short_trim, log.long_trim, ones, log.overlay), raw)


def _delay_samples(log: OneLog, table: Table, policy: Policy) -> DelaySamples | None:
    if log.reading is None:
        return None
    used = _sift(log, table, policy, _under(log, _FIRST_DELAY)).used
    rest = (1 + log.short_trim) * (1 + log.long_trim) * (1 + log.overlay) / log.target
    cells = np.where(used, cell_numbers(log, table)[0], -1)
    film = log.changing.get(WALL_FILM, [])
    ahead = film[len(film) // 2][1] if film else None
    return DelaySamples(log.time, log.reading, rest, log.airflow, cells, ahead)


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
    used |= {"lambda_measured", "lambda_measured_2", "coolant_temperature", "fuel_overlay"}
    if policy.target == "log":
        used.add("lambda_target")
    if policy.use_trims == "both":
        used |= {"short_term_trim", "short_term_trim_2"}
    if policy.use_trims in ("both", "long"):
        used |= {"long_term_trim", "long_term_trim_2"}
    return used


def gather(logs: Sequence[Log], table: Table, policy: Policy, scope: Scope, known: Estimated | None = None) -> Evidence:
    """Fuel errors of all logs on the axes of a table.

    Two banks are averaged. Without a measured mixture only closed-loop samples count, with λm/λt = 1.

    Args:
        scope: the calibration that the car ran, which there must be, and the computed channels.
        known: what was estimated when the same was gathered before, which takes most of the time.

    Raises:
        BadInput: a log lacks a channel that is needed, or there is no log, or a condition is wrong.
        DoubtError: a channel that is used is in doubt.
    """
    if not logs:
        raise BadInput("there is no log to compute from", advice="accept at least one log of this round")
    if scope.calibration is None:
        raise TypeError("the fuel error of a table needs the calibration that the car ran")
    ask(logs, _used(table, policy))
    prepared = [one_log(log, scope.calibration, table, policy, scope.book) for log in logs]
    delay, gain = NO_DELAY, NO_GAIN
    if known is not None:
        delay, gain = known.delay, known.delay_gain
    elif policy.delay == "auto":
        parts = _on_one_level(
            [part for part in (_delay_samples(log, table, policy) for log in prepared) if part is not None]
        )
        found = estimate_delay(parts, cell_numbers(prepared[0], table)[1])
        delay, gain = found.delay, found.gain
    else:
        delay = Delay(*policy.delay)
    moved = [_under(log, delay) for log in prepared]
    sieves = [_sift(log, table, policy, under) for log, under in zip(prepared, moved, strict=True)]
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
        np.concatenate([under.parts.overlay for under in moved]),
    )
    ys = [log.y for log in prepared if log.y is not None]
    evidence = Evidence(
        names=tuple(log.name for log in logs),
        log=np.repeat(np.arange(len(prepared)), [log.time.size for log in prepared]).astype(np.int64),
        time=np.concatenate([log.time for log in prepared]),
        x=np.concatenate([log.x for log in prepared]),
        y=np.concatenate(ys) if ys else None,
        parts=joined,
        error=joined.error,
        duration=np.concatenate([durations(log.time) for log in prepared]),
        sieve=Sieve(reasons, np.concatenate(verdicts)),
        delay=delay,
        delay_gain=gain,
        region=np.concatenate([log.region for log in prepared]),
        banks=_joined([log.banks for log in prepared], [log.time.size for log in prepared]),
        notes=tuple(
            dict.fromkeys(f"{log.name}: {note}" for log, one in zip(logs, prepared, strict=True) for note in one.notes)
        ),
    )
    return free_of_transients(evidence, table, prepared, known)


def _joined(parts: list[FloatArray | None], sizes: list[int]) -> FloatArray | None:
    if all(part is None for part in parts):
        return None
    pairs = zip(parts, sizes, strict=True)
    return np.concatenate([np.full(size, np.nan) if part is None else part for part, size in pairs])
