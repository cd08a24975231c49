"""Defects that spoil a stand-in car's log, each as it happens to customers; all else stays as it was."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from uchiwa.core.logs.log import Channel, FloatArray, Log, Raster
from uchiwa.core.quantities.catalogue import QUANTITIES

Change = Callable[[FloatArray, FloatArray, dict[str, FloatArray]], FloatArray]


@dataclass(frozen=True)
class Defect:
    """A defect.

    Attributes:
        rule: the check that must find it.
        words: what has happened.
        drive: during which stand-in drive.
        spoil: the log with the defect.
        car: the stand-in car it happens to.
        text: a change to the file in place of one to the log, if the defect is one of writing.
    """

    rule: str
    words: str
    drive: str
    spoil: Callable[[Log], Log] = lambda log: log
    car: str = "corvid-pike"
    text: Callable[[bytes], bytes] | None = None


def changed(log: Log, **changes: Change) -> Log:
    """The log with some quantities changed; each function is given time, the values and all signals."""
    raster = log.rasters[0]
    signals = {channel.quantity: channel.values for channel in raster.channels if channel.quantity}
    channels = tuple(
        replace(channel, values=changes[channel.quantity](raster.time, channel.values, signals))
        if channel.quantity in changes
        else channel
        for channel in raster.channels
    )
    return replace(log, rasters=(Raster(raster.time, channels),))


def without(log: Log, *quantities: str) -> Log:
    """The log without some channels."""
    raster = log.rasters[0]
    kept = tuple(channel for channel in raster.channels if channel.quantity not in quantities)
    return replace(log, rasters=(Raster(raster.time, kept),))


def added(log: Log, quantity: str, values: FloatArray) -> Log:
    """The log with one channel more."""
    raster = log.rasters[0]
    known = QUANTITIES[quantity]
    channel = Channel(known.title.capitalize(), known.unit, values, quantity)
    return replace(log, rasters=(Raster(raster.time, (*raster.channels, channel)),))


def rows(log: Log, kept: np.ndarray) -> Log:
    """The log with only some rows, or with rows more than once."""
    raster = log.rasters[0]
    channels = tuple(replace(channel, values=channel.values[kept]) for channel in raster.channels)
    return replace(log, rasters=(Raster(raster.time[kept], channels),))


def _counted(log: Log) -> FloatArray:
    """A count that grows five times at wide-open throttle."""
    time, throttle = log.rasters[0].time, log.quantities["throttle_position"].values
    bumps = _bumps(time, throttle, 1.0, 5) > 0
    return np.cumsum(np.diff(bumps.astype(np.float64), prepend=0.0) > 0).astype(np.float64)


def _hot_exhaust(log: Log) -> FloatArray:
    """Exhaust gas that follows the throttle slowly, to nearly 1,000 °C."""
    throttle = log.quantities["throttle_position"].values
    slow = np.convolve(throttle, np.ones(30) / 30, mode="same")
    return np.asarray(500.0 + 4.9 * slow)


def _bumps(time: FloatArray, throttle: FloatArray, size: float, count: int) -> FloatArray:
    """A few half-second bumps where the throttle is widest."""
    result = np.zeros(time.shape)
    wide = np.flatnonzero(throttle > 60)
    for number in range(count):
        at = wide[int((number + 0.5) / count * wide.size)]
        result[(time >= time[at]) & (time < time[at] + 0.5)] = size
    return result


def _hot_air(time: FloatArray, air: FloatArray, _: dict[str, FloatArray]) -> FloatArray:
    return air + 38.0 * np.exp(-time / 90.0)


def _lean_spikes(time: FloatArray, mixture: FloatArray, signals: dict[str, FloatArray]) -> FloatArray:
    opening = np.flatnonzero(np.gradient(signals["throttle_position"], time) > 70.0)
    spiked = mixture.copy()
    first = time[opening[0]]
    spiked[(time > first + 0.25) & (time < first + 0.85)] = 1.29
    return spiked


def _gap(log: Log) -> Log:
    time = log.rasters[0].time
    return rows(log, ((time < 40) | (time > 47)) & ((time < 90) | (time > 95)))


def _stutter(log: Log) -> Log:
    index = np.arange(log.rasters[0].time.size)
    return rows(log, np.concatenate([index[:500], index[490:500], index[500:900], index[899:900], index[900:]]))


def _volts(log: Log) -> Log:
    mixture = next(channel for channel in log.rasters[0].channels if channel.quantity == "lambda_measured")
    return added(without(log, "lambda_measured"), "mixture_voltage", (mixture.values - 0.5) * 5.0)


def _tired_pump(time: FloatArray, pressure: FloatArray, signals: dict[str, FloatArray]) -> FloatArray:
    return np.where(signals["throttle_position"] > 75.0, 185.0 + 0.001 * time, pressure)


DEFECTS: tuple[Defect, ...] = (
    Defect("stalled", "the engine died at idle and was started again", "warm_idle", lambda log: changed(log, engine_speed=lambda t, v, s: np.where((t > 40) & (t < 43), 0.0, np.where((t >= 43) & (t < 44), 210.0, v)))),
    Defect("too_short", "stopped after eight seconds", "warm_idle", lambda log: rows(log, log.rasters[0].time < 8.0)),
    Defect("missing_channel", "intake air temperature was not recorded", "warm_idle", lambda log: without(log, "intake_air_temperature")),
    Defect("constant_channel", "the throttle channel is stuck", "steady_cruise", lambda log: changed(log, throttle_position=lambda t, v, s: np.full(v.shape, 14.2))),
    Defect("saturated_channel", "a 1.4 bar pressure sensor on a turbo", "full_load_pull", lambda log: changed(log, manifold_pressure=lambda t, v, s: np.minimum(v, 138.4))),
    Defect("out_of_range", "the intake air sensor's plug is loose", "warm_idle", lambda log: changed(log, intake_air_temperature=lambda t, v, s: np.where((t > 20) & (t < 23), -60.0, v))),
    Defect("unit_doubt", "pressure in psi, labelled kPa", "warm_idle", text=lambda data: data, spoil=lambda log: changed(log, manifold_pressure=lambda t, v, s: v / 6.894757)),
    Defect("time_order", "the logger's clock stutters", "warm_idle", _stutter),
    Defect("gaps", "the logger lost its connection twice", "steady_cruise", _gap),
    Defect("low_rate", "two rows a second", "warm_idle", lambda log: rows(log, np.arange(log.rasters[0].time.size) % 12 == 0)),
    Defect("low_rate", "five rows a second in a pull", "full_load_pull", lambda log: rows(log, np.arange(log.rasters[0].time.size) % 5 == 0)),
    Defect("broken_off", "the cable was pulled while recording", "warm_idle", text=lambda data: data[: data.rstrip().rfind(b"\n") + 25]),
    Defect("wrong_mixture", "another channel under the mixture's name", "warm_idle", lambda log: changed(log, lambda_measured=lambda t, v, s: v * 0.86)),
    Defect("mixture_in_volts", "mixture in volts, sensor unknown", "warm_idle", _volts),
    Defect("cold_wideband", "the sensor was switched on late", "warm_idle", lambda log: changed(log, lambda_measured=lambda t, v, s: np.where(t < 48, 1.36, v))),
    Defect("wideband_rail", "the sensor hangs in free air for a while", "steady_cruise", lambda log: changed(log, lambda_measured=lambda t, v, s: np.where((t > 300) & (t < 340), 1.36, v))),
    Defect("cold_engine", "recorded before the engine was warm", "steady_cruise", lambda log: changed(log, coolant_temperature=lambda t, v, s: np.minimum(v, 22 + t * 0.06))),
    Defect("heat_soaked", "stood with a hot engine before", "warm_idle", lambda log: changed(log, intake_air_temperature=_hot_air)),
    Defect("airflow_ceiling", "the meter cannot measure more", "full_load_pull", lambda log: changed(log, airflow_frequency=lambda t, v, s: np.minimum(v, 7600.0)), car="larkspur-tern"),
    Defect("injector_duty", "injectors too small", "full_load_pull", lambda log: changed(log, injector_duty=lambda t, v, s: v * 1.8, injector_pulse=lambda t, v, s: v * 1.8)),
    Defect("knock_repeated", "repeated knock", "full_load_pull", lambda log: changed(log, knock_retard=lambda t, v, s: _bumps(t, s["throttle_position"], 2.5, 5))),
    Defect("knock_repeated", "repeated knock, retard logged as negative degrees", "full_load_pull", lambda log: changed(log, knock_retard=lambda t, v, s: -_bumps(t, s["throttle_position"], 2.5, 5))),
    Defect("knock_repeated", "a knock count that grows while nothing is taken out", "full_load_pull", lambda log: added(log, "knock_count", _counted(log))),
    Defect("exhaust_hot", "exhaust gas too hot at full load", "full_load_pull", lambda log: added(log, "exhaust_temperature", _hot_exhaust(log))),
    Defect("knock_single", "one small event, perhaps noise", "full_load_pull", lambda log: changed(log, knock_retard=lambda t, v, s: _bumps(t, s["throttle_position"], 1.5, 1))),
    Defect("learned_retard", "spark held back since an earlier knock", "full_load_pull", lambda log: added(log, "learned_knock_retard", np.where(log.quantities["throttle_position"].values > 80.0, 2.5, 0.0))),
    Defect("low_octane", "the controller has given up on knock", "warm_idle", lambda log: added(log, "low_octane_flag", (log.rasters[0].time > 30).astype(float))),
    Defect("lean_at_load", "lean at full load", "full_load_pull", lambda log: changed(log, lambda_measured=lambda t, v, s: np.where((s["throttle_position"] > 90) & (t > 25), s["lambda_target"] * 1.12, v))),
    Defect("lean_tip_in", "a lean spike when the throttle opens", "full_load_pull", lambda log: changed(log, lambda_measured=_lean_spikes)),
    Defect("trim_beyond", "trims beyond ten per cent", "steady_cruise", lambda log: changed(log, short_term_trim=lambda t, v, s: np.where(s["loop_state"] > 0.5, v + 13.0, v))),
    Defect("banks_differ", "a leak on one bank", "warm_idle", lambda log: changed(log, short_term_trim_2=lambda t, v, s: v + 7.0 * s["loop_state"]), car="larkspur-tern"),
    Defect("battery_jitter", "a bad ground", "warm_idle", lambda log: changed(log, battery_voltage=lambda t, v, s: v + 1.1 * np.sign(np.sin(t * 17.0)))),
    Defect("fuel_pressure", "a tired pump", "full_load_pull", lambda log: changed(log, fuel_pressure=_tired_pump)),
    Defect("trims_not_reset", "learned trims were not reset", "warm_idle", lambda log: changed(log, long_term_trim=lambda t, v, s: v + 4.0)),
    Defect("other_revision", "an older revision, by its mark", "warm_idle", lambda log: replace(log, notes={**log.notes, "revision": "corvid-pike, revision 1"})),
    Defect("other_revision", "an older revision, by its spark", "steady_cruise", lambda log: replace(changed(log, spark_advance=lambda t, v, s: v + 3.0), notes={})),
    Defect("coverage", "one speed all the way", "steady_cruise", lambda log: rows(log, np.arange(log.rasters[0].time.size) < 7000)),
)  # fmt: skip
