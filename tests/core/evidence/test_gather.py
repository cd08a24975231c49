"""Any formula on a grid by the least-squares surface."""

from __future__ import annotations

import numpy as np
import pytest

from tests.conftest import make_log, make_table
from uchiwa.core.evidence.gather import bins_of, gather_samples


def test_the_surface_finds_the_breakpoint_values_of_a_table_that_was_interpolated():
    rng = np.random.default_rng(5)
    truth = make_table([[12.0, 20.0, 26.0], [30.0, 41.0, 50.0]])
    size = 4000
    speed, pressure = rng.uniform(1000, 3000, size), rng.uniform(40, 80, size)
    value = truth.lookup(speed, pressure) + rng.normal(0, 0.3, size)
    log = make_log(engine_speed=speed, manifold_pressure=pressure, spark_advance=value)
    table = make_table([[50.0] * 3, [50.0] * 3])
    found = {
        kind: bins_of(gather_samples([log], table, "spark_advance"), table, kind) for kind in ("weighted", "surface")
    }
    assert found["surface"].mean == pytest.approx(truth.grid, abs=0.15)
    off = {kind: float(np.abs(one.mean - truth.grid).max()) for kind, one in found.items()}
    assert off["surface"] < 0.2 * off["weighted"]
    assert (np.abs(found["surface"].mean - truth.grid) < 4 * found["surface"].standard_error).all()


def test_a_value_that_never_changes_is_its_own_surface():
    log = make_log(engine_speed=np.linspace(1000, 3000, 200), manifold_pressure=50.0, spark_advance=12.0)
    table = make_table([[50.0] * 3, [50.0] * 3])
    samples = gather_samples([log], table, "spark_advance")
    bins = bins_of(samples, table, "surface")
    assert (samples.value.size, samples.total) == (200, 200)
    assert bins.mean[0] == pytest.approx([12.0] * 3)
