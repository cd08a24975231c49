"""From a logger's channel names, units and ranges to quantities, each with its reason and how sure it is."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from types import MappingProxyType

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.fuels import FUELS, Fuel, stoichiometric_ratio
from uchiwa.core.log import Channel, FloatArray, Log, Raster
from uchiwa.core.naming import Match, match_name, plain_name
from uchiwa.core.plausible import AFR, FACTOR, as_unit, better_unit, factor_not_percent, fits, middle_fits
from uchiwa.core.quantities import QUANTITIES
from uchiwa.core.sensors import Line
from uchiwa.core.units import known_unit, plain_unit, same_dimension

STANDARD_BAROMETER = 101.325
_GAUGE = ("gauge", "gage", "relative", "rel.", "rel", "g")
_ABSOLUTE = ("absolute", "abs.", "abs", "a")
_PRESSURE_UNITS = ("psi", "bar", "kpa", "mbar", "hpa", "inhg", "mmhg", "pa")
_AFR_UNITS = frozenset({"afr", ":1", "a/f", "air/fuel", "gair/gfuel", "kg/kg"})
# A name says what is near; the unit says which of these it is.
_BY_UNIT: dict[str, tuple[str, ...]] = {
    "airflow": ("airflow_voltage", "airflow_frequency", "cylinder_air"),
    "airflow_voltage": ("airflow_frequency", "airflow"),
    "airflow_frequency": ("airflow_voltage", "airflow"),
    "cylinder_air": ("airflow",),
    "lambda_measured": ("mixture_voltage",),
    "knock_level": ("knock_retard",),
    "manifold_pressure": ("pressure_voltage",),
    "boost_pressure": ("pressure_voltage",),
}


@dataclass(frozen=True)
class Assignment:
    """What a person said a channel is: a quantity, or None for “leave it alone”; and its unit, if that was wrong."""

    quantity: str | None
    unit: str | None = None


def channel_key(name: str, unit: str) -> str:
    """By what an assignment is remembered."""
    return f"{plain_name(name)} [{plain_unit(unit)}]"


@dataclass(frozen=True)
class Knowledge:
    """What is known of a car and its logger before a log is looked at.

    Attributes:
        fuel: gives the stoichiometric ratio that turns AFR into λ.
        gauge_ratio: the ratio a gauge multiplies its λ by, if it is fixed; None: the fuel's own.
        assignments: what people said about channels, by `channel_key`.
        lines: sensor lines by the quantity of the raw voltage, `mixture_voltage` or `pressure_voltage`.
    """

    fuel: Fuel = FUELS["petrol"]
    gauge_ratio: float | None = None
    assignments: Mapping[str, Assignment] = field(default_factory=lambda: MappingProxyType({}))
    lines: Mapping[str, Line] = field(default_factory=lambda: MappingProxyType({}))


_DERIVED = {"mixture_voltage": "lambda_measured", "pressure_voltage": "manifold_pressure"}
NOTHING_KNOWN = Knowledge()


@dataclass(frozen=True)
class _Reading:
    """A channel's quantity, the unit its readings are taken in, and whether they are gauge pressures."""

    match: Match
    unit: str
    gauge: bool | None
    doubt: str = ""


def _split_pressure(unit: str) -> tuple[str, bool | None]:
    """A unit without “gauge” or “absolute”, and which of them it said."""
    whole = unit.rstrip(" \t)]")
    for words, gauge in ((_GAUGE, True), (_ABSOLUTE, False)):
        word = next((one for one in words if whole.lower().endswith(one)), "")
        bare = whole[: -len(word)].rstrip(" \t([_") if word else unit
        if bare != unit and plain_unit(bare) in _PRESSURE_UNITS:
            return bare, gauge
    return unit, None


def _named_unit(name: str) -> tuple[str, str]:
    """A unit written at the end of the name, as in `MAP_kPa` or `Coolant (F)`, and the name without it."""
    words = re.split(r"[\s_]+", name.strip())
    if len(words) > 1:
        last = words[-1].strip("()[]")
        if known_unit(last) and plain_unit(last) not in (
            "1",
            "",
            "g",
            "s",
            "min",
            "a",
            "-",
            "count",
            "state",
            "flag",
            "ratio",
        ):
            return " ".join(words[:-1]), last
        if plain_unit(last) == "afr":
            return name, AFR
    return name, ""


