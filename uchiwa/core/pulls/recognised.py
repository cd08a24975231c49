"""Pulls found in a log or a dyno file, each with its torque, its gear, its weather and what spoils it."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import NamedTuple

import numpy as np

from uchiwa.core.formulas.gears import gear_from
from uchiwa.core.logs.drives import DriveKind, recognise_drives
from uchiwa.core.logs.log import BoolArray, FloatArray, Log
from uchiwa.core.logs.signal import held, rate, spans
from uchiwa.core.logs.timebase import on_one_base
from uchiwa.core.pulls.pull import Flaw, Pull, Source
from uchiwa.core.pulls.road import USUAL_DENSITY, RoadLoad, air_density, road_power, turns_per_metre
from uchiwa.core.pulls.weather import Weather, sae_factor

LEAST_RPM = 1200.0
"""Speeds that a pull has to run through."""
_SPIN = 0.04
_JUMP = 0.10
_AROUND_S = 0.3
_OPEN = 85.0
_MODELLED = "the log's own torque is the controller's model: it does not count"
_AMBIENT_OVER_INTAKE = "the air's temperature was not recorded: that of the intake stands for it"


@dataclass(frozen=True, eq=False)
class _Stretch:
    """Samples from one index to another, with their signals."""

    log: str
    number: int
    time: FloatArray
    signals: Mapping[str, FloatArray]

    def get(self, quantity: str) -> FloatArray | None:
        values = self.signals.get(quantity)
        return values if values is not None and np.isfinite(values).any() else None

    @property
    def speed(self) -> FloatArray:
        return self.signals["engine_speed"]


_CONTROLLERS = frozenset(
    {
        "short_term_trim", "long_term_trim", "loop_state", "injector_pulse", "injector_duty", "pedal_position",
        "overrun_cut_active", "after_start_active", "lambda_target", "low_octane_flag", "coolant_temperature",
        "throttle_position", "battery_voltage", "gear", "idle_airflow_target",
    }
)  # fmt: skip
"""Quantities that a controller reports, and a dyno hardly ever records."""
_FEW_OF_ITS_OWN = 2
_SWEPT = 0.5
_LONG_S = 45.0


def from_dyno(log: Log) -> bool:
    """Whether a log is a dyno's: it tells torque or power at the wheels, and nothing says that a controller made it up.

    A torque channel in a road log is the controller's own model of its torque: it follows the spark table whatever the
    engine does, and is no evidence for spark. So a log is taken for a dyno's only if its own words say so, or if it has
    hardly any channel that only a controller has and is, beyond three quarters of a minute, mostly made of sweeps.
    """
    if not any(one in log.quantities for one in ("wheel_torque", "wheel_power")):
        return False
    if any("dyno" in text.lower() for pair in log.notes.items() for text in pair):
        return True
    if len(_CONTROLLERS & set(log.quantities)) > _FEW_OF_ITS_OWN:
        return False
    speed = log.quantities["engine_speed"].values if "engine_speed" in log.quantities else np.zeros(0)
    if speed.size < 5 or log.duration <= _LONG_S:
        return True
    swept = sum(last - first for first, last in _sweeps(speed))
    return bool(swept >= _SWEPT * speed.size)


def pulls_of(log: Log, load: RoadLoad | None = None) -> tuple[Pull, ...]:
    """Every pull of a log, in order.

    A dyno's file gives its own torque, or its power divided by the speed. A road log gives torque by `road_power`, if
    the car's mass and a road speed are known; without them the pull is there, its torque unknown, and the notes say
    what is wanting. Torque is as measured; `factor` is what the weather asks for.

    Args:
        log: recognised.
        load: what the car's motion takes; None if nobody has said.
    """
    time, signals = on_one_base(log)
    if time.size < 5:
        return ()
    if from_dyno(log):
        twice = _told_twice(log)
        return tuple(
            _weathered(_measured(twice, _cut(log, number, time, signals, slice(first, last))))
            for number, (first, last) in enumerate(_sweeps(signals["engine_speed"]), 1)
        )
    gears = signals.get("gear")
    road_speed = signals.get("vehicle_speed")
    if gears is None and road_speed is not None:
        gears = gear_from(signals["engine_speed"], road_speed)
    told = dict(signals) | ({"gear": gears} if gears is not None else {})
    modelled = any(one in signals for one in ("wheel_torque", "wheel_power"))
    found: list[Pull] = []
    for drive in recognise_drives(time, signals):
        if drive.kind is DriveKind.PULL:
            first, last = np.searchsorted(time, [drive.start, drive.end + 1e-9])
            stretch = _cut(log, len(found) + 1, time, told, slice(int(first), int(last)))
            ratio = _overall(time, told, int(first), int(last))
            pull = _weathered(_by_motion(stretch, load, ratio))
            found.append(replace(pull, notes=(*pull.notes, _MODELLED)) if modelled else pull)
    return tuple(found)


def _told_twice(log: Log) -> str:
    """That a file has torque or power in more than one column, and which was taken."""
    taken = log.quantities
    every = [channel for raster in log.rasters for channel in raster.channels]
    for quantity in ("wheel_torque", "wheel_power"):
        if quantity not in taken:
            continue
        word, kept = quantity.removeprefix("wheel_"), taken[quantity]
        others = [
            channel.source_unit or "no unit"
            for channel in every
            if channel is not kept and word in channel.name.lower()
        ]
        if others:
            mine = kept.source_unit or kept.unit
            return f"{word} stands in more than one column: that in {mine} was taken, not that in {', '.join(others)}"
    return ""


def _cut(log: Log, number: int, time: FloatArray, signals: Mapping[str, FloatArray], part: slice) -> _Stretch:
    return _Stretch(log.name, number, time[part], {one: values[part] for one, values in signals.items()})


def _sweeps(speed: FloatArray) -> list[tuple[int, int]]:
    """Index ranges through which engine speed rises by a pull's worth; a fall of 500 rpm begins another."""
    edges, top = [0], -math.inf
    for at, value in enumerate(speed.tolist()):
        if value == value:
            if value < top - 500.0:
                edges.append(at)
                top = value
            top = max(top, value)
    found = []
    for first, last in zip(edges, [*edges[1:], speed.size], strict=True):
        here = speed[first:last]
        if np.isfinite(here).sum() < 5:
            continue
        low, high = int(np.nanargmin(here)), int(np.nanargmax(here))
        if high > low and here[high] - here[low] >= LEAST_RPM:
            found.append((first + low, first + high + 1))
    return found


