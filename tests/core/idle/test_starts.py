"""Starts, stalls and after-start in a log."""

from __future__ import annotations

import numpy as np
import pytest

from uchiwa.core.idle.starts import Stop, after_start, standstills, starts

TIME = np.arange(600) / 10


def speed(*pieces: tuple[float, float]) -> np.ndarray:
    """(seconds, rpm), one after the other; the last holds on."""
    at, edges = np.zeros(TIME.size), 0.0
    for seconds, rpm in pieces:
        at[edges <= TIME] = rpm
        edges += seconds
    return at


def test_a_start_is_told_from_its_cranking():
    (start,) = starts(TIME, speed((3, 0), (2, 210), (60, 1100)))
    assert (start.cranked, start.ran) == (pytest.approx(3.0), pytest.approx(5.0))
    assert starts(TIME, speed((60, 900))) == ()


def test_an_engine_that_is_started_again_had_stalled():
    (stop,) = standstills(TIME, speed((25, 900), (3, 0), (1, 200), (30, 1000)))
    assert stop.how is Stop.STALLED
    assert stop.at == pytest.approx(24.9)


def test_one_that_sags_before_it_stands_stalled_and_one_that_does_not_was_switched_off():
    assert standstills(TIME, speed((40, 900), (3, 550), (20, 0)))[0].how is Stop.STALLED
    assert standstills(TIME, speed((40, 900), (20, 0)))[0].how is Stop.STOPPED
    assert standstills(TIME, speed((2, 0), (1, 200), (8, 1000), (50, 0)))[0].how is Stop.STALLED


def test_after_start_is_the_flags_or_so_long_from_the_start():
    running = speed((3, 0), (2, 210), (60, 1100))
    by_time = after_start(TIME, {"engine_speed": running}, 20.0)
    assert TIME[by_time][[0, -1]] == pytest.approx([5.0, 24.9])
    flag = ((TIME >= 5) & (TIME < 12)).astype(float)
    told = after_start(TIME, {"engine_speed": running, "after_start_active": flag}, 20.0, settle_s=1.0)
    assert TIME[told][-1] == pytest.approx(12.9)
    # A log that begins while the engine runs may begin right after its start.
    assert after_start(TIME, {"engine_speed": speed((60, 900))}, 20.0).sum() == 200
