import copy
import json

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from uchiwa.core.errors import BadInput
from uchiwa.core.tables.interchange import calibration_json as cj
from uchiwa.standin.cars import pike_base

GOOD = {
    "format": "uchiwa.calibration/1",
    "id": "demo-pike",
    "title": "Demo",
    "constants": [{"id": "displacement", "role": "displacement", "value": 1.998, "unit": "L"}],
    "tables": [
        {
            "id": "ve_main",
            "title": "VE",
            "role": "volumetric_efficiency",
            "unit": "%",
            "x": {"quantity": "engine_speed", "unit": "rpm", "breakpoints": [600, 1000, 1500]},
            "y": {"quantity": "manifold_pressure", "unit": "kPa", "breakpoints": [20, 60]},
            "values": [[45, 50, 52], [60, 66, 70.5]],
            "minimum": 0,
            "maximum": 160,
            "decimals": 1,
        },
        {
            "id": "warm",
            "title": "Warm-up",
            "role": "warmup_factor",
            "unit": "%",
            "x": {"quantity": "coolant_temperature", "unit": "degC", "breakpoints": [-20, 80]},
            "values": [150, 100],
        },
    ],
}


def test_values_stand_where_the_format_says():
    table = cj.loads(json.dumps(GOOD)).table("ve_main")
    assert table.grid[1, 2] == 70.5  # y = 60, x = 1500
    assert table.x.breakpoints[2] == 1500
    assert cj.loads(json.dumps(GOOD)).table("warm").y is None


def test_writing_and_reading_keeps_everything():
    first = cj.loads(json.dumps(GOOD))
    text = cj.dumps(first)
    again = cj.loads(text)
    assert cj.dumps(again) == text
    assert cj.as_dict(again) == cj.as_dict(first)
    assert cj.content_hash(again) == cj.content_hash(first)


@given(st.lists(st.floats(-1e6, 1e6, allow_nan=False), min_size=6, max_size=6))
def test_any_number_survives_exactly(values):
    raw = copy.deepcopy(GOOD)
    raw["tables"][0]["values"] = [values[:3], values[3:]]
    once = cj.loads(json.dumps(raw))
    again = cj.loads(cj.dumps(once))
    assert np.array_equal(again.table("ve_main").grid, once.table("ve_main").grid)
    assert np.array_equal(once.table("ve_main").grid.ravel(), np.array(values))


def _change(path, value=None, *, drop=False):
    raw = copy.deepcopy(GOOD)
    place = raw
    for part in path[:-1]:
        place = place[part]
    if drop:
        del place[path[-1]]
    else:
        place[path[-1]] = value
    return raw


@pytest.mark.parametrize(
    ("raw", "where", "said"),
    [
        (_change(["tables", 0, "values"], [[1, 2, 3], [1, 2]]), "tables[0].values[1]", "ragged"),
        (_change(["tables", 0, "values"], [[1, 2, 3]]), "tables[0].values", "1 rows for 2"),
        (_change(["tables", 0, "x", "breakpoints"], [600, 1500, 1000]), "tables[0].x.breakpoints[2]", "do not rise"),
        (_change(["tables", 0, "x", "breakpoints"], [600, 600, 1000]), "tables[0].x.breakpoints[1]", "do not rise"),
        (_change(["tables", 0, "colour"], 1), "tables[0].colour", "not known"),
        (_change(["extra"], 1), "extra", "not known"),
        (_change(["tables", 0, "values", 0, 1], float("nan")), "tables[0].values[0][1]", "NaN"),
        (_change(["tables", 0, "x", "breakpoints", 0], float("inf")), "tables[0].x.breakpoints[0]", "NaN"),
        (_change(["tables", 0, "role"], drop=True), "tables[0].role", "missing"),
        (_change(["tables", 0, "role"], "gearbox"), "tables[0].role", "input should be"),
        (_change(["tables", 0, "values", 0, 1], "50"), "tables[0].values", "valid number"),
        (_change(["tables", 1, "id"], "ve_main"), "tables[1].id", "used twice"),
        (_change(["tables", 0, "x", "quantity"], "noise"), "tables[0].x.quantity", "not a quantity"),
        (_change(["tables", 0, "x", "unit"], "kPa"), "tables[0].x.unit", "cannot be turned into"),
        (_change(["format"], "other/1"), "format", "uchiwa.calibration/1"),
    ],
)
def test_faults_are_said_with_their_path(raw, where, said):
    with pytest.raises(BadInput) as error:
        cj.loads(json.dumps(raw), "x.json")
    assert str(error.value).startswith(f"x.json, {where}")
    assert said in str(error.value)
    assert "\n" not in str(error.value)


@pytest.mark.parametrize("text", ["", "{", "[]", "12", '"words"', b"\xff\xfe\x00", "[" * 5000])
def test_what_is_not_a_calibration_is_refused(text):
    with pytest.raises(BadInput):
        cj.loads(text, "x.json")


def test_the_shipped_schema_is_the_one_of_the_code():
    from pathlib import Path

    shipped = Path(cj.__file__).with_name("calibration.schema.json")
    assert json.loads(shipped.read_text()) == cj.schema()


def test_the_standins_calibration_is_valid():
    base = pike_base()
    assert cj.dumps(cj.loads(cj.dumps(base))) == cj.dumps(base)