def _read_as(channel: Channel, knowledge: Knowledge) -> _Reading | str:
    """How a channel is to be taken, or why not."""
    told = knowledge.assignments.get(channel_key(channel.name, channel.source_unit))
    name, unit = channel.name, channel.source_unit
    if told is not None:
        if told.quantity is None:
            return "left alone, as you said"
        match: Match | None = Match(told.quantity, 1.0, "remembered from what you said")
        unit = told.unit or unit
    else:
        match = match_name(name)
        if not unit:
            bare, inside = _named_unit(name)
            if inside:
                unit = inside
                match = match_name(bare) or match
    if match is None:
        return "no quantity is known by this name"
    unit, gauge = _split_pressure(unit)
    canonical = QUANTITIES[match.quantity].unit
    mixture = match.quantity.startswith("lambda_")
    if (mixture and (plain_unit(unit) in _AFR_UNITS or plain_unit(unit) == "afr")) or (
        mixture and not unit and re.search(r"\bafr\b|air fuel ratio|a/f", plain_name(name))
    ):
        unit = AFR
    elif plain_unit(unit) == FACTOR and match.quantity.endswith(("_trim", "_trim_2")):
        unit = FACTOR
    if unit in (AFR, FACTOR):
        return _Reading(match, unit, None)
    title = QUANTITIES[match.quantity].title
    if unit and not known_unit(unit):
        return f"named like {title}, but its unit “{unit}” is not known"
    if unit and not same_dimension(unit, canonical) and not _ratio_as_percent(unit, canonical):
        for other in _BY_UNIT.get(match.quantity, ()):
            if same_dimension(unit, QUANTITIES[other].unit):
                said = f"{match.reason}, and {unit} makes it {QUANTITIES[other].title}"
                return _Reading(Match(other, min(match.confidence, 0.95), said), unit, gauge)
        return f"named like {title}, but “{unit}” does not measure that"
    return _Reading(match, unit or canonical, gauge)


def _ratio_as_percent(unit: str, canonical: str) -> bool:
    return {plain_unit(unit), canonical} <= {"%", "1"}


def _doubted(channel: Channel, reading: _Reading, ratio: float) -> _Reading:
    """The reading with another unit, if the values cannot be in the stated one and can be in just that."""
    quantity = reading.match.quantity
    canonical = QUANTITIES[quantity].unit
    try:
        values = as_unit(channel.values, reading.unit, canonical, ratio)
    except BadInput:
        return reading
    if reading.unit == canonical and factor_not_percent(quantity, channel.values):
        unit: str | None = FACTOR
    elif fits(quantity, values) or (reading.gauge and quantity == "manifold_pressure"):
        return reading
    elif quantity == "manifold_pressure" and _vacuum(values):
        doubt = (
            f"{channel.name} goes below zero, so it is a pressure above or below the air outside, not an absolute one"
        )
        return replace(reading, gauge=True, doubt=doubt)
    else:
        unit = better_unit(quantity, canonical, channel.values, reading.unit, ratio)
    stated = channel.source_unit or ("AFR" if reading.unit == AFR else "")
    if unit is None and middle_fits(quantity, values):
        return reading
    if unit is None:
        low, high = np.nanmin(channel.values), np.nanmax(channel.values)
        doubt = (
            f"{channel.name} reads {low:.4g} to {high:.4g} {stated}".rstrip()
            + f", which no {QUANTITIES[quantity].title} does"
        )
        match = replace(reading.match, confidence=min(reading.match.confidence, 0.4))
        return replace(reading, match=match, doubt=doubt)
    words = {"1": "λ", AFR: "AFR", FACTOR: "a factor"}.get(unit, unit)
    called = f"is labelled {stated}" if channel.source_unit else f"is named “{channel.name}”"
    said = f"{channel.name} {called}, but its values can only be {words}"
    match = replace(reading.match, confidence=min(reading.match.confidence, 0.7))
    return _Reading(match, unit, reading.gauge, said)


