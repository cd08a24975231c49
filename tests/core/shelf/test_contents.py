"""What a file is that is put on the shelf."""

from __future__ import annotations

import json

import pytest

from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.errors import BadInput
from uchiwa.core.shelf.contents import ShelfKind, car_document, read_content
from uchiwa.core.tables.image import layout_json
from uchiwa.core.tables.interchange import calibration_json, cdf
from uchiwa.standin.a2l import description_of
from uchiwa.standin.bus import dbc_of
from uchiwa.standin.files import PIKE_FILE
from uchiwa.standin.fleet import car_named
from uchiwa.standin.layouts import image_of, layout_of
from uchiwa.standin.simulate import simulate

CAR = car_named("corvid-pike")


@pytest.mark.parametrize(
    ("data", "kind"),
    [
        (calibration_json.dumps(CAR.base()).encode(), ShelfKind.CALIBRATION),
        (cdf.dumps(CAR.base()), ShelfKind.CALIBRATION),
        (layout_json.dumps(layout_of(CAR)).encode(), ShelfKind.LAYOUT),
        (b"\xef\xbb\xbf" + layout_json.dumps(layout_of(CAR)).encode(), ShelfKind.LAYOUT),
        (description_of(layout_of(CAR)).encode(), ShelfKind.DESCRIPTION),
        (dbc_of(simulate(CAR, CAR.base(), "warm_idle", 1)).encode(), ShelfKind.BUS),
        (car_document(PIKE_FILE), ShelfKind.CAR),
        (b'{"displacement": 1.998, "cylinders": 4}', ShelfKind.CAR),
    ],
)
def test_a_file_is_known_by_what_stands_in_it(data, kind):
    found = read_content(data, "file")
    assert found.kind is kind
    assert found.title


def test_a_car_file_survives():
    found = read_content(car_document(PIKE_FILE), "car.json").read
    assert isinstance(found, CarFile)
    assert found == PIKE_FILE


@pytest.mark.parametrize(
    ("data", "why"),
    [
        (b"", "empty"),
        (b"time,rpm\n0,1\n", "nothing that the shelf holds"),
        (b"{", "not JSON"),
        (b"{}", "nothing that the shelf holds"),
        (b"[1]", "nothing that the shelf holds"),
        (json.dumps({"format": "uchiwa.calibration/1"}).encode(), "missing"),
        (json.dumps({"format": "uchiwa.car/1", "wheels": 4}).encode(), "wheels"),
        (b"<a/>", "no CDF"),
        (b"/begin PROJECT P", "does not end"),
        (b"VERSION ", "DBC"),
        (image_of(CAR).segments[0].data, "nothing that the shelf holds"),
    ],
)
def test_anything_else_is_refused_in_one_sentence(data, why):
    with pytest.raises(BadInput, match=why) as refused:
        read_content(data, "file")
    assert "\n" not in str(refused.value)
