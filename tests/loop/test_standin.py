"""The stand-in is physics: it must behave like a car before it may be used as the truth."""

from __future__ import annotations

from dataclasses import replace
from functools import wraps
from types import MappingProxyType

import numpy as np
import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import Log
from uchiwa.core.tables.interchange import calibration_json
from uchiwa.standin.cars import CARS
from uchiwa.standin.drives import DRIVES
from uchiwa.standin.engine import orifice_flow
from uchiwa.standin.fleet import car_named
from uchiwa.standin.kept_drives import keeping
from uchiwa.standin.live_drive import as_recorded
from uchiwa.standin.logger import write_delimited
from uchiwa.standin.simulate import simulate
from uchiwa.standin.wideband import Wideband

CAR = CARS["corvid-pike"]


def signals(drive, seed=3):
    return {key: one.values for key, one in simulate(CAR, CAR.base(), drive, seed).quantities.items()}


def test_a_kept_drive_is_that_of_the_same_arguments_under_its_own_mark(tmp_path):
    asked = []

    @wraps(simulate)
    def counted(car, calibration, drive_name, seed, **_):
        asked.append(seed)
        return Log(f"{drive_name}.csv", (), MappingProxyType({"revision": "any", "drive": drive_name}))

    kept = keeping(counted, tmp_path)
    base = CAR.base()
    there_and_back = calibration_json.loads(calibration_json.dumps(base))
    marks = [
        kept(CAR, base, "warm_idle", 1).notes["revision"],
        kept(CAR, there_and_back, "warm_idle", seed=1, revision="revision 7").notes["revision"],
        kept(CAR, base, "warm_idle", 1, revision="revision 8").notes["revision"],
    ]
    assert marks == [base.id, "revision 7", "revision 8"]
    assert asked == [1]
    richer = base.with_table(replace(base.table("ve_main"), values=base.table("ve_main").values * 1.01))
    kept(CAR, richer, "warm_idle", 1)
    kept(CAR, base, "warm_idle", 2)
    kept(replace(CAR, knock_channels=True), base, "warm_idle", 1)
    assert asked == [1, 1, 2, 1]


def test_the_same_seed_gives_the_same_log_and_another_does_not():
    one, again, other = (write_delimited(simulate(CAR, CAR.base(), "warm_idle", seed)) for seed in (1, 1, 2))
    assert one == again
    assert one != other


def test_warm_idle_is_closed_loop_and_stoichiometric():
    found = signals("warm_idle")
    late = slice(-500, None)
    assert found["engine_speed"][late].mean() == pytest.approx(850, abs=25)
    assert found["lambda_measured"][late].mean() == pytest.approx(1.0, abs=0.01)
    assert (found["loop_state"][late] == 1).all()


def test_a_pull_is_open_loop_rich_and_boosted():
    found = signals("full_load_pull")
    pull = found["throttle_position"] > 99
    assert found["engine_speed"][pull].max() > 6300
    assert found["manifold_pressure"][pull].max() > 150
    assert (found["loop_state"][pull][20:] == 0).all()
    assert found["lambda_target"][pull].min() == pytest.approx(0.80)
    assert found["short_term_trim"][pull][50:] == pytest.approx(0.0)


def test_overrun_cuts_the_fuel_and_the_sensor_goes_to_its_rail():
    found = signals("roll_on")
    cut = found["overrun_cut_active"] > 0
    assert cut.sum() > 50
    assert found["injector_pulse"][cut].max() == 0
    assert found["lambda_measured"][cut].max() == pytest.approx(1.36)


def test_trims_hold_what_the_table_gets_wrong():
    found = signals("steady_cruise", 11)
    closed = found["loop_state"] > 0
    error = (1 + found["short_term_trim"] / 100) * (1 + found["long_term_trim"] / 100)
    assert error[closed].max() > 1.06
    assert found["lambda_measured"][closed].mean() == pytest.approx(1.0, abs=0.02)


def test_a_cold_start_runs_rich_and_warms_up():
    found = signals("mixed_road", 21)
    assert found["coolant_temperature"][0] == pytest.approx(62, abs=1)
    assert found["coolant_temperature"][-1] > 88
    assert found["after_start_active"].max() == 1


def test_the_sensor_answers_after_transport_and_lag():
    sensor = Wideband(d0=0.1, k=2.0, lag=0.06, warm_after=0.0)
    readings = [sensor.step(step * 0.02, 1.0 if step < 50 else 1.2, 10.0, 0.02) for step in range(120)]
    # d0 + k/airflow = 0.3 s after the step at 1.0 s; 63 % of it one lag later.
    assert readings[64] == pytest.approx(1.0, abs=1e-6)
    assert np.interp(1.36 / 0.02, range(120), readings) == pytest.approx(1 + 0.2 * 0.63, abs=0.03)
    assert readings[-1] == pytest.approx(1.2, abs=1e-3)


def test_a_choked_orifice_passes_what_the_textbook_says():
    # 100 mm² from 100 kPa at 20 °C: 0.6847·A·p/√(RT) = 0.6847·1e-4·1e5/√(287.05·293.15) kg/s = 23.60 g/s.
    assert orifice_flow(100.0, 100.0, 30.0, 20.0) == pytest.approx(23.60, abs=0.05)
    assert orifice_flow(100.0, 100.0, 30.0, 20.0) == orifice_flow(100.0, 100.0, 50.0, 20.0)
    assert orifice_flow(100.0, 100.0, 100.0, 20.0) == 0.0


def test_unknown_cars_and_drives_are_named():
    with pytest.raises(BadInput, match="the cars are corvid-pike"):
        car_named("none")
    with pytest.raises(BadInput, match=f"the drives are {', '.join(DRIVES)}"):
        simulate(CAR, CAR.base(), "moon", 1)


@given(st.floats(-1e5, 1e5), st.integers(0, 4))
@example(2.675, 2)
def test_a_value_passed_on_is_rounded_as_the_whole_recording(value: float, decimals: int):
    assert as_recorded(value, decimals) == (np.round(np.array([value]), decimals) + 0.0)[0]
