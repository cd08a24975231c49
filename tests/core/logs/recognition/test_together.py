"""The channels of a log judged together: no unit is overruled in silence, and what cannot be told is in doubt."""

from __future__ import annotations

import numpy as np
import pytest

from tests.core.logs.recognition.unit_traps import traps
from tests.seeds import FULL
from uchiwa.core.cars.fuels import stoichiometric_ratio
from uchiwa.core.logs.log import Channel, Log, Raster
from uchiwa.core.logs.recognition.knowledge import Assignment, Knowledge, channel_key
from uchiwa.core.logs.recognition.recognise import recognise
from uchiwa.core.quantities.naming import match_name
from uchiwa.core.quantities.states import states_in
from uchiwa.core.quantities.units import convert, same_dimension

_TRAPS = 240 if FULL else 120
_AROUND = {
    "short_term_trim": 3.0, "long_term_trim": 3.0, "coolant_temperature": 20.0, "intake_air_temperature": 20.0,
}  # fmt: skip


def right(quantity: str, found: np.ndarray, truth: np.ndarray) -> bool:
    """Whether readings are what was meant, within the digits that were written."""
    off = np.abs(found - truth) / (np.abs(truth) + _AROUND.get(quantity, 0.0) + 1e-9)
    return bool(np.nanmedian(off) < 0.02)


def test_no_unit_trap_is_read_wrongly_without_a_doubt_and_few_are_doubted_needlessly():
    """13, 14: a hundred and twenty logs (two hundred and forty in `make accuracy`) over unit systems, labels right, absent, in part or wrong."""
    wrong, needless, total = [], 0, 0
    for trap in traps(_TRAPS):
        found = recognise(trap.log, trap.knowledge).quantities
        for quantity, truth in trap.truth.items():
            total += 1
            channel = found[quantity]
            fits = right(quantity, channel.values, truth)
            mislabelled = trap.words.endswith(f"on {quantity}")
            if not fits and not channel.doubt:
                wrong.append((trap.words, quantity, channel.read_as))
            needless += fits and bool(channel.doubt) and not mislabelled
    assert wrong == []
    assert needless <= 0.05 * total, needless / total


def drive(size: int = 2400) -> dict[str, np.ndarray]:
    """Four minutes of idle, cruise and a pull, in canonical units."""
    time = np.arange(size) / 10
    load = np.interp(time % 60, [0, 10, 30, 40, 50, 60], [0, 0, 0.3, 0.5, 1, 0])
    return {
        "RPM": 850 + 4500 * load, "MAP": 34 + 65 * load, "TPS": 1 + 97 * load, "Coolant": 70 + time / 12,
        "IAT": 22 + 5 * load, "Lambda": 1 - 0.14 * (load > 0.8),
    }  # fmt: skip


def read(units: dict[str, str], knowledge: Knowledge | None = None, **values: np.ndarray):
    """The drive recognised with some channels replaced or added, under the units that a file states."""
    signals = drive() | values
    channels = tuple(
        Channel(one, units.get(one, ""), data, source_unit=units.get(one, "")) for one, data in signals.items()
    )
    raster = Raster(np.arange(2400) / 10, channels)
    return recognise(Log("l", (raster,)), knowledge or Knowledge()).quantities


def test_a_stated_unit_is_never_overruled_in_silence():
    found = read({"MAP": "kPa", "RPM": "rpm"}, MAP=drive()["MAP"] / 6.894757)
    assert found["manifold_pressure"].doubt
    assert found["manifold_pressure"].read_as == "psi"
    assert found["manifold_pressure"].values == pytest.approx(drive()["MAP"], rel=1e-6)


def test_one_temperature_speaks_for_the_other():
    fahrenheit = {one: drive()[one] * 1.8 + 32 for one in ("Coolant", "IAT")}
    found = read({"Coolant": "°F"}, **fahrenheit)
    assert found["intake_air_temperature"].values == pytest.approx(drive()["IAT"])
    assert not found["intake_air_temperature"].doubt