class _Remarks(NamedTuple):
    """What is said of a pull: flaws that leave samples out, and notes."""

    flaws: list[Flaw]
    notes: list[str]


def _pull(it: _Stretch, source: Source, torque: FloatArray, bad: BoolArray, remarks: _Remarks) -> Pull:
    gear = it.get("gear")
    return Pull(
        it.log, it.number, source, float(it.time[0]), float(it.time[-1]), it.time, it.speed, torque,
        ~bad & np.isfinite(it.speed), it.signals, float(np.nanmedian(gear)) if gear is not None else float("nan"),
        flaws=tuple(remarks.flaws), notes=tuple(remarks.notes),
    )  # fmt: skip


def _measured(twice: str, it: _Stretch) -> Pull:
    """A dyno's run."""
    torque, power = it.get("wheel_torque"), it.get("wheel_power")
    notes, flaws = [twice] if twice else [], []
    bad = np.zeros(it.time.shape, dtype=np.bool_)
    with np.errstate(divide="ignore", invalid="ignore"):
        by_power = power * 60e3 / (2 * math.pi * it.speed) if power is not None else None
    if torque is None:
        notes.append("torque is power divided by engine speed")
        torque = by_power if by_power is not None else np.full(it.time.shape, np.nan)
    elif by_power is not None:
        share = float(np.nanmedian(by_power / torque))
        if not 0.97 < share < 1.03:
            flaws.append(
                Flaw(
                    "disagree",
                    f"torque and power do not belong together: power over engine speed is {share:.2f} times the torque; "
                    "the units may be wrong, or torque is that of the rollers. Torque was taken from power",
                    float(np.nanmin(it.speed)), float(np.nanmax(it.speed)),
                )
            )  # fmt: skip
            torque = by_power
    bad |= _lifts(it, flaws)
    return _pull(it, Source.DYNO, torque, bad, _Remarks(flaws, notes))


