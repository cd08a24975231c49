"""A channel in doubt is asked about before anything is computed from it, and the answer is remembered."""

from __future__ import annotations

import re

import pytest

from uchiwa.services import importing
from uchiwa.standin.defects import changed
from uchiwa.standin.fleet import car_named
from uchiwa.standin.logger import write_delimited
from uchiwa.standin.simulate import simulate
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import LogFile


@pytest.fixture(scope="module")
def mislabelled() -> str:
    """A drive whose intake pressure is in psi and labelled kPa."""
    car = car_named("corvid-pike")
    log = changed(simulate(car, car.base(), "mixed_road", 21), manifold_pressure=lambda _t, v, _s: v / 6.894757)
    return write_delimited(log)


def test_fuel_asks_about_a_channel_in_doubt_and_goes_on_when_it_is_told(client, scene, mislabelled):
    path = f"/jobs/{scene.job.id}/rounds/1"
    client.send_form(f"{path}/logs/upload", files={"files": ("psi.csv", mislabelled)})
    with unit_of_work():
        log = LogFile.get(LogFile.job == scene.job, LogFile.name == "psi.csv")
    importing.import_log(log.id)
    page = client.get(f"{path}/fuel").text
    assert 'data-quantity="manifold_pressure"' in page
    assert "It is psi" in page
    assert 'role="grid"' not in page, "nothing is computed before somebody answers"
    for beside in ("spark/knock", "airflow"):
        assert 'data-quantity="manifold_pressure"' in client.get(f"{path}/{beside}").text, beside
    name, unit = (re.search(rf'name="{key}" value="([^"]+)"', page)[1] for key in ("name", "unit"))
    form = {"name": name, "unit": unit, "quantity": "manifold_pressure", "as_unit": "psi", "back": "fuel"}
    answer = client.send_form(f"{path}/logs/{log.id}/channel", form)
    assert answer.headers["location"].endswith("/fuel")
    importing.import_log(log.id)
    page = client.get(f"{path}/fuel").text
    assert 'data-quantity="manifold_pressure"' not in page
    assert 'role="grid"' in page
    wrong = client.send_form(f"{path}/logs/{log.id}/channel", form | {"as_unit": "furlongs"})
    assert wrong.status_code == 400