def test_what_a_person_said_is_not_doubted_again():
    psi = drive()["MAP"] / 6.894757
    told = Knowledge(assignments={channel_key("MAP", "kPa"): Assignment("manifold_pressure", "psi")})
    found = read({"MAP": "kPa"}, told, MAP=psi)
    assert not found["manifold_pressure"].doubt
    assert found["manifold_pressure"].values == pytest.approx(drive()["MAP"], rel=1e-6)


def test_an_equivalence_ratio_is_told_from_its_inverse_by_what_it_does_at_load():
    """Some loggers write fuel over air, some air over fuel under the same name; a rich pull tells."""
    lean_way, rich_way = drive()["Lambda"], 1 / drive()["Lambda"]
    for values in (lean_way, rich_way):
        found = read({}, **{"Commanded equivalence ratio": values})
        assert found["lambda_target"].values == pytest.approx(lean_way, rel=1e-6)


def test_petrols_air_fuel_ratio_on_ethanol_is_told_from_a_cold_sensor():
    from uchiwa.core.cars.fuels import FUELS

    found = read({"AFR": "AFR"}, Knowledge(FUELS["e85"]), AFR=14.7 * drive()["Lambda"])
    assert found["lambda_measured"].doubt or found["lambda_measured"].name == "Lambda"
    alone = {one: values for one, values in drive().items() if one != "Lambda"} | {"AFR": 14.7 * drive()["Lambda"]}
    channels = tuple(Channel(one, "AFR" if one == "AFR" else "", values) for one, values in alone.items())
    channels = tuple(
        Channel(channel.name, channel.unit, channel.values, source_unit=channel.unit) for channel in channels
    )
    told = recognise(Log("l", (Raster(np.arange(2400) / 10, channels),)), Knowledge(FUELS["e85"])).quantities
    assert told["lambda_measured"].values == pytest.approx(drive()["Lambda"], rel=1e-6)
    assert told["lambda_measured"].doubt


def mixed(
    scale: float, fuel: str, *, loop: bool, unit: str = "AFR", gauge: float | None = None, ethanol: float | None = None
):
    """λ of a drive as a gauge with a ratio of its own shows it, and nothing else for a mixture."""
    from uchiwa.core.cars.fuels import FUELS

    own = drive()
    signals = {one: values for one, values in own.items() if one != "Lambda"} | {"AFR": scale * own["Lambda"]}
    if loop:
        signals["Loop status"] = np.where(np.abs(own["Lambda"] - 1.0) < 0.03, 1.0, 0.0)
    if ethanol is not None:
        signals["Ethanol content"] = np.full(2400, ethanol)
    channels = tuple(
        Channel(one, unit if one == "AFR" else "", values, source_unit=unit if one == "AFR" else "")
        for one, values in signals.items()
    )
    log = Log("l", (Raster(np.arange(2400) / 10, channels),))
    return recognise(log, Knowledge(FUELS[fuel], gauge)).quantities["lambda_measured"], own["Lambda"]


@pytest.mark.parametrize("unit", ["AFR", ""])
def test_a_gauge_that_shows_petrols_ratio_on_e10_is_never_off_by_four_percent_in_silence(unit):
    """Most gauges multiply λ by 14.7, and most pumps sell E10 (14.1)."""
    for loop in (True, False):
        found, truth = mixed(14.7, "e10", loop=loop, unit=unit)
        assert found.doubt or found.values == pytest.approx(truth, rel=0.005)
    found, truth = mixed(14.7, "e10", loop=True, unit=unit)
    assert found.values == pytest.approx(truth, rel=0.001)
    own, truth = mixed(14.08, "e10", loop=True, unit=unit)
    assert not own.doubt
    assert own.values == pytest.approx(truth, rel=0.005)
    sure, truth = mixed(14.7, "e10", loop=False, unit=unit, gauge=14.7)
    assert not sure.doubt
    assert sure.values == pytest.approx(truth, rel=0.001)