def _overall(time: FloatArray, signals: Mapping[str, FloatArray], first: int, last: int) -> float:
    """Engine speed over road speed, rpm per km/h, in the gear of a pull; NaN if it cannot be told.

    Reported engine speed can lag behind the road, and in a pull that looks like a longer gear. So the ratio is that at
    no acceleration: ratio = K + c·(change of road speed), by least squares over all of the log in this gear.
    """
    road, speed = signals.get("vehicle_speed"), signals["engine_speed"]
    if road is None:
        return float("nan")
    with np.errstate(divide="ignore", invalid="ignore"):
        ratio = np.where(road > 5.0, speed / road, np.nan)
    here = ratio[first:last]
    here = here[np.isfinite(here)]
    if here.size < 5:
        return float("nan")
    usual = float(np.median(np.sort(here)[: max(5, int(0.8 * here.size))]))
    pace = rate(time, road, 0.6) / np.maximum(road, 5.0)
    use = np.isfinite(ratio) & np.isfinite(pace) & (np.abs(np.nan_to_num(ratio) / usual - 1.0) < _SPIN)
    if int(use.sum()) < 20 or float(np.ptp(pace[use])) < 0.02:
        return usual
    return float(np.polynomial.polynomial.polyfit(pace[use], ratio[use], 1)[0])


def _by_motion(it: _Stretch, load: RoadLoad | None, ratio: float) -> Pull:
    """A pull on the road; `ratio` is engine speed over road speed, rpm per km/h."""
    flaws, notes = remarks = _Remarks([], [])
    nothing = np.full(it.time.shape, np.nan)
    bad = _shifts(it, flaws) | _lifts(it, flaws)
    velocity, spun = _velocity(it, load, ratio, bad, remarks)
    bad |= spun
    if load is None:
        notes.append("the car's mass is not known: give it in the car file, and torque can be told")
    if load is None or velocity is None:
        return _pull(it, Source.UNKNOWN, nothing, bad, remarks)
    density = USUAL_DENSITY
    barometer, air = it.get("barometric_pressure"), it.get("intake_air_temperature")
    if barometer is not None and air is not None:
        density = air_density(float(np.nanmedian(barometer)), float(np.nanmin(air)))
    clean = np.where(bad, np.nan, velocity)
    turns = turns_per_metre(it.speed, clean)
    turning = load.turning_mass(turns) if math.isfinite(turns) else 0.0
    if load.engine_inertia is None:
        notes.append(
            f"turning parts count as {100 * turning / load.mass:.0f} % of the mass, as is usual in this gear: "
            "their inertia is not in the car file"
        )
    power = road_power(it.time, clean, load, density, turning=turning)
    with np.errstate(divide="ignore", invalid="ignore"):
        torque = power * 60e3 / (2 * math.pi * it.speed)
    return _pull(it, Source.ROAD, torque, bad, remarks)