def _vacuum(values: FloatArray) -> bool:
    return values.size > 0 and float(np.nanquantile(values, 0.02)) < 0.0 if np.isfinite(values).any() else False


def _taken(channel: Channel, reading: _Reading, ratio: FloatArray | float) -> Channel:
    quantity = QUANTITIES[reading.match.quantity]
    try:
        values = as_unit(channel.values, reading.unit, quantity.unit, ratio)
    except BadInput:
        return replace(channel, reason=f"named like {quantity.title}, but “{reading.unit}” does not measure that")
    reason = reading.match.reason
    if reading.doubt:
        reason = f"{reason}; {reading.doubt}"
    elif reading.unit == AFR:
        said = f"{float(ratio):.2f}" if np.ndim(ratio) == 0 else "the ratio of the logged ethanol content"
        reason = f"{reason}; AFR ÷ {said} → λ"
    elif channel.source_unit and plain_unit(reading.unit) != plain_unit(quantity.unit):
        reason = f"{reason}; {reading.unit} → {quantity.unit}"
    elif channel.source_unit:
        reason = f"{reason}; {reading.unit} fits"
    elif reading.unit != quantity.unit:
        reason = f"{reason}; {reading.unit} by its name → {quantity.unit}"
    else:
        reason = f"{reason}; no unit given, taken as {quantity.unit}"
    return replace(
        channel,
        quantity=quantity.id,
        unit=quantity.unit,
        values=values,
        reason=reason,
        confidence=reading.match.confidence,
        doubt=reading.doubt,
    )


def recognise_channel(channel: Channel, knowledge: Knowledge = NOTHING_KNOWN) -> Channel:
    """One channel by itself: gauge pressures and logged ethanol, which need others, are not taken into account."""
    reading = _read_as(channel, knowledge)
    if isinstance(reading, str):
        return replace(channel, reason=reading)
    ratio = knowledge.gauge_ratio or knowledge.fuel.stoichiometric
    return _taken(channel, _doubted(channel, reading, ratio), ratio)


def recognise(log: Log, knowledge: Knowledge = NOTHING_KNOWN) -> Log:
    """The log with quantities found. Where channels compete for a quantity the surest keeps it, then the first.

    Raises:
        BadInput: no channel is an engine speed: without it nothing can be placed on a table.
    """
    fixed = knowledge.gauge_ratio or knowledge.fuel.stoichiometric
    flat = [(number, channel) for number, raster in enumerate(log.rasters) for channel in raster.channels]
    readings: list[_Reading | str] = []
    for _, channel in flat:
        reading = _read_as(channel, knowledge)
        readings.append(reading if isinstance(reading, str) else _doubted(channel, reading, fixed))
    winners = _winners(readings)
    known: list[Channel] = []
    for at, ((_, channel), reading) in enumerate(zip(flat, readings, strict=True)):
        if isinstance(reading, str):
            known.append(replace(channel, reason=reading))
        elif winners[reading.match.quantity] != at:
            first = flat[winners[reading.match.quantity]][1].name
            known.append(replace(channel, reason=f"“{first}” is already taken as {reading.match.quantity}"))
        else:
            known.append(_taken(channel, reading, fixed))
    rasters = [(number, raster.time) for number, raster in enumerate(log.rasters)]
    placed = list(zip((number for number, _ in flat), known, strict=True))
    placed = _with_ethanol(placed, flat, readings, winners, rasters, knowledge)
    placed = _absolute(placed, readings, winners, rasters)
    placed = _by_line(placed, knowledge)
    if "engine_speed" not in winners:
        names = [channel.name[:60] for _, channel in flat][:6]
        raise BadInput(
            f"no engine speed among its channels ({', '.join(names)} …)",
            where=log.name,
            advice="add engine speed to the logger's channels and record again",
        )
    return replace(
        log,
        rasters=tuple(
            Raster(raster.time, tuple(channel for at, channel in placed if at == number))
            for number, raster in enumerate(log.rasters)
        ),
    )


