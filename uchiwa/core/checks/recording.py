"""Checks of the recording itself: channels, range, time, rate."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from uchiwa.core.briefs.brief import MUST, SHOULD
from uchiwa.core.checks.examined import ExaminedLog
from uchiwa.core.checks.finding import Finding, Severity
from uchiwa.core.logs.drives import DriveKind
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.words.sentence import N_, Sentence

_MUST_MOVE = (
    "engine_speed", "manifold_pressure", "throttle_position", "lambda_measured", "lambda_measured_2", "airflow",
    "airflow_frequency", "airflow_voltage", "cylinder_air", "mixture_voltage", "injector_pulse", "injector_duty",
)  # fmt: skip
_STAND_IN = {
    "lambda_measured": ("mixture_voltage",),
    "airflow_frequency": ("airflow_voltage",),
    "injector_duty": ("injector_pulse",),
    "knock_retard": ("knock_retard_cylinder_1",),
}
_FLAT_TOPPED = ("manifold_pressure", "boost_pressure")


def too_short(it: ExaminedLog) -> Iterator[Finding]:
    """The log is over before anything can be learned."""
    seconds = float(it.time[-1] - it.time[0])
    if seconds < it.limits.short_log:
        yield Finding(
            "too_short",
            Severity.CRITICAL,
            Sentence(
                "This log lasts only {seconds:.0f} seconds. Please record the whole drive and send it again.",
                seconds=seconds,
            ),
            f"{seconds:.1f} s from first to last sample.",
        )


def missing_channel(it: ExaminedLog) -> Iterator[Finding]:
    """A channel the brief asks for is not there."""
    if it.brief is None:
        return
    missing = [
        ask
        for ask in it.brief.asked
        if it.get(ask.quantity) is None
        and not any(it.get(other) is not None for other in _STAND_IN.get(ask.quantity, ()))
    ]
    must = [ask for ask in missing if ask.priority == MUST]
    should = [ask for ask in missing if ask.priority == SHOULD]
    rest = [ask for ask in missing if ask.priority > SHOULD]
    for asks, severity in ((must, Severity.CRITICAL), (should, Severity.WARNING), (rest, Severity.NOTE)):
        if not asks:
            continue
        if severity is not Severity.CRITICAL:
            words = N_("The log does not record {names}. Please add it for the next log; this one can still be used.")
        elif len(asks) == 1:
            words = N_("The log does not record {names}. Please add it to the logger’s channels and record again.")
        else:
            words = N_("The log does not record {names}. Please add them to the logger’s channels and record again.")
        plain = Sentence(words, names=[ask.title for ask in asks])
        why = "; ".join(f"{ask.quantity}: without it {ask.loss}" for ask in asks)
        yield Finding("missing_channel", severity, plain, f"Missing: {why}.")


def constant_channel(it: ExaminedLog) -> Iterator[Finding]:
    """A channel that must move stays on one number while the engine does not."""
    speed = it.signals["engine_speed"]
    moving = it.running & np.isfinite(speed)
    driven = moving.any() and float(np.ptp(speed[moving])) > 1500.0
    for quantity in _MUST_MOVE:
        values = it.get(quantity)
        if values is None or not driven:
            continue
        here = values[moving & np.isfinite(values)]
        if here.size < 50 or np.ptp(here) > 1e-9:
            continue
        title = QUANTITIES[quantity].title
        yield Finding(
            "constant_channel",
            Severity.CRITICAL,
            Sentence(
                "{title} shows {value:.4g} from beginning to end, so it is not measuring. Please check the logger’s channel or the sensor’s plug.",
                title=title.capitalize(),
                value=float(here[0]),
            ),
            f"{quantity} is constant at {here[0]:.4g} {QUANTITIES[quantity].unit} while engine speed covers {np.ptp(speed[moving]):.0f} rpm.",
            ((float(it.time[0]), float(it.time[-1])),),
        )


def saturated_channel(it: ExaminedLog) -> Iterator[Finding]:
    """A pressure stays exactly on its highest reading, above the air outside: the sensor has come to its end."""
    for quantity in _FLAT_TOPPED:
        values = it.get(quantity)
        if values is None:
            continue
        top = float(np.nanmax(values))
        barometer = it.get("barometric_pressure")
        ambient = float(np.nanmedian(barometer)) if barometer is not None else 99.0
        if quantity == "boost_pressure":
            ambient = 0.0
        if top < ambient + 4.0:
            continue
        flat = it.stretches(values >= top - 1e-9, it.limits.flat_top, 0.0)
        if flat:
            yield Finding(
                "saturated_channel",
                Severity.CRITICAL,
                Sentence(
                    "{title} stops at {top:.0f} kPa although the engine goes on: the sensor cannot measure more. Your tuner has to know about this before the next pull.",
                    title=QUANTITIES[quantity].title.capitalize(),
                    top=float(top),
                ),
                f"{quantity} is flat at {top:.1f} kPa for {sum(b - a for a, b in flat):.1f} s: sensor or scaling at its end.",
                flat,
            )
            return


def out_of_range(it: ExaminedLog) -> Iterator[Finding]:
    """Readings that no such quantity can have."""
    for quantity, values in it.signals.items():
        known = QUANTITIES.get(quantity)
        if known is None or quantity == "engine_load":
            continue
        beyond = (values < known.low) | (values > known.high)
        share = 100.0 * float(beyond.mean())
        if share < it.limits.out_of_range or int(beyond.sum()) < 3:
            continue
        worst = float(values[beyond][0])
        yield Finding(
            "out_of_range",
            Severity.WARNING,
            Sentence(
                "{title} shows {worst:.4g} {unit} at times, which cannot be. Please check that sensor and its plug.",
                title=known.title.capitalize(),
                worst=float(worst),
                unit=known.unit,
            ),
            f"{quantity} is outside {known.low:g} to {known.high:g} {known.unit} in {share:.1f} % of the samples.",
            it.stretches(beyond),
        )


def unit_doubt(it: ExaminedLog) -> Iterator[Finding]:
    """Values that do not fit their label."""
    for raster in it.log.rasters:
        for channel in raster.channels:
            if channel.doubt and channel.quantity is not None:
                tail = "Say what it is; proposals ask before they use it."
                yield Finding(
                    "unit_doubt",
                    Severity.WARNING,
                    Sentence(
                        "The label of {channel} does not fit its numbers. Your tuner will sort this out; you need not do anything.",
                        channel=channel.name,
                    ),
                    f"{channel.doubt}. {tail}",
                )


def time_order(it: ExaminedLog) -> Iterator[Finding]:
    """Times that stand still or go back."""
    for repair in it.log.repairs:
        if repair.kind == "time":
            places = tuple((at, at) for at in repair.at)
            yield Finding(
                "time_order",
                Severity.WARNING,
                Sentence(
                    "In {count} rows of this log the clock stands still or goes back; they were left out. If the logger offers it, record to a faster card or fewer channels.",
                    count=repair.count,
                ),
                f"{repair.said}.",
                places,
            )


def gaps(it: ExaminedLog) -> Iterator[Finding]:
    """Stretches in which nothing was recorded."""
    steps = np.diff(it.time)
    usual = float(np.median(steps))
    wide = np.flatnonzero((steps > it.limits.gap_steps * usual) & (steps > it.limits.gap_seconds))
    if wide.size == 0:
        return
    found = tuple((float(it.time[at]), float(it.time[at + 1])) for at in wide[:40])
    total = float(steps[wide].sum())
    yield Finding(
        "gaps",
        Severity.WARNING,
        Sentence(
            "The logger lost {total:.0f} seconds in {count} places. Please record fewer channels at once, or keep the connection to the logger still.",
            total=float(total),
            count=int(wide.size),
        ),
        f"{wide.size} gaps, {total:.1f} s together; the usual step is {usual * 1000:.0f} ms.",
        found,
    )


def low_rate(it: ExaminedLog) -> Iterator[Finding]:
    """Too few samples a second for what the log is for."""
    usual = float(np.median(np.diff(it.time)))
    hertz = 1.0 / usual if usual > 0 else 0.0
    quick = any(drive.kind is DriveKind.PULL for drive in it.drives)
    wanted = it.limits.rate_quick if quick else it.limits.rate_steady
    if hertz < wanted * 0.99:
        what = "a full-load pull" if quick else "steady driving"
        words = (
            N_(
                "The logger wrote {hertz:.1f} rows a second, and a full-load pull needs at least {wanted:.0f}. Please choose a faster rate or fewer channels."
            )
            if quick
            else N_(
                "The logger wrote {hertz:.1f} rows a second, and steady driving needs at least {wanted:.0f}. Please choose a faster rate or fewer channels."
            )
        )
        yield Finding(
            "low_rate",
            Severity.WARNING,
            Sentence(words, hertz=hertz, wanted=wanted),
            f"{hertz:.2f} Hz, wanted {wanted:g} Hz for {what}.",
        )


def broken_off(it: ExaminedLog) -> Iterator[Finding]:
    """The file ends in the middle of a row."""
    if any(repair.kind == "truncated" for repair in it.log.repairs):
        yield Finding(
            "broken_off",
            Severity.NOTE,
            N_(
                "The file ends in the middle of a line. What was recorded before that is used; next time stop the recording before you pull the cable."
            ),
            "The last line breaks off and was left out.",
        )


CHECKS = (
    too_short,
    missing_channel,
    constant_channel,
    saturated_channel,
    out_of_range,
    unit_doubt,
    time_order,
    gaps,
    low_rate,
    broken_off,
)
