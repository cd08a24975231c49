from functools import cache

import numpy as np
import pytest

from tests.conftest import make_table
from uchiwa.core.briefs.acceptance import judge
from uchiwa.core.briefs.brief import MUST, Brief
from uchiwa.core.briefs.checklist import Tick, checklist
from uchiwa.core.briefs.coverage import Coverage, cruise_cells, dwell
from uchiwa.core.briefs.standard_brief import cut, fitted, propose_brief
from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.checks import ExaminedLog, examine
from uchiwa.core.errors import BadInput
from uchiwa.core.logs.drives import DriveKind
from uchiwa.core.logs.readers import read_log
from uchiwa.standin.cars import CARS, calibrated
from uchiwa.standin.defects import changed, rows
from uchiwa.standin.fleet import car_named
from uchiwa.standin.simulate import simulate

WREN = CARS["bramble-wren"].file
TERN = CARS["larkspur-tern"].file


def asked(car, purpose="fuel", table=None):
    return [ask.quantity for ask in propose_brief(car, purpose, table).asked]


def test_the_channels_differ_by_car():
    wren_table = calibrated(CARS["bramble-wren"]).by_role("volumetric_efficiency")[0]
    wren, tern = asked(WREN, table=wren_table), asked(TERN)
    assert {"ethanol_content", "barometric_pressure", "manifold_pressure", "lambda_measured"} <= set(wren)
    assert {"short_term_trim_2", "long_term_trim_2", "airflow_frequency"} <= set(tern)
    assert "lambda_measured" not in tern
    assert "manifold_pressure" not in tern
    assert "ethanol_content" not in tern
    assert "mixture_voltage" in asked(CarFile(wideband="voltage"))
    assert "airflow_voltage" in asked(CarFile(air_model="meter", meter="voltage"))
    assert "knock_retard" not in asked(CarFile(knock_sensor=False))
    assert "in_gear" in asked(CarFile(automatic=True))


def test_without_a_wideband_trims_and_loop_state_are_musts():
    ranks = {ask.quantity: ask.priority for ask in propose_brief(TERN).channels}
    assert ranks["short_term_trim"] == ranks["short_term_trim_2"] == ranks["loop_state"] == MUST


@pytest.mark.parametrize("limit", [6, 14, None])
def test_the_list_is_cut_to_the_logger_most_needed_first_and_what_is_given_up_is_kept_in_view(limit):
    brief = propose_brief(WREN.model_copy(update={"channel_limit": limit}))
    assert len(brief.asked) == min(limit or 99, len(brief.channels))
    assert all(ask.loss for ask in brief.given_up)
    if brief.given_up:
        assert max(ask.priority for ask in brief.asked) <= min(ask.priority for ask in brief.given_up)
    assert {ask.quantity for ask in brief.channels} == {ask.quantity for ask in cut(brief.channels, 3)}


def test_purposes_ask_for_other_drives():
    kinds = {
        purpose: [ask.kind.value for ask in propose_brief(WREN, purpose).to_drive]
        for purpose in ("fuel", "full_load", "idle", "torque", "clamp")
    }
    assert kinds == {
        "fuel": ["warm_idle", "cruise"],
        "full_load": ["warm_idle", "cruise", "roll_on", "pull"],
        "idle": ["warm_up", "warm_idle"],
        "torque": ["pull"],
        "clamp": ["pull"],
    }
    automatic = propose_brief(WREN.model_copy(update={"automatic": True}), "idle")
    assert [ask.kind.value for ask in automatic.to_drive] == ["warm_up", "in_gear_warm_up", "warm_idle"]
    assert next(ask for ask in automatic.channels if ask.quantity == "in_gear").priority == 1
    ladder = propose_brief(WREN, "torque").to_drive[0]
    assert "half a degree more at a time" in ladder.how
    assert ladder.acceptance.count == 5


def test_a_brief_survives_storage_and_a_pattern_fits_another_car():
    brief = propose_brief(WREN, "full_load")
    assert Brief.loads(brief.model_dump_json()) == brief
    off = tuple(
        ask.model_copy(update={"kept": False}) if ask.quantity == "knock_retard" and ask.priority != MUST else ask
        for ask in propose_brief(WREN).channels
    )
    pattern = propose_brief(WREN).model_copy(update={"channels": off, "note": "Mind the rain."})
    other = fitted(pattern, TERN, calibrated(CARS["larkspur-tern"]).by_role("maf_curve")[0])
    assert "airflow_frequency" in {ask.quantity for ask in other.asked}
    assert "knock_retard" not in {ask.quantity for ask in other.asked}
    assert other.note == "Mind the rain."
    with pytest.raises(BadInput):
        Brief.read({"purpose": "racing"})