def _velocity(
    it: _Stretch, load: RoadLoad | None, usual: float, bad: BoolArray, remarks: _Remarks
) -> tuple[FloatArray | None, BoolArray]:
    """Road speed in m/s by engine speed, which is recorded finer, and where the wheels spin."""
    flaws, notes = remarks
    road, spun = it.get("vehicle_speed"), np.zeros(it.time.shape, dtype=np.bool_)
    if road is not None:
        if not math.isfinite(usual):
            notes.append("road speed stands still: torque cannot be told from it")
            return None, spun
        with np.errstate(divide="ignore", invalid="ignore"):
            spun = ~bad & (np.where(road > 5.0, it.speed / road, usual) / usual > 1.0 + _SPIN)
        spun = _wide(it.time, spun) if spun.any() else spun
        for first, last in spans(it.time, spun, bridge=0.3):
            low, high = _range(it, first, last)
            words = f"wheel-spin from {low:.0f} to {high:.0f} rpm: the engine ran ahead of the road"
            flaws.append(Flaw("spin", words, low, high))
        return it.speed / usual / 3.6, spun
    if load is not None and load.tyre_radius and load.ratios:
        gear = it.get("gear")
        number = round(float(np.nanmedian(gear))) if gear is not None else 0
        if 1 <= number <= len(load.ratios):
            return it.speed * (2 * math.pi / 60.0) / load.ratios[number - 1] * load.tyre_radius, spun
        notes.append("the gear is not known, and road speed was not recorded: torque cannot be told")
        return None, spun
    notes.append("road speed was not recorded: torque cannot be told without it")
    return None, spun


def _range(it: _Stretch, first: float, last: float) -> tuple[float, float]:
    here = it.speed[(it.time >= first - 1e-9) & (it.time <= last + 1e-9)]
    return float(np.nanmin(here)), float(np.nanmax(here))


def _wide(time: FloatArray, mask: BoolArray) -> BoolArray:
    """A mask with what lies within 0.3 s of it."""
    wide: BoolArray = held(time, mask, _AROUND_S) | held(-time[::-1], mask[::-1], _AROUND_S)[::-1]
    return wide


def _shifts(it: _Stretch, flaws: list[Flaw]) -> BoolArray:
    """Where a shift lies inside; only the longest part on one side of it counts."""
    gear = it.get("gear")
    bad = np.zeros(it.time.shape, dtype=np.bool_)
    moved = np.zeros(it.time.shape, dtype=np.bool_)
    if gear is not None:
        known = np.where(np.isfinite(gear), gear, -1.0)
        moved[1:] = (np.diff(known) != 0) & (known[1:] > 0) & (known[:-1] > 0)
    else:
        steps = np.diff(it.speed, prepend=it.speed[:1])
        moved = np.nan_to_num(steps) < -_JUMP * it.speed
    if not moved.any():
        return bad
    bad = _wide(it.time, moved)
    parts = spans(it.time, ~bad)
    if parts:
        longest = max(parts, key=lambda part: float(np.ptp(it.speed[(it.time >= part[0]) & (it.time <= part[1])])))
        bad = (it.time < longest[0]) | (it.time > longest[1])
        low, high = _range(it, *longest)
        flaws.append(
            Flaw("shift", f"a shift lies inside: only the part from {low:.0f} to {high:.0f} rpm counts", low, high)
        )
    return bad


def _lifts(it: _Stretch, flaws: list[Flaw]) -> BoolArray:
    """Where the throttle was not held open."""
    throttle = it.get("throttle_position")
    if throttle is None:
        return np.zeros(it.time.shape, dtype=np.bool_)
    lifted = np.nan_to_num(throttle, nan=100.0) < _OPEN
    if lifted.all():
        return np.zeros(it.time.shape, dtype=np.bool_)
    for first, last in spans(it.time, lifted, shortest=0.05):
        low, high = _range(it, first, last)
        flaws.append(Flaw("lift", f"the throttle was not held open from {low:.0f} to {high:.0f} rpm", low, high))
    wide: BoolArray = _wide(it.time, lifted) if lifted.any() else lifted
    return wide


def _weathered(pull: Pull) -> Pull:
    """The pull with the factor of its weather."""
    barometer, air = pull.signals.get("barometric_pressure"), pull.signals.get("intake_air_temperature")
    if barometer is None or air is None or not np.isfinite(barometer).any() or not np.isfinite(air).any():
        return replace(pull, notes=(*pull.notes, "not corrected for weather: barometer or air temperature is wanting"))
    outside = float(np.nanquantile(air, 0.05))
    factor = sae_factor(Weather(float(np.nanmedian(barometer)), outside))
    return replace(pull, factor=factor, notes=(*pull.notes, _AMBIENT_OVER_INTAKE))
