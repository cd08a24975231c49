"""The channels of one log read together: their units speak of each other; see `joint.judge`."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import replace

import numpy as np

from uchiwa.core.cars.fuels import stoichiometric_ratio
from uchiwa.core.evidence.regions import opening
from uchiwa.core.logs.log import BoolArray, Channel, FloatArray, Log
from uchiwa.core.logs.recognition.channel_reading import ABOVE, ChannelReading, read_words
from uchiwa.core.logs.recognition.joint import Candidate, JudgedReading, ReadingWay, judge
from uchiwa.core.logs.recognition.knowledge import STANDARD_BAROMETER, Knowledge
from uchiwa.core.logs.recognition.plausible import as_unit
from uchiwa.core.logs.recognition.plausible_units import Drive
from uchiwa.core.logs.recognition.ways import JUDGED, canonical, same_unit, ways_of
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.quantities.naming import plain_name
from uchiwa.core.quantities.states import states_in

_EQUIVALENCE = re.compile(r"equivalence|\beq ?rat|\bphi\b")

STANDING_RPM = 30.0
"""Engine speed below which an engine stands."""
_LOOKED_AT = 6000
_IDLE_RPM = (450.0, 1150.0)
_WIDE_OPEN = 0.85
_MOSTLY = 0.9


def judged_together(
    log: Log,
    flat: list[tuple[int, Channel]],
    readings: list[ChannelReading | str],
    winners: dict[str, int],
    knowledge: Knowledge,
) -> list[ChannelReading | str]:
    """The readings of channels whose units speak of each other, judged together; see `joint.judge`."""
    at = winners.get("engine_speed")
    if at is None or isinstance(readings[at], str):
        return readings
    ratio = knowledge.gauge_ratio or knowledge.fuel.stoichiometric
    base = log.rasters[flat[at][0]].time
    step = max(1, base.size // _LOOKED_AT)
    time = base[::step]

    def there(number: int) -> FloatArray:
        raster, channel = flat[number]
        known = np.isfinite(channel.values)
        if not known.any():
            return np.full(time.shape, np.nan)
        return np.interp(time, log.rasters[raster].time[known], channel.values[known], left=np.nan, right=np.nan)

    speed_reading = readings[at]
    speed = (
        as_unit(there(at), speed_reading.unit, "rpm", ratio) if isinstance(speed_reading, ChannelReading) else there(at)
    )
    throttle = winners.get("throttle_position")
    loaded = None
    if throttle is not None:
        opened = opening(there(throttle))
        loaded = (opened >= _WIDE_OPEN) & (speed > _IDLE_RPM[1])
    span = np.diff(time, append=time[-1:])
    running = speed > _IDLE_RPM[0]
    ratios = _fuels_own(readings, winners, there, ratio, knowledge)
    drive = Drive(
        float(span[running].sum()),
        running & (speed < _IDLE_RPM[1]) & (loaded is None or ~loaded),
        loaded,
        speed < STANDING_RPM,
        speed,
        knowledge.displacement,
        _closed(flat, winners, there, loaded),
    )
    ambient = _ambient(readings, winners, there, ratio, knowledge)
    numbers = [
        number
        for quantity, number in winners.items()
        if quantity in JUDGED and isinstance(readings[number], ChannelReading)
    ]
    candidates, ways = [], []
    for number in numbers:
        reading, channel = readings[number], flat[number][1]
        if isinstance(reading, str):
            continue
        mine = [(ReadingWay(reading.unit, reading.gauge), 0.0)] if reading.told else ways_of(
            reading.match.quantity, reading.unit, reading.gauge, stated=reading.stated, by_name=reading.by_name,
            equivalence=_named_equivalence(channel.name), petrol=knowledge.fuel.id == "petrol" or knowledge.gauge_ratio is not None,
        )  # fmt: skip
        values = there(number)
        read = tuple(canonical(values, reading.match.quantity, way, ratios, ambient) for way, _ in mine)
        candidates.append(Candidate(reading.match.quantity, reading.stated, tuple(mine), read))
        ways.append(mine)
    result = list(readings)
    for number, verdict in zip(numbers, judge(candidates, drive), strict=True):
        reading = readings[number]
        if isinstance(reading, ChannelReading) and not reading.told:
            result[number] = _as_judged(flat[number][1], reading, verdict)
    return result


def _closed(
    flat: list[tuple[int, Channel]],
    winners: dict[str, int],
    there: Callable[[int], FloatArray],
    loaded: BoolArray | None,
) -> BoolArray | None:
    """Where the log says that the fuel loop is closed, but not at full load; None if it does not."""
    at = winners.get("loop_state")
    if at is None:
        return None
    channel, told = flat[at][1], there(at)
    states = states_in(channel.source_unit) or states_in(channel.name)
    if states:
        closed = np.isin(told, [code for code, state in states.items() if state > 0.5])
    elif np.isin(told[np.isfinite(told)], (0.0, 1.0)).mean() > _MOSTLY:
        closed = told > 0.5
    else:
        return None
    return closed if loaded is None else closed & ~loaded


def _fuels_own(
    readings: list[ChannelReading | str],
    winners: dict[str, int],
    there: Callable[[int], FloatArray],
    ratio: float,
    knowledge: Knowledge,
) -> FloatArray | float:
    """The air-fuel ratio at λ 1: the fuel's, which moves with the ethanol content where that is logged, or the gauge's."""
    at = winners.get("ethanol_content")
    if at is None or isinstance(readings[at], str) or not knowledge.fuel.flexible or knowledge.gauge_ratio is not None:
        return ratio
    told = there(at)
    share = np.isfinite(told).any() and float(np.nanmax(told)) <= 1.05
    return np.where(np.isfinite(told), stoichiometric_ratio(told * 100.0 if share else told), ratio)


def _named_equivalence(name: str) -> bool:
    return _EQUIVALENCE.search(plain_name(name)) is not None


def _ambient(
    readings: list[ChannelReading | str],
    winners: dict[str, int],
    there: Callable[[int], FloatArray],
    ratio: float,
    knowledge: Knowledge,
) -> float:
    """The pressure outside, kPa, in whatever unit it was logged, as far as that matters for what a gauge shows."""
    at = winners.get("barometric_pressure")
    usual = STANDARD_BAROMETER if knowledge.barometer is None else knowledge.barometer
    reading = readings[at] if at is not None else None
    if at is None or not isinstance(reading, ChannelReading):
        return usual
    values = there(at)
    for unit in (reading.unit, "kPa", "psi", "bar", "mbar", "inHg", "mmHg"):
        told = float(np.nanmedian(as_unit(values, unit, "kPa", ratio))) if np.isfinite(values).any() else usual
        if 80.0 <= told <= 106.0:
            return told
    return usual


def _as_judged(channel: Channel, reading: ChannelReading, verdict: JudgedReading) -> ChannelReading:
    """A reading as it was judged, with what is doubtful about it in words."""
    way, second = verdict.way, verdict.second
    gauge = way.gauge if reading.match.quantity in ("manifold_pressure", "boost_pressure") else reading.gauge
    assumed = reading.gauge if reading.gauge is not None else reading.match.quantity == "boost_pressure"
    overruled = not same_unit(way.unit, reading.unit) and (reading.stated or reading.by_name)
    turned = way.gauge is not None and way.gauge is not assumed
    if not (overruled or turned or verdict.close or verdict.odd):
        return replace(reading, unit=way.unit, gauge=gauge)
    label = _unit_words(ReadingWay(channel.source_unit))
    called = f"is labelled {label}" if channel.source_unit else f"is named “{channel.name}”"
    words = _unit_words(way)
    if overruled or turned:
        said = f"{channel.name} {called}, but its values fit {words} better"
    elif verdict.odd:
        low, high = np.nanmin(channel.values), np.nanmax(channel.values)
        said = f"{channel.name} reads {low:.4g} to {high:.4g}, which hardly any {QUANTITIES[reading.match.quantity].title} does"
    else:
        said = f"{channel.name} is taken as {words}"
    if second is not None:
        said += f", with {_unit_words(second)} next best"
    match = replace(reading.match, confidence=min(reading.match.confidence, 0.6))
    other = (
        (second.unit + (ABOVE if second.gauge and reading.match.quantity == "manifold_pressure" else ""))
        if second
        else ""
    )
    return replace(reading, match=match, unit=way.unit, gauge=gauge, doubt=said, second=other)


def _unit_words(way: ReadingWay) -> str:
    return read_words(way.unit + (ABOVE if way.gauge else ""))
