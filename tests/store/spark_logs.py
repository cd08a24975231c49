"""Quick logs for spark work: a drive that knocks at load, and dyno runs."""

from __future__ import annotations

from functools import cache

import numpy as np

from tests.conftest import make_log
from uchiwa.standin.cars import pike_base
from uchiwa.standin.dyno import dyno_run, write_run
from uchiwa.standin.fleet import car_named
from uchiwa.standin.logger import write_delimited


def knock_text(
    *,
    knocks: tuple[float, ...] = (30.0, 60.0, 90.0, 120.0),
    heard: bool = True,
    marks: bool = False,
    octane: float = 0.0,
) -> str:
    """Three minutes at 20 Hz over light and full load; retard of 3° at the given seconds, at 3200 rpm and 158 kPa."""
    size = 3600
    time = np.arange(size) / 20.0
    full = (time % 30.0) < 4.0
    retard = np.zeros(size)
    for at in knocks:
        begin = int(at * 20) + 20
        retard[begin : begin + 20] = np.linspace(3.0, 0.2, 20)
    signals = {
        "engine_speed": np.where(full, 3200.0, 1800.0 + 200.0 * np.sin(time / 5.0)),
        "manifold_pressure": np.where(full, 158.0, 60.0 + 20.0 * np.sin(time / 7.0)),
        "throttle_position": np.where(full, 95.0, 20.0),
        "coolant_temperature": 90.0,
        "lambda_measured": 0.88,
        "lambda_target": 1.0,
        "short_term_trim": 0.0,
        "long_term_trim": 0.0,
        "spark_advance": 24.0 - retard,
        "intake_air_temperature": 30.0,
        "gear": 4.0,
    }
    if heard:
        signals["knock_retard"] = retard
    if marks:
        signals["marker"] = (retard > 2.9).astype(float)
    if octane:
        signals["low_octane_flag"] = (time < octane).astype(float)
    return write_delimited(make_log(20.0, **signals))


@cache
def dyno_text(run: int, offset: float = 0.0, *, timed: bool = True) -> bytes:
    """A run of the Pike as the dyno writes it."""
    return write_run(dyno_run(car_named("corvid-pike"), pike_base(), 4, run, offset=offset), timed=timed)


SESSION = ((1, 0.0), (2, -4.0), (3, -8.0), (4, 0.0), (5, 1.0))
"""Runs of a session, and the degrees that the operator added."""
