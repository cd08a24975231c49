import pytest
from hypothesis import given
from hypothesis import strategies as st

from uchiwa.core.logs.readers.clock import clock_seconds, is_time_name, step_from_notes
from uchiwa.core.logs.readers.dialect import split_unit
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.quantities.naming import match_name
from uchiwa.core.quantities.states import state_of


@pytest.mark.parametrize(
    ("name", "quantity"),
    [
        ("EngineSpeed", "engine_speed"), ("Engine RPM", "engine_speed"), ("Motordrehzahl", "engine_speed"),
        ("Régime moteur", "engine_speed"), ("CLT", "coolant_temperature"), ("Kühlmitteltemperatur", "coolant_temperature"),
        ("Throttle Pos", "throttle_position"), ("MAP sensor", "manifold_pressure"), ("STFT B2", "short_term_trim_2"),
        ("LTFT2", "long_term_trim_2"), ("Lambda Bank 2", "lambda_measured_2"), ("Lambda B1S1", "lambda_measured"),
        ("Commanded AFR", "lambda_target"), ("Ign Adv", "spark_advance"), ("VBATT", "battery_voltage"),
        ("MAF Freq", "airflow_frequency"), ("Inj PW", "injector_pulse"), ("Saugrohrdruck", "manifold_pressure"),
    ],
)  # fmt: skip
def test_names_of_many_loggers(name, quantity):
    found = match_name(name)
    assert found is not None
    assert found.quantity == quantity


@pytest.mark.parametrize(
    "name",
    [
        "Lambda error",
        "Boost Target",
        "O2 B1S2",
        "Lambda heater duty",
        "Trans Temp",
        "Latitude",
        "RPM limit",
        "Coolant temp rear",
        "",
    ],
)
def test_names_that_only_sound_alike_are_left_alone(name):
    assert match_name(name) is None


@given(st.sampled_from(sorted(QUANTITIES)), st.sampled_from([str.upper, str.title, str.lower]))
def test_every_quantity_is_known_by_its_own_id_in_any_case(quantity, case):
    found = match_name(case(quantity))
    assert found is not None
    assert found.quantity == quantity


@given(st.text(max_size=60))
def test_any_name_at_all_is_matched_or_not_without_a_fuss(name):
    found = match_name(name)
    assert found is None or (found.quantity in QUANTITIES and 0 < found.confidence <= 1)


@pytest.mark.parametrize(
    ("text", "seconds"),
    [
        ("0:01:02.5", 62.5),
        ("23:59:59.98", 86399.98),
        ("1:02,5", 62.5),
        ("01:00:00 PM", 46800),
        ("2026-11-23 00:00:01", 1795392001.0),
        ("23.11.2026 00:00:01", 1795392001.0),
    ],
)
def test_clock_times(text, seconds):
    assert clock_seconds(text) == pytest.approx(seconds)


def test_cells_that_are_no_times():
    assert clock_seconds("12") != clock_seconds("12")
    assert clock_seconds("2026-13-45 10:00:00") != clock_seconds("2026-13-45 10:00:00")


@pytest.mark.parametrize(
    ("notes", "step"),
    [
        ({"sample rate": "20 Hz"}, 0.05),
        ({"interval": "50 ms"}, 0.05),
        ({"interval [ms]": "50"}, 0.05),
        ({"logging frequency": "0.1 kHz"}, 0.01),
        ({"sampling interval": "0,5"}, 0.5),
        ({"driver": "20"}, None),
        ({"rate": "none"}, None),
    ],
)
def test_sample_rates_from_notes(notes, step):
    found = step_from_notes(notes)
    assert found == (None if step is None else pytest.approx(step))


@pytest.mark.parametrize(
    ("header", "parts"),
    [
        ("MAP [kPa]", ("MAP", "kPa")),
        ("Spark (deg)", ("Spark", "deg")),
        ("MAP (psi(g))", ("MAP", "psi(g)")),
        ("RPM", ("RPM", "")),
        ("Oil {°C}", ("Oil", "°C")),
        ("[V]", ("[V]", "")),
    ],
)
def test_headers_with_units(header, parts):
    assert split_unit(header) == parts


@pytest.mark.parametrize(
    ("word", "number"), [("CL", 1), ("Closed", 1), ("OL-Drive", 0), ("on", 1), ("Off", 0), ("R", -1), ("banana", None)]
)
def test_states(word, number):
    assert state_of(word) == number


@pytest.mark.parametrize(
    ("name", "said"),
    [
        ("Time", True),
        ("Time_ms", True),
        ("Zeit", True),
        ("timestamp", True),
        ("Ignition timing", False),
        ("RPM", False),
    ],
)
def test_time_names(name, said):
    assert is_time_name(name) is said
