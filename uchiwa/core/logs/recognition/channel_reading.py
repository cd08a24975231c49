"""How one channel by itself is to be read: its quantity by its name, its unit by header and name, and what is odd."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import Channel, FloatArray
from uchiwa.core.logs.recognition.knowledge import Assignment, Knowledge, channel_key
from uchiwa.core.logs.recognition.plausible import AFR, AFR_PETROL, FACTOR, PHI, as_unit, better_unit, fits, middle_fits
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.quantities.naming import Match, match_name, plain_name
from uchiwa.core.quantities.states import states_in
from uchiwa.core.quantities.units import known_unit, plain_unit, same_dimension

_BETWEEN_WORDS = re.compile(r"[\s_]+")
_AIR_FUEL = re.compile(r"\bafr\b|air fuel ratio|a/f")
_LAMBDA = re.compile(r"lambda|λ|\blam\b")

ABOVE = " above the air outside"
"""What the unit of a gauge pressure ends with."""
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


def read_words(unit: str) -> str:
    """A unit that a channel is read in, as a person says it; a gauge's with `ABOVE` behind."""
    words = {
        "1": "a plain number", "degC": "°C", "degF": "°F", FACTOR: "a factor", PHI: "fuel over air",
        AFR_PETROL: "petrol's AFR",
    }  # fmt: skip
    bare = unit.removesuffix(ABOVE)
    return words.get(bare, bare) + unit[len(bare) :]


def can_be_said(unit: str) -> bool:
    """Whether a person may say that a channel is in this unit; the empty text leaves it as the file has it."""
    bare = unit.removesuffix(ABOVE)
    return bare == "" or known_unit(bare) or bare.upper() == AFR or bare in (FACTOR, PHI, AFR_PETROL)


@dataclass(frozen=True)
class ChannelReading:
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
    words = _BETWEEN_WORDS.split(name.strip())
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


def read_as(channel: Channel, knowledge: Knowledge) -> ChannelReading | str:
    """How a channel is to be taken, or why not."""
    told = knowledge.assignments.get(channel_key(channel.name, channel.source_unit))
    if told is not None and told.quantity is None:
        return "left alone, as you said"
    match, unit = _meant(channel, told)
    if match is None:
        return "no quantity is known by this name"
    unit, gauge = _split_pressure(unit)
    if told is not None and told.unit and told.unit.endswith(ABOVE):
        unit, gauge = told.unit.removesuffix(ABOVE), True
    said = told is not None
    special = _special(match, unit, channel.name, said=said)
    return special if special is not None else _by_unit(match, unit, gauge, channel.name, said=said)


def _meant(channel: Channel, told: Assignment | None) -> tuple[Match | None, str]:
    """What a channel is, by what a person said of it or by its name, and in which unit."""
    name, unit = channel.name, channel.source_unit
    if told is not None and told.quantity is not None:
        return Match(told.quantity, 1.0, "remembered from what you said"), told.unit or unit
    match = match_name(name)
    if not unit:
        bare, inside = _named_unit(name)
        if inside:
            return match_name(bare) or match, inside
    return match, unit


def _special(match: Match, unit: str, name: str, *, said: bool) -> ChannelReading | None:
    """Mixtures as air-fuel ratio, trims as factors, loop states as words; None for all others."""
    mixture = match.quantity.startswith("lambda_")
    if mixture and unit in (AFR_PETROL, PHI):
        return ChannelReading(match, unit, None, stated=True, told=said)
    if mixture and (
        plain_unit(unit) in _AFR_UNITS or plain_unit(unit) == "afr" or (not unit and _AIR_FUEL.search(plain_name(name)))
    ):
        return ChannelReading(match, AFR, None, stated=bool(unit), by_name=True, told=said)
    if plain_unit(unit) == FACTOR and match.quantity.endswith(("_trim", "_trim_2")):
        return ChannelReading(match, FACTOR, None, stated=True, told=said)
    if match.quantity == "loop_state" and unit and not known_unit(unit) and states_in(unit):
        return ChannelReading(match, "1", None, stated=True, told=said)
    return None


def _by_unit(match: Match, unit: str, gauge: bool | None, name: str, *, said: bool) -> ChannelReading | str:
    """What name and unit together make of a channel."""
    wanted, title = QUANTITIES[match.quantity].unit, QUANTITIES[match.quantity].title
    if unit and not known_unit(unit):
        return f"named like {title}, but its unit “{unit}” is not known"
    if unit and not same_dimension(unit, wanted) and not _ratio_as_percent(unit, wanted) and not _turns(unit, wanted):
        for other in _BY_UNIT.get(match.quantity, ()):
            if same_dimension(unit, QUANTITIES[other].unit):
                why = f"{match.reason}, and {unit} makes it {QUANTITIES[other].title}"
                better = Match(other, min(match.confidence, 0.95), why)
                return ChannelReading(better, unit, gauge, stated=True, told=said)
        return f"named like {title}, but “{unit}” does not measure that"
    mixture = match.quantity.startswith("lambda_")
    by_name = mixture and _LAMBDA.search(plain_name(name)) is not None
    return ChannelReading(match, unit or wanted, gauge, stated=bool(unit), by_name=by_name, told=said)


def _turns(unit: str, wanted: str) -> bool:
    return plain_unit(unit) == "hz" and wanted == "rpm"


def _ratio_as_percent(unit: str, canonical: str) -> bool:
    return {plain_unit(unit), canonical} <= {"%", "1"}


def doubted(channel: Channel, reading: ChannelReading, ratio: float) -> ChannelReading:
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


def taken(channel: Channel, reading: ChannelReading, ratio: FloatArray | float) -> Channel:
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
        read_as=reading.unit + (ABOVE if reading.gauge and quantity.id == "manifold_pressure" else ""),
        second=reading.second,
    )


def _as_states(values: FloatArray, states: Mapping[float, float]) -> FloatArray:
    """Codes as the header explains them; a code it does not explain is a gap."""
    found = np.full(values.shape, np.nan)
    for code, state in states.items():
        found[values == code] = state
    return found
