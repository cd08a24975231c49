"""From a logger's channel names, units and ranges to quantities, each with its reason and how sure it is."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from types import MappingProxyType

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.fuels import FUELS, Fuel, stoichiometric_ratio
from uchiwa.core.joint import Candidate, Judged, Way, judge
from uchiwa.core.joint_ways import JUDGED, canonical, same_unit, ways_of
from uchiwa.core.log import Channel, FloatArray, Log, Raster
from uchiwa.core.naming import Match, match_name, plain_name
from uchiwa.core.plausible import AFR, AFR_PETROL, FACTOR, PHI, as_unit, better_unit, fits, middle_fits
from uchiwa.core.plausible_units import Drive
from uchiwa.core.quantities import QUANTITIES
from uchiwa.core.regions import opening
from uchiwa.core.sensors import Line
from uchiwa.core.states import states_in
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


def can_be_said(unit: str) -> bool:
    """Whether a person may say that a channel is in this unit; the empty text leaves it as the file has it."""
    bare = unit.removesuffix(_ABOVE)
    return bare == "" or known_unit(bare) or bare.upper() == AFR or bare in (FACTOR, PHI, AFR_PETROL)


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
        displacement: of the engine, L; None if nobody has said.
        barometer: kPa where the car is, by its altitude; None if nobody has said.
    """

    fuel: Fuel = FUELS["petrol"]
    gauge_ratio: float | None = None
    assignments: Mapping[str, Assignment] = field(default_factory=lambda: MappingProxyType({}))
    lines: Mapping[str, Line] = field(default_factory=lambda: MappingProxyType({}))
    displacement: float | None = None
    barometer: float | None = None


_DERIVED = {"mixture_voltage": "lambda_measured", "pressure_voltage": "manifold_pressure"}
NOTHING_KNOWN = Knowledge()


@dataclass(frozen=True)
class _Reading:
    """A channel's quantity, the unit its readings are taken in, and whether they are gauge pressures.

    `stated` tells whether the file says the unit, `by_name` whether the channel's name does, `told` whether a person did;
    `second` is the unit that fits nearly as well.
    """

    match: Match
    unit: str
    gauge: bool | None
    doubt: str = ""
    stated: bool = False
    by_name: bool = False
    told: bool = False
    second: str = ""


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
    wanted = QUANTITIES[match.quantity].unit
    mixture = match.quantity.startswith("lambda_")
    stated, said = bool(unit), told is not None
    if told is not None and told.unit and told.unit.endswith(_ABOVE):
        unit, gauge = told.unit.removesuffix(_ABOVE), True
    if mixture and unit in (AFR_PETROL, PHI):
        return _Reading(match, unit, None, stated=True, told=said)
    if (mixture and (plain_unit(unit) in _AFR_UNITS or plain_unit(unit) == "afr")) or (
        mixture and not unit and re.search(r"\bafr\b|air fuel ratio|a/f", plain_name(name))
    ):
        return _Reading(match, AFR, None, stated=stated, by_name=True, told=said)
    if plain_unit(unit) == FACTOR and match.quantity.endswith(("_trim", "_trim_2")):
        return _Reading(match, FACTOR, None, stated=True, told=said)
    if match.quantity == "loop_state" and unit and not known_unit(unit) and states_in(unit):
        return _Reading(match, "1", None, stated=True, told=said)
    title = QUANTITIES[match.quantity].title
    if unit and not known_unit(unit):
        return f"named like {title}, but its unit “{unit}” is not known"
    if unit and not same_dimension(unit, wanted) and not _ratio_as_percent(unit, wanted) and not _turns(unit, wanted):
        for other in _BY_UNIT.get(match.quantity, ()):
            if same_dimension(unit, QUANTITIES[other].unit):
                why = f"{match.reason}, and {unit} makes it {QUANTITIES[other].title}"
                return _Reading(
                    Match(other, min(match.confidence, 0.95), why), unit, gauge, stated=stated, told=said
                )  # fmt: skip
        return f"named like {title}, but “{unit}” does not measure that"
    by_name = mixture and re.search(r"lambda|λ|\blam\b", plain_name(name)) is not None
    return _Reading(match, unit or wanted, gauge, stated=stated, by_name=by_name, told=said)


_ABOVE = " above the air outside"


def _turns(unit: str, wanted: str) -> bool:
    return plain_unit(unit) == "hz" and wanted == "rpm"


def _ratio_as_percent(unit: str, canonical: str) -> bool:
    return {plain_unit(unit), canonical} <= {"%", "1"}


