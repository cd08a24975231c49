"""From a logger's channel names, units and ranges to quantities, each with its reason and how sure it is."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from uchiwa.core.cars.fuels import stoichiometric_ratio
from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import Channel, FloatArray, Log, Raster
from uchiwa.core.logs.recognition.channel_reading import ChannelReading, doubted, read_as, taken
from uchiwa.core.logs.recognition.knowledge import NOTHING_KNOWN, STANDARD_BAROMETER, Knowledge
from uchiwa.core.logs.recognition.plausible import AFR
from uchiwa.core.logs.recognition.together import STANDING_RPM, judged_together
from uchiwa.core.logs.recognition.ways import JUDGED
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.words.sentence import N_, Sentence

_DERIVED = {"mixture_voltage": "lambda_measured", "pressure_voltage": "manifold_pressure"}


def recognise_channel(channel: Channel, knowledge: Knowledge = NOTHING_KNOWN) -> Channel:
    """One channel by itself: gauge pressures and logged ethanol, which need others, are not taken into account."""
    reading = read_as(channel, knowledge)
    if isinstance(reading, str):
        return replace(channel, reason=reading)
    ratio = knowledge.gauge_ratio or knowledge.fuel.stoichiometric
    return taken(channel, doubted(channel, reading, ratio), ratio)


def recognise(log: Log, knowledge: Knowledge = NOTHING_KNOWN) -> Log:
    """The log with quantities found. Where channels compete for a quantity the surest keeps it, then the first.

    Raises:
        BadInput: no channel is an engine speed: without it nothing can be placed on a table.
    """
    fixed = knowledge.gauge_ratio or knowledge.fuel.stoichiometric
    flat = [(number, channel) for number, raster in enumerate(log.rasters) for channel in raster.channels]
    readings: list[ChannelReading | str] = []
    for _, channel in flat:
        reading = read_as(channel, knowledge)
        alone = isinstance(reading, str) or reading.match.quantity in JUDGED
        readings.append(reading if isinstance(reading, str) or alone else doubted(channel, reading, fixed))
    winners = _winners(readings)
    readings = judged_together(log, flat, readings, winners, knowledge)
    known: list[Channel] = []
    for at, ((_, channel), reading) in enumerate(zip(flat, readings, strict=True)):
        if isinstance(reading, str):
            known.append(replace(channel, reason=reading))
        elif winners[reading.match.quantity] != at:
            first = flat[winners[reading.match.quantity]][1].name
            known.append(replace(channel, reason=f"“{first}” is already taken as {reading.match.quantity}"))
        else:
            known.append(taken(channel, reading, fixed))
    rasters = [(number, raster.time) for number, raster in enumerate(log.rasters)]
    placed = list(zip((number for number, _ in flat), known, strict=True))
    placed = _with_ethanol(placed, log, readings, winners, knowledge)
    placed = _with_engine_off(placed, rasters, readings, winners)
    placed = _absolute(placed, readings, winners, rasters, knowledge)
    placed = _by_line(placed, knowledge)
    if "engine_speed" not in winners:
        names = [channel.name[:60] for _, channel in flat][:6]
        raise BadInput(
            Sentence("no engine speed among its channels ({names} …)", names=", ".join(names)),
            where=log.name,
            advice=N_("add engine speed to the logger's channels and record again"),
        )
    return replace(
        log,
        rasters=tuple(
            Raster(raster.time, tuple(channel for at, channel in placed if at == number))
            for number, raster in enumerate(log.rasters)
        ),
    )


def _winners(readings: list[ChannelReading | str]) -> dict[str, int]:
    winners: dict[str, int] = {}
    for at, reading in enumerate(readings):
        if isinstance(reading, str):
            continue
        quantity = reading.match.quantity
        best = winners.get(quantity)
        held = readings[best] if best is not None else None
        if not isinstance(held, ChannelReading) or reading.match.confidence > held.match.confidence + 1e-9:
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
    log: Log,
    readings: list[ChannelReading | str],
    winners: dict[str, int],
    knowledge: Knowledge,
) -> _Placed:
    """AFR channels of a flex-fuel car by the ratio of the ethanol content logged with them."""
    if not knowledge.fuel.flexible or knowledge.gauge_ratio is not None or "ethanol_content" not in winners:
        return placed
    result = list(placed)
    recorded = [channel for raster in log.rasters for channel in raster.channels]
    rasters = [(number, raster.time) for number, raster in enumerate(log.rasters)]
    for at, reading in enumerate(readings):
        if isinstance(reading, str) or reading.unit != AFR or winners[reading.match.quantity] != at:
            continue
        raster = placed[at][0]
        ethanol = _signal(placed, rasters, "ethanol_content", raster)
        if ethanol is not None:
            result[at] = (raster, taken(recorded[at], reading, stoichiometric_ratio(ethanol)))
    return result


_STANDING_S = 1.0


def _with_engine_off(
    placed: _Placed,
    rasters: list[tuple[int, FloatArray]],
    readings: list[ChannelReading | str],
    winners: dict[str, int],
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
    off = (speed < STANDING_RPM) & np.isfinite(channel.values)
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
    readings: list[ChannelReading | str],
    winners: dict[str, int],
    rasters: list[tuple[int, FloatArray]],
    knowledge: Knowledge,
) -> _Placed:
    """Gauge readings of an absolute pressure raised by the barometer, absolute readings of boost lowered by it."""
    result = list(placed)
    for quantity, wrong, sign in (("manifold_pressure", True, 1.0), ("boost_pressure", False, -1.0)):
        at = winners.get(quantity)
        reading = readings[at] if at is not None else None
        if at is None or not isinstance(reading, ChannelReading) or reading.gauge is not wrong:
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