def _winners(readings: list[_Reading | str]) -> dict[str, int]:
    winners: dict[str, int] = {}
    for at, reading in enumerate(readings):
        if isinstance(reading, str):
            continue
        quantity = reading.match.quantity
        best = winners.get(quantity)
        held = readings[best] if best is not None else None
        if not isinstance(held, _Reading) or reading.match.confidence > held.match.confidence + 1e-9:
            winners[quantity] = at
    return winners


_Placed = list[tuple[int, Channel]]


def _signal(placed: _Placed, rasters: list[tuple[int, FloatArray]], quantity: str, raster: int) -> FloatArray | None:
    """A quantity's canonical readings on the times of another raster."""
    for at, channel in placed:
        if channel.quantity == quantity:
            if at == raster:
                return channel.values
            times = dict(rasters)
            finite = np.isfinite(channel.values)
            if not finite.any():
                return None
            return np.interp(times[raster], times[at][finite], channel.values[finite])
    return None


def _with_ethanol(
    placed: _Placed,
    flat: list[tuple[int, Channel]],
    readings: list[_Reading | str],
    winners: dict[str, int],
    rasters: list[tuple[int, FloatArray]],
    knowledge: Knowledge,
) -> _Placed:
    """AFR channels of a flex-fuel car by the ratio of the ethanol content logged with them."""
    if not knowledge.fuel.flexible or knowledge.gauge_ratio is not None or "ethanol_content" not in winners:
        return placed
    result = list(placed)
    for at, reading in enumerate(readings):
        if isinstance(reading, str) or reading.unit != AFR or winners[reading.match.quantity] != at:
            continue
        raster = placed[at][0]
        ethanol = _signal(placed, rasters, "ethanol_content", raster)
        if ethanol is not None:
            result[at] = (raster, _taken(flat[at][1], reading, stoichiometric_ratio(ethanol)))
    return result


def _absolute(
    placed: _Placed, readings: list[_Reading | str], winners: dict[str, int], rasters: list[tuple[int, FloatArray]]
) -> _Placed:
    """Gauge readings of an absolute pressure raised by the barometer, absolute readings of boost lowered by it."""
    result = list(placed)
    for quantity, wrong, sign in (("manifold_pressure", True, 1.0), ("boost_pressure", False, -1.0)):
        at = winners.get(quantity)
        reading = readings[at] if at is not None else None
        if at is None or not isinstance(reading, _Reading) or reading.gauge is not wrong:
            continue
        raster, channel = placed[at]
        barometer = _signal(placed, rasters, "barometric_pressure", raster)
        said = "the logged barometer" if barometer is not None else f"{STANDARD_BAROMETER} kPa, for want of a barometer"
        values = channel.values + sign * (STANDARD_BAROMETER if barometer is None else barometer)
        verb = "a gauge pressure, raised by" if wrong else "an absolute pressure, lowered by"
        result[at] = (raster, replace(channel, values=values, reason=f"{channel.reason}; {verb} {said}"))
    return result


def _by_line(placed: _Placed, knowledge: Knowledge) -> _Placed:
    """Channels that a sensor's line gives from a raw voltage; they take the place of what was logged directly."""
    result = list(placed)
    for raw, quantity in _DERIVED.items():
        line = knowledge.lines.get(raw)
        source = next(((at, one) for at, one in result if one.quantity == raw), None)
        if line is None or source is None:
            continue
        result = [
            (at, replace(one, quantity=None, reason="replaced by the line of the calibrated sensor", confidence=0.0))
            if one.quantity == quantity
            else (at, one)
            for at, one in result
        ]
        number, channel = source
        reason = f"{line.slope:.4g} · {channel.name} {'+' if line.offset >= 0 else '−'} {abs(line.offset):.4g}, the car's sensor line"
        result.append(
            (
                number,
                Channel(
                    f"{channel.name}, by line",
                    QUANTITIES[quantity].unit,
                    line(channel.values),
                    quantity,
                    "",
                    reason,
                    1.0,
                ),
            )
        )
    return result