def _doubted(channel: Channel, reading: _Reading, ratio: float) -> _Reading:
    """The reading with another unit, if the values cannot be in the stated one and can be in just that."""
    quantity = reading.match.quantity
    wanted = QUANTITIES[quantity].unit
    if reading.told:
        return reading
    try:
        values = as_unit(channel.values, reading.unit, wanted, ratio)
    except BadInput:
        return reading
    unit: str | None = None
    if fits(quantity, values) or (reading.gauge and quantity == "manifold_pressure"):
        return reading
    if quantity == "manifold_pressure" and _vacuum(values):
        doubt = (
            f"{channel.name} goes below zero, so it is a pressure above or below the air outside, not an absolute one"
        )
        return replace(reading, gauge=True, doubt=doubt)
    unit = better_unit(quantity, wanted, channel.values, reading.unit, ratio)
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
    return replace(reading, match=match, unit=unit, doubt=said)


def _vacuum(values: FloatArray) -> bool:
    return values.size > 0 and float(np.nanquantile(values, 0.02)) < 0.0 if np.isfinite(values).any() else False


def _taken(channel: Channel, reading: _Reading, ratio: FloatArray | float) -> Channel:
    quantity = QUANTITIES[reading.match.quantity]
    states = states_in(channel.source_unit) or states_in(channel.name) if quantity.id == "loop_state" else {}
    try:
        values = as_unit(channel.values, reading.unit, quantity.unit, ratio)
        if states:
            values = _as_states(values, states)
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
        read_as=reading.unit + (_ABOVE if reading.gauge and quantity.id == "manifold_pressure" else ""),
        second=reading.second,
    )


def _as_states(values: FloatArray, states: Mapping[float, float]) -> FloatArray:
    """Codes as the header explains them; a code it does not explain is a gap."""
    found = np.full(values.shape, np.nan)
    for code, state in states.items():
        found[values == code] = state
    return found


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
        alone = isinstance(reading, str) or reading.match.quantity in JUDGED
        readings.append(reading if isinstance(reading, str) or alone else _doubted(channel, reading, fixed))
    winners = _winners(readings)
    readings = _judged_together(log, flat, readings, winners, fixed, knowledge)
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
    placed = _with_engine_off(placed, rasters, readings, winners)
    placed = _absolute(placed, readings, winners, rasters, knowledge)
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


_STANDING_RPM, _STANDING_S = 30.0, 1.0


def _with_engine_off(
    placed: _Placed, rasters: list[tuple[int, FloatArray]], readings: list[_Reading | str], winners: dict[str, int]
) -> _Placed:
    """A barometer from the intake pressure before the engine ran, where none was logged."""
    at = winners.get("manifold_pressure")
    if "barometric_pressure" in winners or at is None or "engine_speed" not in winners:
        return placed
    reading, (raster, channel) = readings[at], placed[at]
    speed = _signal(placed, rasters, "engine_speed", raster)
    if isinstance(reading, str) or reading.gauge or speed is None or channel.quantity is None:
        return placed
    time = dict(rasters)[raster]
    off = (speed < _STANDING_RPM) & np.isfinite(channel.values)
    if off.sum() < 3 or float(time[off][-1] - time[off][0]) < _STANDING_S:
        return placed
    value = float(np.median(channel.values[off]))
    if not 55.0 <= value <= 110.0:
        return placed
    reason = f"{channel.name} while the engine stood: {value:.1f} kPa; no barometer was logged"
    derived = Channel(
        "Barometer, engine off", "kPa", np.full(time.shape, value), "barometric_pressure", "", reason, 0.9, read_as="kPa"
    )  # fmt: skip
    return [*placed, (raster, derived)]


