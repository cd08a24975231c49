"""A log that grows: the same readings as of the finished log, cells that fill as they are driven, and why nothing runs."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from tests.conftest import make_table
from tests.seeds import seeds
from uchiwa.core.briefs.coverage import dwell
from uchiwa.core.checks.examined import ExaminedLog
from uchiwa.core.live.batch import Batch
from uchiwa.core.live.filling import Filling
from uchiwa.core.live.growth import Growth
from uchiwa.core.live.limits import CorrectionState, LiveLimits, running_seconds, state_now
from uchiwa.core.live.opening import Opening
from uchiwa.core.live.position import Position
from uchiwa.core.logs.log import Channel, Log, Raster
from uchiwa.core.logs.recognition.recognise import recognise
from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.core.tables.table import Axis, frozen
from uchiwa.core.viewing.operating import operating_point
from uchiwa.standin.fleet import FLEET, car_named
from uchiwa.standin.live_drive import LiveDrive


def opening_of(drive: LiveDrive) -> Opening:
    return Opening.read({"channels": [{"name": channel.name, "unit": channel.unit} for channel in drive.channels]})


def grown(drive: LiveDrive, seconds: float, each: int = 5) -> tuple[Growth, list[list[float]]]:
    growth = Growth(opening_of(drive), drive.car.file.knowledge())
    rows: list[list[float]] = []
    while drive.run.time < seconds:
        part = [drive.next_row() for _ in range(each)]
        rows += part
        growth.add(Batch(len(rows) // each, np.array(part)))
    return growth, rows


@pytest.fixture(scope="module")
def cruise() -> tuple[LiveDrive, Growth, list[list[float]]]:
    car = car_named("corvid-pike")
    drive = LiveDrive(car, car.base(), "steady_cruise", 3)
    return drive, *grown(drive, 150.0)


@pytest.mark.parametrize("name", sorted(FLEET))
def test_channels_are_read_as_in_the_finished_log(name):
    drive = LiveDrive(car_named(name), car_named(name).base(), "steady_cruise", 2)
    growth, rows = grown(drive, 40.0)
    data = np.array(rows)
    channels = tuple(
        Channel(one.name, one.unit, data[:, place].copy(), source_unit=one.unit)
        for place, one in enumerate(drive.channels, start=1)
    )
    whole = recognise(Log("x", (Raster(data[:, 0] - data[0, 0], channels),)), drive.car.file.knowledge())
    assert set(whole.quantities) == {reading.quantity for reading in growth.readings if reading.quantity}
    for quantity, channel in whole.quantities.items():
        assert growth.values(quantity) == pytest.approx(channel.values, rel=1e-6, abs=1e-6, nan_ok=True), quantity


def test_a_batch_that_came_already_changes_nothing(cruise):
    _, growth, rows = cruise
    size = growth.size
    growth.add(Batch(3, np.array(rows[:5])))
    assert growth.size == size


def test_a_slow_channel_is_held_for_half_a_second():
    growth = Growth(
        Opening.read({"channels": [{"name": "Engine speed", "unit": "rpm"}, {"name": "Coolant", "unit": "°C"}]})
    )
    rows = [[n / 10, 900 + n, 85.0 if n < 3 else np.nan] for n in range(20)]
    growth.add(Batch(1, np.array(rows)))
    coolant = growth.tail(0, ("coolant_temperature",))["coolant_temperature"]
    assert np.isfinite(coolant[:7]).all()
    assert np.isnan(coolant[8:]).all()
    assert growth.latest("coolant_temperature") is None
    assert growth.latest("engine_speed") == 919


def test_without_an_engine_speed_it_says_so():
    growth = Growth(Opening.read({"channels": [{"name": "Coolant", "unit": "°C"}]}))
    growth.add(Batch(1, np.array([[n / 10, 80.0 + n] for n in range(20)])))
    assert "no engine speed" in growth.problem
    assert growth.values(":Coolant") is not None


def test_seconds_in_cells_are_those_of_the_finished_log(cruise):
    drive, growth, _ = cruise
    table = drive.calibration.by_role("volumetric_efficiency")[0]
    filling = Filling(table)
    filling.follow(growth)
    it = ExaminedLog(drive.recording())
    told = dwell(table, it.time, it.signals, it.warm & it.running)
    assert filling.seconds.sum() == pytest.approx(told.sum(), rel=0.01)
    assert np.abs(filling.seconds - told).max() < 0.5


def test_errors_in_cells_are_near_the_truth(cruise):
    """The stand-in's hidden VE over the table's, where enough was driven; the quick figure is rough by design."""
    drive, growth, _ = cruise
    table = drive.calibration.by_role("volumetric_efficiency")[0]
    filling = Filling(table)
    filling.follow(growth)
    enough = filling.samples >= 50
    assert enough.sum() >= 6
    ve = drive.car.truth.volumetric_efficiency
    truth = np.array([[ve(float(x), float(y)) for x in table.x.breakpoints] for y in table.y.breakpoints])
    wanted = (truth / table.grid - 1) * 100
    assert np.abs(filling.total[enough] / filling.samples[enough] * 100 - wanted[enough]).mean() < 2.5


def test_following_in_pieces_counts_what_following_at_once_does(cruise):
    drive, whole, rows = cruise
    table = drive.calibration.by_role("volumetric_efficiency")[0]
    growth, filling = Growth(opening_of(drive), drive.car.file.knowledge()), Filling(table)
    for number in range(len(rows) // 5):
        growth.add(Batch(number + 1, np.array(rows[5 * number : 5 * number + 5])))
        filling.follow(growth)
    once = Filling(table)
    once.follow(whole)
    assert filling.seconds == pytest.approx(once.seconds, abs=1e-6)
    assert filling.samples.sum() == pytest.approx(once.samples.sum(), rel=0.03)


def slow_pressure(rows: list[list[float]]) -> Growth:
    growth = Growth(
        Opening.read(
            {"channels": [{"name": "Engine speed", "unit": "rpm"}, {"name": "Intake pressure", "unit": "kPa"}]}
        )
    )
    for number, row in enumerate(rows, start=1):
        growth.add(Batch(number, np.array([row])))
        if number == 2:
            growth.look()
    return growth


def test_a_cell_is_known_for_three_periods_after_a_slow_channels_reading():
    """Rows every 0.2 s, pressure in the first and the last only: four of them have one, the fifth is too late."""
    nan = float("nan")
    rows = [[0.0, 900.0, 40.0], *([n / 5, 2000.0, 60.0 if n in (1, 6) else nan] for n in range(1, 8))]
    growth = slow_pressure(rows)
    table = make_table([[50.0] * 3, [60.0] * 3])
    filling = Filling(table)
    assert filling.follow(growth)
    i, j = int(table.x.nearest(np.array([2000.0]))[0]), int(table.y.nearest(np.array([60.0]))[0])
    assert filling.seconds[j, i] == pytest.approx(0.8 + 0.2)
    assert Position(table).at(growth, [4]).i == i
    assert Position(table).at(growth, [5]).i is None
    assert Position(table).at(growth, [3, 4, 5]).trail == Position(table).at(growth, [3, 4]).trail


@settings(max_examples=30)
@given(
    st.sampled_from((1, 4, 10, 25)), st.lists(st.integers(3, 9), min_size=40, max_size=50), st.integers(0, 2**32 - 1)
)
def test_seconds_of_a_coolant_that_is_sent_seldom_are_those_of_the_finished_log(every, sizes, seed):
    """Rows come in pieces of any size, most without a reading of the coolant, which is warm from some eight seconds on."""
    count = sum(sizes)
    steps = np.random.default_rng(seed).uniform(0.08, 0.12, count)
    rows_of = np.arange(count)
    coolant = np.where(rows_of % every == 0, np.where(rows_of > 80, 90.0, 40.0), np.nan)
    rows = np.column_stack([np.cumsum(steps) - steps[0], 2000.0 + rows_of % 3, 60.0 + rows_of % 2, coolant])
    names = (("Engine speed", "rpm"), ("Intake pressure", "kPa"), ("Coolant temperature", "°C"))
    growth = Growth(Opening.read({"channels": [{"name": name, "unit": unit} for name, unit in names]}))
    filling, at = Filling(make_table([[50.0] * 3, [60.0] * 3])), 0
    for number, size in enumerate(sizes, start=1):
        growth.add(Batch(number, rows[at : at + size]))
        filling.follow(growth)
        at += size
    last = rows_of // every * every
    warm = coolant[last] > 80
    assert growth.readings[2].quantity == "coolant_temperature"
    assert growth.latest("coolant_temperature") == coolant[last[-1]]
    assert filling.seconds.sum() == pytest.approx(np.diff(growth.time)[warm[:-1]].sum(), abs=1e-6)


def test_only_cells_that_changed_since_are_drawn_anew(cruise):
    drive, _, rows = cruise
    table = drive.calibration.by_role("volumetric_efficiency")[0]
    growth, filling = Growth(opening_of(drive), drive.car.file.knowledge()), Filling(table)
    known, turn = np.full((3, *table.shape), -1.0), -1
    for number in range(len(rows) // 5):
        growth.add(Batch(number + 1, np.array(rows[5 * number : 5 * number + 5])))
        filling.follow(growth)
        drawn = filling.touched > turn
        turn = filling.turn
        now = np.array([filling.seconds, filling.samples, filling.total])
        known[:, drawn] = now[:, drawn]
        assert np.array_equal(known, now)
    assert drawn.sum() < 4
    assert not filling.follow(growth)
    assert filling.turn == turn


def test_a_table_whose_axis_is_not_recorded_says_so():
    growth = Growth(Opening.read({"channels": [{"name": "Engine speed", "unit": "rpm"}]}))
    growth.add(Batch(1, np.array([[n / 10, 900.0 + n] for n in range(30)])))
    filling = Filling(make_table([[50.0] * 3, [50.0] * 3]))
    assert not filling.follow(growth)
    assert "manifold_pressure" in filling.problem


CHANNELS = ("Engine speed", "Coolant temperature", "Throttle", "Lambda target", "Lambda measured")


def running(
    seconds: float, speed: float = 2000, coolant: float = 90, opens: float = 0.0, target: float = 1.0
) -> Growth:
    units = ("rpm", "°C", "%", "1", "1")
    growth = Growth(Opening.read({"channels": [{"name": a, "unit": b} for a, b in zip(CHANNELS, units, strict=True)]}))
    rows = [[n / 10, speed, coolant, 10 + opens * n / 10, target, 1.0] for n in range(int(seconds * 10) + 1)]
    growth.add(Batch(1, np.array(rows)))
    return growth


@pytest.mark.parametrize(
    ("limits", "growth", "on_table", "why"),
    [
        ({"on": False}, {"seconds": 100}, True, CorrectionState.OFF),
        ({}, {"seconds": 100, "speed": 0}, True, CorrectionState.STANDING),
        ({}, {"seconds": 30}, True, CorrectionState.NOT_YET),
        ({}, {"seconds": 100, "coolant": 60}, True, CorrectionState.COLD),
        ({"opening": True}, {"seconds": 100}, True, CorrectionState.NOT_OPENING),
        ({"opening": True}, {"seconds": 100, "opens": 0.5}, True, CorrectionState.RUNNING),
        ({}, {"seconds": 100}, False, CorrectionState.OFF_TABLE),
        ({}, {"seconds": 100, "target": 0.0}, True, CorrectionState.NO_TARGET),
        ({}, {"seconds": 100}, True, CorrectionState.RUNNING),
    ],
)
def test_it_is_said_whether_a_correction_runs_and_why_not(limits, growth, on_table, why):
    assert state_now(LiveLimits(**{"on": True} | limits), running(**growth), None, on_table)[0] is why


def test_running_is_counted_from_the_last_time_the_engine_stood():
    growth = running(20)
    growth.add(Batch(2, np.array([[20.1 + n / 10, 0.0 if n < 5 else 900.0, 90, 10, 1, 1] for n in range(50)])))
    assert running_seconds(growth) == pytest.approx(4.4, abs=0.11)


@given(st.floats(1, 30), st.floats(0.1, 20), st.integers(1, 500), st.floats(1, 100), st.floats(0, 100))
def test_limits_never_loosen_the_rounds_policy(limit, dwell_s, samples, percent, strength):
    of_round = Policy(limit_percent=limit, minimum_samples=samples, minimum_dwell_s=dwell_s, strength=strength)
    held = LiveLimits(on=True, percent=min(percent, 25)).policy(of_round)
    assert held.limit_percent <= limit
    assert held.minimum_samples >= samples
    assert held.minimum_dwell_s >= dwell_s
    assert held.strength <= strength
    assert held.unreached == "leave"
    assert set(of_round.where) < set(held.where)


@settings(max_examples=seeds(40, 100))
@given(st.floats(800, 6500), st.floats(25, 180), st.booleans())
def test_a_position_is_the_operating_point(speed, pressure, ratio):
    """Worked out row by row as what the reading page works out of arrays; on an axis that has to be derived as well."""
    table = make_table([[50.0] * 3, [60.0] * 3])
    if ratio:
        table = replace(table, y=Axis("pressure_ratio", "1", frozen([0.4, 0.8])))
    names = [("Engine speed", "rpm"), ("Intake pressure", "kPa"), ("Barometric pressure", "kPa")]
    growth = Growth(Opening.read({"channels": [{"name": a, "unit": b} for a, b in names]}))
    moved = [[n / 10, speed + n, pressure + n / 10, 98.0] for n in range(30)]
    growth.add(Batch(1, np.array(moved)))
    rows = [10, 15, 20]
    found = Position(table).at(growth, rows)
    data = np.array(moved)[rows]
    up = data[:, 2] / data[:, 3] if ratio else data[:, 2]
    told = operating_point(table, data[:, 1], up)
    assert (found.i, found.j) == (told.i, told.j)
    assert (found.x, found.y) == pytest.approx((told.x, told.y))
    assert np.array(found.trail) == pytest.approx(np.array(told.trail), abs=0.0011)
