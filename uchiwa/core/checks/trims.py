"""Trims beyond what they should be, apart between banks, or not reset."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from uchiwa.core.checks.examined import ExaminedLog
from uchiwa.core.checks.finding import Finding, Severity
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.logs.signal import smooth
from uchiwa.core.words.sentence import N_


def _trim(it: ExaminedLog, bank: str) -> FloatArray | None:
    short, long = it.get(f"short_term_trim{bank}"), it.get(f"long_term_trim{bank}")
    if short is None and long is None:
        return None
    return (short if short is not None else 0.0) + (long if long is not None else np.zeros(it.time.shape))


def trim_beyond(it: ExaminedLog) -> Iterator[Finding]:
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
                N_(
                    "The controller has to correct the fuel a good deal. That is what your tuner is working on; you need not record again."
                ),
                f"Fuel trims{words} reach {worst:+.1f} %, beyond ±{it.limits.trim_limit:g} %.",
                stretches,
            )
            return


def banks_differ(it: ExaminedLog) -> Iterator[Finding]:
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
            N_("The two sides of the engine want different fuel. Please look for an air or exhaust leak on one side."),
            f"Bank 2 trims lie {apart:+.1f} % from bank 1.",
            it.stretches(use & (np.abs(two - one) > it.limits.bank_limit), 2.0, 2.0),
        )


def trims_not_reset(it: ExaminedLog) -> Iterator[Finding]:
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
        N_(
            "The controller still uses what it learned before. After flashing, please reset the learned fuel trims (or disconnect the battery for ten minutes), then record again."
        ),
        f"Long-term trim {float(np.median(first)):+.1f} % from the first second: it belongs to an older calibration.",
        ((float(it.time[0]), float(it.time[0]) + 2.0),),
    )