def _absolute(
    placed: _Placed,
    readings: list[_Reading | str],
    winners: dict[str, int],
    rasters: list[tuple[int, FloatArray]],
    knowledge: Knowledge,
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
        assumed = STANDARD_BAROMETER if knowledge.barometer is None else knowledge.barometer
        by = "by the car's altitude" if knowledge.barometer is not None else "for want of a barometer"
        said = "the logged barometer" if barometer is not None else f"{assumed:g} kPa, {by}"
        values = channel.values + sign * (assumed if barometer is None else barometer)
        verb = "a gauge pressure, raised by" if wrong else "an absolute pressure, lowered by"
        result[at] = (raster, replace(channel, values=values, reason=f"{channel.reason}; {verb} {said}"))
    return result


_LOOKED_AT = 6000
_IDLE_RPM = (450.0, 1150.0)
_WIDE_OPEN = 0.85


def _judged_together(
    log: Log,
    flat: list[tuple[int, Channel]],
    readings: list[_Reading | str],
    winners: dict[str, int],
    ratio: float,
    knowledge: Knowledge,
) -> list[_Reading | str]:
    """The readings of channels whose units speak of each other, judged together; see `joint.judge`."""
    at = winners.get("engine_speed")
    if at is None or isinstance(readings[at], str):
        return readings
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
    speed = as_unit(there(at), speed_reading.unit, "rpm", ratio) if isinstance(speed_reading, _Reading) else there(at)
    throttle = winners.get("throttle_position")
    loaded = None
    if throttle is not None:
        opened = opening(there(throttle))
        loaded = (opened >= _WIDE_OPEN) & (speed > _IDLE_RPM[1])
    span = np.diff(time, append=time[-1:])
    running = speed > _IDLE_RPM[0]
    drive = Drive(
        float(span[running].sum()),
        running & (speed < _IDLE_RPM[1]) & (loaded is None or ~loaded),
        loaded,
        speed < _STANDING_RPM,
        speed,
        knowledge.displacement,
    )
    ambient = _ambient(readings, winners, there, ratio, knowledge)
    numbers = [
        number for quantity, number in winners.items() if quantity in JUDGED and isinstance(readings[number], _Reading)
    ]
    candidates, ways = [], []
    for number in numbers:
        reading, channel = readings[number], flat[number][1]
        if isinstance(reading, str):
            continue
        mine = [(Way(reading.unit, reading.gauge), 0.0)] if reading.told else ways_of(
            reading.match.quantity, reading.unit, reading.gauge, stated=reading.stated, by_name=reading.by_name,
            equivalence=_named_equivalence(channel.name), petrol=knowledge.fuel.id == "petrol",
        )  # fmt: skip
        values = there(number)
        read = tuple(canonical(values, reading.match.quantity, way, ratio, ambient) for way, _ in mine)
        candidates.append(Candidate(reading.match.quantity, reading.stated, tuple(mine), read))
        ways.append(mine)
    result = list(readings)
    for number, verdict in zip(numbers, judge(candidates, drive), strict=True):
        reading = readings[number]
        if isinstance(reading, _Reading) and not reading.told:
            result[number] = _as_judged(flat[number][1], reading, verdict)
    return result


def _named_equivalence(name: str) -> bool:
    return re.search(r"equivalence|\beq ?rat|\bphi\b", plain_name(name)) is not None


def _ambient(
    readings: list[_Reading | str],
    winners: dict[str, int],
    there: Callable[[int], FloatArray],
    ratio: float,
    knowledge: Knowledge,
) -> float:
    """The pressure outside, kPa, in whatever unit it was logged, as far as that matters for what a gauge shows."""
    at = winners.get("barometric_pressure")
    usual = STANDARD_BAROMETER if knowledge.barometer is None else knowledge.barometer
    reading = readings[at] if at is not None else None
    if at is None or not isinstance(reading, _Reading):
        return usual
    values = there(at)
    for unit in (reading.unit, "kPa", "psi", "bar", "mbar", "inHg", "mmHg"):
        told = float(np.nanmedian(as_unit(values, unit, "kPa", ratio))) if np.isfinite(values).any() else usual
        if 80.0 <= told <= 106.0:
            return told
    return usual


def _as_judged(channel: Channel, reading: _Reading, verdict: Judged) -> _Reading:
    """A reading as it was judged, with what is doubtful about it in words."""
    way, second = verdict.way, verdict.second
    gauge = way.gauge if reading.match.quantity in ("manifold_pressure", "boost_pressure") else reading.gauge
    assumed = reading.gauge if reading.gauge is not None else reading.match.quantity == "boost_pressure"
    overruled = not same_unit(way.unit, reading.unit) and (reading.stated or reading.by_name)
    turned = way.gauge is not None and way.gauge is not assumed
    if not (overruled or turned or verdict.close or verdict.odd):
        return replace(reading, unit=way.unit, gauge=gauge)
    label = _unit_words(Way(channel.source_unit))
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
        (second.unit + (_ABOVE if second.gauge and reading.match.quantity == "manifold_pressure" else ""))
        if second
        else ""
    )
    return replace(reading, match=match, unit=way.unit, gauge=gauge, doubt=said, second=other)


def _unit_words(way: Way) -> str:
    words = {
        "1": "a plain number",
        "degC": "°C",
        AFR: "AFR",
        FACTOR: "a factor",
        PHI: "fuel over air",
        AFR_PETROL: "petrol's AFR",
    }
    return words.get(way.unit, way.unit) + (" above the air outside" if way.gauge else "")


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
