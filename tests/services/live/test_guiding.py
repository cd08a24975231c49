"""What a driver is told, from the round's brief, its earlier logs and the session so far."""

from __future__ import annotations

import json

import pytest

from tests.store.conftest import Scene, log_text, ready
from uchiwa.core.live.advice import Ask
from uchiwa.services.live import growing, passing
from uchiwa.services.live.guiding import Guide
from uchiwa.store import briefs
from uchiwa.store.database import unit_of_work

CHANNELS = (
    ("Engine speed", "rpm"),
    ("Intake pressure", "kPa"),
    ("Barometric pressure", "kPa"),
    ("Coolant temperature", "°C"),
    ("Vehicle speed", "km/h"),
)
IDLE, CRUISE = (820.0, 32.0), (2000.0, 60.0)
EVERY_S = 0.1


class Drive:
    """A session of the five channels, driven by hand."""

    def __init__(self, scene: Scene) -> None:
        opening = {"channels": [{"name": name, "unit": unit} for name, unit in CHANNELS]}
        self.session = passing.begin(scene.job, scene.round, json.dumps(opening).encode()).session
        self.rows = self.batch = 0
        self.guide: Guide | None = None

    def goes_on(self, seconds: float, where: tuple[float, float], coolant: float = 90.0, road: float = 0.0) -> Guide:
        """Rows of so many seconds, taken in by the guide."""
        count = round(seconds / EVERY_S)
        speed, pressure = where
        # The last digits move, as those of sensors do.
        rows = [
            [round((self.rows + n) * EVERY_S, 3), speed + n % 3, pressure + 0.1 * (n % 2), 99.0, coolant, road]
            for n in range(count)
        ]
        self.rows += count
        self.batch += 1
        passing.take(self.session, [json.dumps({"batch": self.batch, "rows": rows}).encode()])
        followed = growing.follow(self.session)
        followed.advance()
        self.guide = self.guide or Guide(followed)
        return self.guide


@pytest.fixture
def drive(scene: Scene) -> Drive:
    """Of a round with a standard brief."""
    with unit_of_work():
        briefs.keep(scene.round, briefs.standard(scene.job, scene.round))
    return Drive(scene)


@pytest.fixture(autouse=True)
def nothing_followed():
    yield
    growing.forget()


def wanted_after(guide: Guide) -> float:
    guide.advise()
    return guide.idle_wanted_s


@pytest.mark.parametrize(
    ("coolant", "road", "counts"),
    [(90.0, 0.0, True), (60.0, 0.0, False), (90.0, 40.0, False)],
    ids=["warm and standing", "cold", "rolling"],
)
def test_only_warm_idle_that_stands_is_counted_off_what_the_brief_wants(drive, coolant, road, counts):
    before = wanted_after(drive.goes_on(3, IDLE, 60.0))
    assert before > 10
    after = wanted_after(drive.goes_on(8, IDLE, coolant, road))
    assert before - after == pytest.approx(8.0 if counts else 0.0, abs=0.25)


def test_idle_is_asked_for_while_it_idles_and_cruising_when_it_is_there(drive):
    assert drive.goes_on(5, IDLE, 60.0).advise().ask is Ask.WARM_UP
    told = drive.goes_on(5, IDLE).advise()
    assert told.ask is Ask.IDLE
    assert told.seconds == pytest.approx(drive.guide.idle_wanted_s)
    assert drive.goes_on(40, IDLE).advise().ask is Ask.HOLD
    assert drive.guide.idle_wanted_s == 0.0


def test_the_cell_under_the_engine_is_held_until_it_has_enough(drive):
    drive.goes_on(1.2, IDLE)
    told = drive.goes_on(0.9, CRUISE).advise()
    assert told.here
    table = drive.guide.filling.table
    i, j = told.cell
    assert table.x.breakpoints[i] == pytest.approx(2000, abs=250)
    held = drive.guide.coverage().seconds[j, i]
    assert held == pytest.approx(0.8, abs=0.15)
    assert drive.goes_on(6, CRUISE).advise().cell != (i, j)


def test_what_earlier_logs_of_the_round_have_covered_is_not_asked_for_again(scene: Scene, drive):
    alone = drive.goes_on(1, CRUISE).coverage()
    log, _ = scene.receive(log_text(3, size=4000))
    ready(log)
    with_it = Guide(growing.follow(drive.session)).coverage()
    assert with_it.seconds.sum() > alone.seconds.sum() + 60
    assert with_it.share > alone.share


def test_without_a_brief_nothing_is_asked(scene: Scene):
    guide = Drive(scene).goes_on(2, CRUISE)
    assert guide.coverage() is None
    assert guide.idle_wanted_s == 0.0
    assert guide.enough_percent == 100.0
    assert guide.advise().ask is Ask.NOTHING