def test_coverage_is_told_in_words():
    table = make_table([[50.0] * 3, [50.0] * 3])
    wanted = ((0, 0), (1, 0), (2, 0), (2, 1))
    seconds = np.array([[5.0, 0.0, 0.0], [0.0, 0.0, 9.0]])
    found = Coverage(table, wanted, seconds, 2.0)
    assert found.share == 0.5
    assert found.missing() == ["light throttle between 2000 and 3000 rpm"]


def test_dwell_counts_seconds_by_the_nearest_breakpoints():
    table = make_table([[50.0] * 3, [50.0] * 3])
    time = np.arange(20) * 0.5
    signals = {"engine_speed": np.where(time < 5, 1100.0, 2600.0), "manifold_pressure": np.full(20, 70.0)}
    seconds = dwell(table, time, signals, np.ones(20, dtype=bool))
    assert seconds.tolist() == [[0, 0, 0], [5, 0, 5]]
    assert not dwell(table, time, {"engine_speed": signals["engine_speed"]}, np.ones(20, dtype=bool)).any()


def test_wanted_cells_of_a_curve_go_by_its_flow():
    curve = calibrated(CARS["larkspur-tern"]).by_role("maf_curve")[0]
    assert all(3 <= curve.values[i] <= 45 for i, _ in cruise_cells(curve))


@cache
def log_of(car, drive, seed=3):
    return simulate(car_named(car), calibrated(car_named(car)), drive, seed, revision="revision 1")


def verdicts(car, log, purpose="full_load"):
    stand_in = car_named(car)
    calibration = calibrated(stand_in)
    table = (calibration.by_role("volumetric_efficiency") or calibration.by_role("maf_curve"))[0]
    brief = propose_brief(stand_in.file, purpose, table)
    back = read_log(stand_in.logger.write(log, [ask.quantity for ask in brief.asked]), "a", stand_in.file.knowledge())
    it = ExaminedLog(back, stand_in.file, brief, calibration, 1, table)
    found = examine(it)
    return brief, [one for one in (judge(ask, it, found) for ask in brief.to_drive) if one is not None]


@pytest.mark.parametrize("car", ["corvid-pike", "larkspur-tern", "bramble-wren"])
@pytest.mark.parametrize(
    ("drive", "kind", "purpose"),
    [
        ("cold_morning", DriveKind.WARM_UP, "idle"),
        ("warm_idle", DriveKind.WARM_IDLE, "fuel"),
        ("steady_cruise", DriveKind.CRUISE, "fuel"),
        ("roll_on", DriveKind.ROLL_ON, "full_load"),
        ("full_load_pull", DriveKind.PULL, "full_load"),
    ],
)
def test_a_drive_done_as_asked_ticks_itself(car, drive, kind, purpose):
    brief, found = verdicts(car, log_of(car, drive), purpose)
    items = {item.ask.kind: item for item in checklist(brief, [found])}
    assert items[kind].tick is Tick.DONE, items[kind].said


@pytest.mark.parametrize(
    ("drive", "spoil", "said"),
    [
        (
            "steady_cruise",
            lambda log: changed(log, coolant_temperature=lambda t, v, s: np.minimum(v, 30 + 0.05 * t)),
            "The engine was still cold for all but",
        ),
        ("steady_cruise", lambda log: rows(log, log.rasters[0].time < 260), "Still wanted:"),
        ("full_load_pull", lambda log: rows(log, log.rasters[0].time < 29), "or the limiter"),
        ("warm_idle", lambda log: rows(log, log.rasters[0].time < 20), "are needed"),
        ("roll_on", lambda log: rows(log, log.rasters[0].time < 45), "There was 1 of 2"),
        (
            "cold_morning",
            lambda log: changed(log, coolant_temperature=lambda t, v, s: np.maximum(v, 41.0)),
            "already at 41 °C",
        ),
        ("cold_morning", lambda log: rows(log, log.rasters[0].time < 200), "78 °C are needed"),
    ],
)
def test_what_is_missing_is_said_in_plain_words(drive, spoil, said):
    purpose = "idle" if drive == "cold_morning" else "full_load"
    brief, found = verdicts("corvid-pike", spoil(log_of("corvid-pike", drive)), purpose)
    repeats = [item for item in checklist(brief, [found]) if item.tick is Tick.REPEAT]
    assert any(said in item.said for item in repeats), [item.said for item in repeats]


def test_once_met_a_drive_stays_met():
    brief, good = verdicts("corvid-pike", log_of("corvid-pike", "warm_idle"))
    _, bad = verdicts(
        "corvid-pike", rows(log_of("corvid-pike", "warm_idle"), log_of("corvid-pike", "warm_idle").rasters[0].time < 20)
    )
    for order in ([good, bad], [bad, good]):
        items = {item.ask.kind: item.tick for item in checklist(brief, order)}
        assert items[DriveKind.WARM_IDLE] is Tick.DONE
        assert items[DriveKind.PULL] is Tick.OPEN
