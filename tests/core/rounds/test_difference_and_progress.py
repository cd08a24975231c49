from dataclasses import replace

import numpy as np
import pytest

from tests.conftest import make_table
from uchiwa.core.airflow.speed_density import charge_temperature, cylinder_air, engine_airflow
from uchiwa.core.rounds.progress import Move, RoundFacts, Station, StationState, next_station, standings, whose_move
from uchiwa.core.tables.difference import difference, signed
from uchiwa.core.tables.table import Calibration, Constant


def test_difference_of_tables_and_constants(calibration, table):
    grid = table.grid.copy()
    grid[0, 1], grid[1, 2] = 55.0, 49.0
    after = replace(
        calibration.with_table(table.with_grid(grid)),
        constants=(Constant("displacement", "displacement", 1.9, "L"), calibration.constants[1]),
    )
    change = difference(calibration, after)
    assert change.tables[0].changed.sum() == 2
    assert change.tables[0].percent[0, 1] == pytest.approx(10.0)
    assert change.tables[0].sentence == "Volumetric efficiency: 2 cells changed, −2.0 … +10.0 %"
    assert change.constants == (("displacement", 2.0, 1.9),)
    assert difference(calibration, calibration).empty


def test_spark_differs_by_degrees_and_not_by_percent(calibration, table):
    spark = replace(table, id="spark", role="spark_advance", unit="deg")
    grid = spark.grid.copy()
    grid[0, 0] -= 2.0
    before = replace(calibration, tables=(spark,))
    assert (
        difference(before, before.with_table(spark.with_grid(grid)))
        .tables[0]
        .sentence.endswith("1 cell changed, −2.0°")
    )
    grid[1, 1] += 1.5
    change = difference(before, before.with_table(spark.with_grid(grid))).tables[0]
    assert change.sentence.endswith("2 cells changed, −2.0 … +1.5°")


def test_tables_that_came_went_or_changed_axes(calibration, table):
    other = replace(table, id="other")
    moved = replace(table, x=replace(table.x, breakpoints=np.array([900.0, 2000.0, 3000.0])))
    change = difference(calibration, Calibration("c", "C", calibration.constants, (moved, other)))
    assert change.only_after == ("other",)
    assert change.other_axes == ("ve_main",)
    assert difference(Calibration("c", "C", (), (table, other)), Calibration("c", "C", (), (table,))).only_before == (
        "other",
    )


def test_a_table_of_zeros_is_told_in_its_own_unit():
    zero = make_table([[0.0] * 3, [0.0] * 3])
    after = zero.with_grid(np.full((2, 3), 4.0))
    change = difference(Calibration("c", "C", (), (zero,)), Calibration("c", "C", (), (after,)))
    assert change.tables[0].sentence.endswith(": 6 cells changed, +4.0 %")


@pytest.mark.parametrize(("value", "text"), [(0.04, "0.0"), (-0.04, "0.0"), (1.25, "+1.2"), (-3.0, "−3.0")])
def test_signed_numbers(value, text):
    assert signed(value) == text


def test_speed_density_by_hand():
    # 0.5 L at 100 kPa and 26.85 °C (300 K), VE 80 %: 0.8·1e5·0.0005/(287.05·300) kg = 0.46449 g.
    air = cylinder_air(np.array([80.0]), np.array([100.0]), np.array([26.85]), 2.0, 4)
    assert air[0] == pytest.approx(0.46449, rel=1e-4)
    assert engine_airflow(air, 4, np.array([3000.0]))[0] == pytest.approx(0.46449 * 4 * 25, rel=1e-4)
    assert charge_temperature(np.array([20.0]), np.array([90.0]), 0.2)[0] == pytest.approx(34.0)


@pytest.mark.parametrize(
    ("facts", "station", "move", "sentence"),
    [
        (RoundFacts(1), Station.LOGS, Move.THEIRS, "Nothing recorded yet"),
        (RoundFacts(3), Station.LOGS, Move.THEIRS, "Revision 2 sent, not yet downloaded"),
        (
            RoundFacts(3, running=1, carried="downloaded"),
            Station.LOGS,
            Move.THEIRS,
            "Revision 1 downloaded, not yet flashed",
        ),
        (
            RoundFacts(3, running=2, carried="flashed"),
            Station.LOGS,
            Move.THEIRS,
            "Revision 2 flashed, nothing recorded with it yet",
        ),
        (RoundFacts(1, logs_reading=2), Station.LOGS, Move.YOURS, "2 logs being read"),
        (RoundFacts(1, logs_refused=1), Station.LOGS, Move.YOURS, "The log cannot be used"),
        (RoundFacts(2, logs_ready=1), Station.FUEL, Move.YOURS, "1 log accepted, fuel is next"),
        (RoundFacts(2, logs_ready=2, taken=1), Station.REVIEW, Move.YOURS, "Draft ready to review"),
    ],
)
def test_whose_move_it_is(facts, station, move, sentence):
    assert next_station(facts) is station
    assert whose_move(facts, closed=False) == (move, sentence)


def test_a_closed_job_is_at_rest():
    assert whose_move(RoundFacts(4), closed=True) == (Move.REST, "Done in 3 rounds")
    assert set(standings(RoundFacts(4), closed=True).values()) == {StationState.DONE}


def test_the_fan():
    standing = standings(RoundFacts(2, logs_ready=1, taken=1), Station.FUEL)
    assert standing[Station.LOGS] is StationState.DONE
    assert standing[Station.FUEL] is StationState.HERE
    assert standing[Station.REVIEW] is StationState.TO_COME
    assert standing[Station.BRIEF] is StationState.DONE
    assert standing[Station.SPARK] is StationState.TO_COME
    assert standing[Station.IDLE] is StationState.TO_COME
    idled = standings(RoundFacts(2, logs_ready=1, taken=2, idled=2), Station.REVIEW)
    assert idled[Station.IDLE] is StationState.DONE
    assert idled[Station.FUEL] is StationState.TO_COME
    assert next_station(RoundFacts(1, logs_ready=1, purpose="idle")) is Station.IDLE
    sparked = standings(RoundFacts(2, logs_ready=1, taken=1, sparked=1), Station.REVIEW)
    assert sparked[Station.SPARK] is StationState.DONE
    assert sparked[Station.FUEL] is StationState.TO_COME
    assert next_station(RoundFacts(2, logs_ready=2, logs_dyno=2)) is Station.SPARK
    assert next_station(RoundFacts(2, logs_ready=2, logs_dyno=1)) is Station.FUEL
    assert standings(RoundFacts(1, logs_refused=1))[Station.LOGS] is StationState.NEEDS_YOU
    assert StationState.HERE not in standings(RoundFacts(1, logs_ready=1, taken=1, frozen=True)).values()