def test_a_gauge_of_a_flex_fuel_car_is_held_against_the_ethanol_in_the_log():
    for ethanol in (80.0, 0.8):
        found, truth = mixed(14.7, "flex", loop=True, ethanol=ethanol)
        assert found.doubt
        assert found.values == pytest.approx(truth, rel=0.001)
        own, truth = mixed(float(stoichiometric_ratio(np.array(80.0))), "flex", loop=True, ethanol=ethanol)
        assert not own.doubt
        assert own.values == pytest.approx(truth, rel=0.001)


def test_a_barometer_is_taken_from_the_pressure_before_the_engine_ran():
    speed, pressure = drive()["RPM"], drive()["MAP"]
    speed[:30], pressure[:30] = 0.0, 94.2
    found = read({"MAP": "kPa"}, RPM=speed, MAP=pressure)
    assert found["barometric_pressure"].values == pytest.approx(94.2)
    assert "while the engine stood" in found["barometric_pressure"].reason
    gauge = read({"MAP": "psig"}, Knowledge(barometer=84.0), MAP=(drive()["MAP"] - 84.0) / 6.894757)
    assert gauge["manifold_pressure"].values == pytest.approx(drive()["MAP"], rel=1e-6)
    assert "altitude" in gauge["manifold_pressure"].reason


@pytest.mark.parametrize(
    ("name", "quantity"),
    [
        ("Commanded Equivalence Ratio", "lambda_target"), ("Equivalence ratio", "lambda_measured"),
        ("Manifold Air Temperature", "intake_air_temperature"), ("MAT", "intake_air_temperature"),
        ("IPW", "injector_pulse"), ("InjPW", "injector_pulse"), ("Inj PW", "injector_pulse"), ("Timing Advance", "spark_advance"),
        ("Fuel Loop", "loop_state"),
    ],
)  # fmt: skip
def test_names_that_were_missed(name, quantity):
    found = match_name(name)
    assert found is not None
    assert found.quantity == quantity


@pytest.mark.parametrize("unit", ["kPa abs", "kPa(a)", "psia", "kPa(g)", "psig", "kPa gauge", "bar(g)"])
def test_pressures_say_whether_they_are_a_gauges(unit):
    gauge = unit.endswith(("g", "(g)", "gauge"))
    bare = {"k": "kPa", "p": "psi", "b": "bar"}[unit[0]]
    scale = {"kPa": 1.0, "psi": 6.894757293168361, "bar": 100.0}[bare]
    values = (drive()["MAP"] - (101.325 if gauge else 0.0)) / scale
    found = read({"MAP": unit}, MAP=values)
    assert found["manifold_pressure"].values == pytest.approx(drive()["MAP"], abs=1e-3)
    assert not found["manifold_pressure"].doubt


def test_states_of_the_loop_stand_in_its_header():
    assert states_in("0=Open, 1=Closed") == {0.0: 0.0, 1.0: 1.0}
    assert states_in("1: OL 2: CL") == {1.0: 0.0, 2.0: 1.0}
    assert states_in("kPa") == {}
    loop = np.repeat([1.0, 2.0], 1200)
    found = read({"Fuel loop": "1=Open 2=Closed"}, **{"Fuel loop": loop})
    assert np.array_equal(found["loop_state"].values, loop - 1)


def test_an_angle_is_no_percentage_and_hertz_are_turns_a_second():
    assert not same_dimension("°", "%")
    assert "throttle_position" not in read({"TPS": "°"})
    assert convert(np.array([50.0]), "Hz", "rpm").tolist() == [3000.0]
    found = read({"RPM": "Hz"}, RPM=drive()["RPM"] / 60)
    assert found["engine_speed"].values == pytest.approx(drive()["RPM"])
