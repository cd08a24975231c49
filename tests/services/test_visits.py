"""Where a round's logs were on a table, how long, where it knocked, and when: by hand."""

from __future__ import annotations

import numpy as np
import pytest

from tests.conftest import make_log, make_table
from tests.store.conftest import Scene, ready
from uchiwa.services.visits import TRAIL, moments, visits
from uchiwa.standin.logger import write_delimited
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import LogFile

RATE = 20.0
TABLE = make_table([[50.0] * 3, [60.0] * 3])  # 1000, 2000, 3000 rpm over 40, 80 kPa
LOW, HIGH = (1, 0), (1, 1)


def samples_of(seconds: float) -> int:
    return round(seconds * RATE)


def received(scene: Scene, parts: list[tuple[float, float, float, float]], name: str, **changed: object) -> LogFile:
    """A log of stretches of (s, rpm, kPa, ° of knock retard), imported."""
    counts = [samples_of(seconds) for seconds, *_ in parts]

    def laid(which: int) -> np.ndarray:
        return np.concatenate([np.full(count, part[which]) for count, part in zip(counts, parts, strict=True)])

    signals = {
        "engine_speed": laid(1),
        "manifold_pressure": laid(2),
        "knock_retard": laid(3),
        "coolant_temperature": 90.0,
    }
    kept = {key: value for key, value in (signals | changed).items() if value is not None}
    log, _ = scene.receive(write_delimited(make_log(RATE, name, **kept)), name)
    return ready(log)


def of(logs, table=TABLE):
    with unit_of_work():
        return visits([LogFile.get_by_id(log.id) for log in logs], table)


def when(logs, cells, table=TABLE):
    with unit_of_work():
        return moments([LogFile.get_by_id(log.id) for log in logs], table, cells)


def test_seconds_and_the_worst_retard_stand_in_their_cells(scene: Scene):
    log = received(scene, [(10, 2000, 40, 0), (6, 2000, 80, 1.5), (4, 2010, 82, 3.0), (5, 1000, 40, 0)], "one.csv")
    found = of([log]).visited
    assert found.dwell[0, 1] == pytest.approx(10, abs=0.2)
    assert found.dwell[1, 1] == pytest.approx(10, abs=0.2)
    assert found.dwell[0, 0] == pytest.approx(5, abs=0.2)
    assert found.retard[1, 1] == pytest.approx(3.0)
    assert found.retard[0].max() == 0.0


def test_several_logs_add_up_and_the_worst_of_all_stays(scene: Scene):
    one = received(scene, [(8, 2000, 80, 1.0), (2, 1000, 40, 0.0)], "one.csv")
    other = received(scene, [(5, 2000, 80, 2.5), (2, 1000, 40, 0.0)], "other.csv")
    found = of([one, other]).visited
    assert found.dwell[1, 1] == pytest.approx(13, abs=0.3)
    assert found.retard[1, 1] == pytest.approx(2.5)


def test_an_engine_that_stands_visits_nothing(scene: Scene):
    log = received(scene, [(10, 0, 98, 0), (10, 2000, 40, 0)], "start.csv")
    found = of([log]).visited
    assert found.dwell.sum() == pytest.approx(10, abs=0.2)


def test_what_lies_off_the_table_is_in_no_cell(scene: Scene):
    log = received(scene, [(10, 6000, 40, 4.0), (10, 2000, 200, 4.0), (3, 2000, 40, 0)], "far.csv")
    found = of([log]).visited
    assert found.dwell.sum() == pytest.approx(3, abs=0.2)
    assert found.retard.max() == 0.0


def test_a_log_without_an_axis_is_passed_over_and_said_by_its_absence(scene: Scene):
    log = received(scene, [(10, 2000, 40, 0)], "short.csv", manifold_pressure=None)
    found = of([log])
    assert not found.visited.logged
    assert found.visited.dwell.sum() == 0.0
    assert found.trail.shape == (0, 2)
    assert when([log], [LOW])[1] == []


def test_the_trail_is_of_the_longest_log_and_never_longer_than_it_may_be(scene: Scene):
    short = received(scene, [(5, 1000, 40, 0)], "short.csv")
    long = received(scene, [(30, 2000, 40, 0), (30, 3000, 80, 0)], "long.csv")
    trail = of([short, long]).trail
    assert trail.shape == (TRAIL, 2)
    assert {tuple(point) for point in trail.round().tolist()} == {(2000.0, 40.0), (3000.0, 80.0)}


def test_moments_come_from_the_log_that_was_longest_in_the_cells(scene: Scene):
    one = received(scene, [(4, 2000, 40, 0), (4, 1000, 40, 0)], "one.csv")
    other = received(scene, [(5, 1000, 40, 0), (9, 2000, 40, 0), (5, 1000, 40, 0), (3, 2000, 40, 0)], "other.csv")
    log, spans = when([one, other], [LOW])
    assert log.id == other.id
    assert [round(end - start) for start, end in spans] == [9, 3]
    assert spans[0][0] == pytest.approx(5, abs=0.2)


def test_moments_in_a_cell_nobody_was_in_are_none_and_without_logs_there_is_nothing(scene: Scene):
    log = received(scene, [(5, 1000, 40, 0), (5, 1100, 40, 0)], "one.csv")
    found, spans = when([log], [HIGH])
    assert (found.id, spans) == (log.id, [])
    assert when([], [HIGH]) is None


def test_over_one_axis_every_pressure_counts(scene: Scene):
    curve = TABLE.__class__("curve", "A curve", "lambda_target", "1", TABLE.x, None, TABLE.grid[:1], None, None, 2)
    log = received(scene, [(5, 2000, 40, 0), (5, 2000, 180, 2.0)], "one.csv")
    found = of([log], curve).visited
    assert found.dwell[0, 1] == pytest.approx(10, abs=0.2)
    assert found.retard[0, 1] == pytest.approx(2.0)
