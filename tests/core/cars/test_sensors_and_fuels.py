import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.cars.fuels import FUELS, stoichiometric_ratio
from uchiwa.core.cars.sensors import fit_line
from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import Channel, Log, Raster
from uchiwa.core.logs.recognition.knowledge import Assignment, channel_key
from uchiwa.core.logs.recognition.recognise import recognise


def test_two_points_make_a_line_exactly():
    fit = fit_line([(1.0, 0.80), (3.0, 1.20)])
    assert fit.line.slope == pytest.approx(0.2)
    assert fit.line.offset == pytest.approx(0.6)
    assert fit.rms == pytest.approx(0, abs=1e-12)


def test_more_points_leave_residuals_worked_by_hand():
    fit = fit_line([(0.0, 0.0), (1.0, 1.0), (2.0, 1.0)])
    assert (fit.line.slope, fit.line.offset) == (pytest.approx(0.5), pytest.approx(1 / 6))
    assert fit.residuals == pytest.approx((-1 / 6, 1 / 3, -1 / 6))
    assert fit.rms == pytest.approx(np.sqrt((1 / 36 + 4 / 36 + 1 / 36) / 3))


@pytest.mark.parametrize("points", [[], [(1.0, 1.0)], [(1.0, 1.0), (1.0, 2.0)], [(1.0, float("nan")), (2.0, 1.0)]])
def test_points_that_make_no_line_are_refused(points):
    with pytest.raises(BadInput):
        fit_line(points)


@given(
    st.floats(-2, 2),
    st.floats(-3, 3),
    st.lists(st.floats(0, 5), min_size=2, max_size=9, unique_by=lambda v: round(v, 1)),
)
def test_points_on_a_line_give_the_line(slope, offset, volts):
    fit = fit_line([(volt, slope * volt + offset) for volt in volts])
    assert fit.line(np.array([0.0, 5.0])) == pytest.approx([offset, slope * 5 + offset], abs=1e-6)


def test_stoichiometric_ratio_moves_with_ethanol():
    # By mass: 0.789·9.0 and 0.745·14.7 at half and half give (7.101 + 10.9515)/2 over 0.767.
    assert stoichiometric_ratio(np.array([0.0, 50.0, 100.0])) == pytest.approx([14.7, 11.7682, 9.0], abs=1e-3)
    assert FUELS["e85"].stoichiometric == pytest.approx(9.82, abs=0.01)


def _log(*channels):
    time = np.arange(50) / 10
    return Log("a", (Raster(time, (Channel("RPM", "rpm", np.full(50, 900.0), source_unit="rpm"), *channels)),))


def test_a_line_turns_volts_into_lambda_and_takes_the_place_of_the_direct_channel():
    car = CarFile(wideband="voltage", wideband_line="own", wideband_points=((1.0, 0.8), (3.0, 1.2)))
    volts = Channel("Wideband voltage", "V", np.full(50, 2.0), source_unit="V")
    direct = Channel("Lambda", "", np.full(50, 0.7))
    found = recognise(_log(direct, volts), car.knowledge()).quantities
    assert found["lambda_measured"].values[0] == pytest.approx(1.0)
    assert "sensor line" in found["lambda_measured"].reason
    assert found["mixture_voltage"].values[0] == 2.0


def test_an_intake_pressure_sensor_by_its_line():
    car = CarFile(pressure_sensor="3bar")
    volts = Channel("MAP sensor voltage", "V", np.full(50, 2.5), source_unit="V")
    assert recognise(_log(volts), car.knowledge()).quantities["manifold_pressure"].values[0] == pytest.approx(157.5)


def test_what_a_person_said_goes_before_everything():
    told = {
        channel_key("AN3", "V"): Assignment("mixture_voltage"),
        channel_key("MAP", "kPa"): Assignment("manifold_pressure", "psi"),
        channel_key("TPS", "%"): Assignment(None),
    }
    log = _log(
        Channel("AN3", "V", np.full(50, 2.0), source_unit="V"),
        Channel("MAP", "kPa", np.full(50, 10.0), source_unit="kPa"),
        Channel("TPS", "%", np.full(50, 10.0), source_unit="%"),
    )
    found = recognise(log, CarFile().knowledge(told)).quantities
    assert found["mixture_voltage"].confidence == 1.0
    assert found["manifold_pressure"].values[0] == pytest.approx(68.95, abs=0.01)
    assert found["manifold_pressure"].doubt == ""
    assert "throttle_position" not in found


def test_confidence_tells_a_sure_name_from_a_guess():
    log = _log(
        Channel("ECT", "°C", np.full(50, 88.0), source_unit="°C"),
        Channel("Throttle pos sensor", "%", np.full(50, 8.0), source_unit="%"),
        Channel("IAT post cooler mystery", "°C", np.full(50, 28.0), source_unit="°C"),
    )
    found = recognise(log).quantities
    assert found["coolant_temperature"].confidence > 0.9
    assert 0.7 <= found["throttle_position"].confidence < 0.9
    assert "intake_air_temperature" not in found


@pytest.mark.parametrize(
    "field",
    [
        {"cylinders": 0},
        {"fuel": "coal"},
        {"unknown": 1},
        {"wideband": "voltage", "wideband_line": "own"},
        {"pressure_sensor": "9bar"},
    ],
)
def test_a_wrong_car_file_is_refused(field):
    with pytest.raises(BadInput):
        CarFile.read(field)
