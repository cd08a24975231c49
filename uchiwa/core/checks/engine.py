"""Checks of the engine's state: temperature, airflow meter, injectors, knock, trims, electrics, fuel pressure."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from uchiwa.core.checks.examined import Examined
from uchiwa.core.checks.finding import Finding, Severity
from uchiwa.core.counted import counted
from uchiwa.core.knock.retard import LEARNED, degrees_out
from uchiwa.core.logs.drives import DriveKind
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.logs.signal import durations, smooth
from uchiwa.core.quantities.catalogue import QUANTITIES

_HOT_AIR = 58.0


def cold_engine(it: Examined) -> Iterator[Finding]:
    """The coolant is below operating temperature for much of a log that is not a cold start."""
    coolant = it.get("coolant_temperature")
    if coolant is None or (any(drive.kind is DriveKind.COLD_START for drive in it.drives) and it.time[-1] < 400):
        return
    span = durations(it.time)
    total = float(span[it.running].sum())
    cold = it.running & (coolant < it.limits.warm_coolant)
    seconds = float(span[cold].sum())
    if total <= 0 or 100.0 * seconds / total <= it.limits.cold_share:
        return
    warm = total - seconds
    told = "all the time" if warm < 5 else f"for all but {warm:.0f} s"
    yield Finding(
        "cold_engine",
        Severity.CRITICAL if warm < 0.5 * total else Severity.WARNING,
        f"The engine was still cold {told}. Please drive until it is warm (about 10 minutes), then record again.",
        f"Coolant {np.nanmin(coolant):.0f} to {np.nanmax(coolant):.0f} °C, below {it.limits.warm_coolant:g} °C for {seconds:.0f} of {total:.0f} s.",
        it.stretches(cold, 1.0, 2.0),
    )


def heat_soaked(it: Examined) -> Iterator[Finding]:
    """Intake air well above the air outside."""
    air = it.get("intake_air_temperature")
    if air is None:
        return
    known = QUANTITIES["intake_air_temperature"]
    air = np.where((air >= known.low) & (air <= known.high), air, np.nan)
    throttle = it.get("throttle_position")
    calm = np.ones(it.time.shape, dtype=np.bool_) if throttle is None else throttle < 40.0
    outside = float(np.nanquantile(air, 0.03))
    soaked = it.running & calm & ((air > outside + it.limits.soaked_above) | (air > _HOT_AIR))
    stretches = it.stretches(soaked, it.limits.soaked_seconds, 5.0)
    if stretches:
        yield Finding(
            "heat_soaked",
            Severity.WARNING,
            "The intake was heat-soaked, as after standing with a hot engine. Please drive for two minutes before you record.",
            f"Intake air up to {np.nanmax(air[soaked]):.0f} °C, {sum(b - a for a, b in stretches):.0f} s more than {it.limits.soaked_above:g} °C above {outside:.0f} °C.",
            stretches,
        )


def exhaust_hot(it: Examined) -> Iterator[Finding]:
    """Exhaust gas hotter than turbine, valves and catalyst stand."""
    exhaust = it.get("exhaust_temperature")
    if exhaust is None:
        return
    hot = it.running & (exhaust >= it.limits.exhaust_hot)
    stretches = it.stretches(hot, it.limits.exhaust_seconds, 0.5)
    if stretches:
        yield Finding(
            "exhaust_hot",
            Severity.CRITICAL,
            "The exhaust gets too hot at full throttle. Please use no full throttle until you have a new calibration.",
            f"Exhaust gas up to {float(np.nanmax(exhaust[hot])):.0f} °C, {sum(b - a for a, b in stretches):.0f} s from {it.limits.exhaust_hot:g} °C: too little spark or too lean.",
            stretches,
        )


def airflow_ceiling(it: Examined) -> Iterator[Finding]:
    """The airflow meter is at its end."""
    volts = it.get("airflow_voltage")
    if volts is not None:
        stretches = it.stretches(volts >= it.limits.meter_volts, 0.2)
        if stretches:
            yield _ceiling(f"{np.nanmax(volts):.2f} V, ceiling from {it.limits.meter_volts:g} V", stretches)
            return
    for quantity in ("airflow_frequency", "airflow"):
        values = it.get(quantity)
        if values is None:
            continue
        top = float(np.nanmax(values))
        flat = it.stretches(it.running & (values >= top * (1 - 1e-9)), it.limits.flat_top, 0.0)
        if flat:
            yield _ceiling(f"{quantity} is flat at {top:.5g}", flat)
            return


def _ceiling(said: str, stretches: tuple[tuple[float, float], ...]) -> Finding:
    return Finding(
        "airflow_ceiling",
        Severity.WARNING,
        "The airflow meter was at the end of its range at full throttle. That is for your tuner; you need not record again.",
        f"Airflow meter at its ceiling: {said}.",
        stretches,
    )


def injector_duty(it: Examined) -> Iterator[Finding]:
    """Injectors near the end of what they can deliver."""
    duty = it.get("injector_duty")
    pulse = it.get("injector_pulse")
    if duty is None and pulse is not None:
        duty = pulse * it.signals["engine_speed"] / 1200.0
    if duty is None:
        return
    high = it.stretches(it.running & (duty >= it.limits.duty_warn), 0.2)
    if not high:
        return
    most = float(np.nanmax(duty[it.running]))
    critical = bool(it.stretches(it.running & (duty >= it.limits.duty_critical), 0.2))
    yield Finding(
        "injector_duty",
        Severity.CRITICAL if critical else Severity.WARNING,
        "The injectors are at the end of what they can deliver. Please stay away from full throttle until your tuner has answered."
        if critical
        else "The injectors come near the end of what they can deliver at full throttle. Your tuner will look at it.",
        f"Injector duty up to {most:.0f} %.",
        high,
    )


def knock(it: Examined) -> Iterator[Finding]:
    """Repeated or strong knock, by retard of either sign, or by a count that grows; a single small event may be noise."""
    taken, count = it.get("knock_retard"), it.get("knock_count")
    retard = np.zeros(it.time.shape) if taken is None else np.nan_to_num(degrees_out(taken))
    active = it.running & (retard >= it.limits.knock_degrees)
    by_count = not active.any() and count is not None
    if by_count and count is not None:
        active = it.running & (np.diff(count, prepend=count[:1]) > 0)
    events = it.stretches(active, 0.0, 0.4)
    if not events:
        return
    worst = float(np.max(retard[active]))
    how = "by the controller's count, without retard" if by_count else f"worst {worst:.1f}°"
    if len(events) >= it.limits.knock_events or worst >= it.limits.knock_severe:
        yield Finding(
            "knock_repeated",
            Severity.CRITICAL if worst >= it.limits.knock_severe else Severity.WARNING,
            "The engine knocked several times. Please use no full throttle until you have a new calibration, and check that the right fuel is in the tank.",
            f"{counted(len(events), 'knock event')}, {how}.",
            events,
        )
    else:
        yield Finding(
            "knock_single",
            Severity.NOTE,
            "The knock sensor spoke up once or twice, which may be noise. You need not do anything.",
            f"{counted(len(events), 'isolated knock event')}, {how}: may be phantom.",
            events,
        )


def learned_retard(it: Examined) -> Iterator[Finding]:
    """The controller has learned to hold spark back: it has knocked there before, and still does what it learned."""
    learned = it.get(LEARNED)
    if learned is None:
        return
    stretches = it.stretches(it.running & (np.nan_to_num(learned) >= it.limits.knock_degrees), 0.0, 1.0)
    if stretches:
        yield Finding(
            "learned_retard",
            Severity.WARNING,
            "The engine has knocked before, and its controller remembers it. Please clear what it has learned when you flash the next calibration.",
            f"Learned knock retard up to {float(np.nanmax(learned)):.1f}°: what was fired is not the table's spark.",
            stretches,
        )


def low_octane(it: Examined) -> Iterator[Finding]:
    """The controller has given up on knock and runs its mild spark map."""
    flag = it.get("low_octane_flag")
    if flag is not None and (flag > 0.5).any():
        yield Finding(
            "low_octane",
            Severity.CRITICAL,
            "The engine has gone to its safe ignition for poor fuel. Please check the fuel, and send no full-throttle logs until your tuner has answered.",
            f"Low-octane fallback set for {float(durations(it.time)[flag > 0.5].sum()):.0f} s.",
            it.stretches(flag > 0.5),
        )


def _trim(it: Examined, bank: str) -> FloatArray | None:
    short, long = it.get(f"short_term_trim{bank}"), it.get(f"long_term_trim{bank}")
    if short is None and long is None:
        return None
    return (short if short is not None else 0.0) + (long if long is not None else np.zeros(it.time.shape))


def trim_beyond(it: Examined) -> Iterator[Finding]:
    """Fuel trims far from nought."""
    for bank, words in (("", ""), ("_2", " of bank 2")):
        total = _trim(it, bank)
        if total is None:
            continue
        even = smooth(it.time, total, 2.0)
        stretches = it.stretches(it.closed_loop & it.running & (np.abs(even) > it.limits.trim_limit), 2.0, 1.0)
        if stretches:
            worst = float(even[np.nanargmax(np.abs(np.where(it.closed_loop, even, 0.0)))])
            yield Finding(
                "trim_beyond",
                Severity.WARNING,
                "The controller has to correct the fuel a good deal. That is what your tuner is working on; you need not record again.",
                f"Fuel trims{words} reach {worst:+.1f} %, beyond ±{it.limits.trim_limit:g} %.",
                stretches,
            )
            return


def banks_differ(it: Examined) -> Iterator[Finding]:
    """Two banks that want different fuel."""
    one, two = _trim(it, ""), _trim(it, "_2")
    if one is None or two is None or (it.get("short_term_trim_2") is None and it.get("long_term_trim_2") is None):
        return
    use = it.closed_loop & it.running & np.isfinite(one) & np.isfinite(two)
    if int(use.sum()) < 20:
        return
    apart = float(np.median((two - one)[use]))
    if abs(apart) > it.limits.bank_limit:
        yield Finding(
            "banks_differ",
            Severity.WARNING,
            "The two sides of the engine want different fuel. Please look for an air or exhaust leak on one side.",
            f"Bank 2 trims lie {apart:+.1f} % from bank 1.",
            it.stretches(use & (np.abs(two - one) > it.limits.bank_limit), 2.0, 2.0),
        )


def battery_jitter(it: Examined) -> Iterator[Finding]:
    """Battery voltage that jumps about: ground or charging."""
    volts = it.get("battery_voltage")
    if volts is None:
        return
    settled = it.running & (it.time > it.time[0] + 5.0)
    jumps = np.abs(volts - smooth(it.time, volts, 1.0))
    jitter = smooth(it.time, jumps, 2.0)
    stretches = it.stretches(settled & (jitter > it.limits.battery_jitter), 1.0, 2.0)
    if stretches:
        yield Finding(
            "battery_jitter",
            Severity.WARNING,
            "The battery voltage jumps about. Please check the ground straps and the alternator before the next drive.",
            f"Battery voltage jitters by {float(np.nanmax(jitter[settled])):.2f} V on average.",
            stretches,
        )


def fuel_pressure(it: Examined) -> Iterator[Finding]:
    """Fuel pressure that falls under load."""
    pressure = it.get("fuel_pressure")
    if pressure is None or not (it.load & it.running).any():
        return
    calm = it.running & ~it.load
    if not calm.any():
        return
    usual = float(np.nanmedian(pressure[calm]))
    fallen = it.load & it.running & (pressure < usual * (1.0 - it.limits.fuel_pressure_drop / 100.0))
    stretches = it.stretches(fallen, 0.3)
    if stretches:
        yield Finding(
            "fuel_pressure",
            Severity.CRITICAL,
            "The fuel pressure falls at full throttle. Please use no full throttle, and have pump and filter looked at.",
            f"Fuel pressure {float(np.nanmin(pressure[fallen])):.0f} kPa under load against {usual:.0f} kPa.",
            stretches,
        )


def trims_not_reset(it: Examined) -> Iterator[Finding]:
    """Learned trims that stand at a value from the first second."""
    long = it.get("long_term_trim")
    if long is None:
        return
    first = long[it.time <= it.time[0] + 2.0]
    first = first[np.isfinite(first)]
    if first.size < 3 or abs(float(np.median(first))) < it.limits.trim_left or float(np.std(first)) > 0.3:
        return
    yield Finding(
        "trims_not_reset",
        Severity.WARNING,
        "The controller still uses what it learned before. After flashing, please reset the learned fuel trims (or disconnect the battery for ten minutes), then record again.",
        f"Long-term trim {float(np.median(first)):+.1f} % from the first second: it belongs to an older calibration.",
        ((float(it.time[0]), float(it.time[0]) + 2.0),),
    )


CHECKS = (
    cold_engine, heat_soaked, exhaust_hot, airflow_ceiling, injector_duty, knock, learned_retard, low_octane,
    trim_beyond, banks_differ, battery_jitter, fuel_pressure, trims_not_reset,
)  # fmt: skip
