"""How well an engine idles, by coolant band."""

from __future__ import annotations

import numpy as np
import pytest

from tests.conftest import make_log
from uchiwa.core.errors import BadInput
from uchiwa.core.idle.quality import idle_quality

SIZE = 2400


def idling(seed: int = 0, scatter: float = 10.0, **changes: object):
    time = np.arange(SIZE) / 10
    speed = 900 + np.random.default_rng(seed).normal(0, scatter, SIZE)
    usual = {
        "engine_speed": speed, "target_idle_speed": 900.0, "coolant_temperature": 20 + time / 4,
        "throttle_position": 0.4, "vehicle_speed": 0.0, "spark_advance": 12 + np.sin(time),
    }  # fmt: skip
    return make_log(10.0, **(usual | changes))


def test_scatter_is_told_by_band():
    found = idle_quality([idling()])
    assert [band.words for band in found.bands] == ["20 to 40 °C", "40 to 60 °C", "60 to 80 °C"]
    assert all(band.scatter == pytest.approx(10, rel=0.15) for band in found.bands)
    assert all(band.off == pytest.approx(0, abs=2) for band in found.bands)
    assert found.bands[1].seconds == pytest.approx(80, abs=1)
    assert found.bands[1].spark == pytest.approx(0.7, abs=0.15)
    assert np.isnan(found.bands[0].airflow)


def test_dips_and_stalls_are_counted_where_they_were():
    time = np.arange(SIZE) / 10
    speed = np.full(SIZE, 900.0)
    speed[(time > 100) & (time < 101)] = 700
    speed[(time > 150) & (time < 154)] = 0
    found = idle_quality([idling(engine_speed=speed)])
    assert [band.dips for band in found.bands] == [0, 1, 0]
    assert [round(at) for _, at in found.stalls] == [150]
    assert found.bands[1].lowest == 700


def test_a_log_without_coolant_says_so():
    with pytest.raises(BadInput, match="coolant"):
        idle_quality([make_log(engine_speed=np.full(50, 900.0))])
