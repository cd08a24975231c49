"""Descriptions of archived jobs: a whole one is let in; one that contradicts itself is refused in a sentence."""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Any

import pytest

from uchiwa.core.briefs.brief import Brief
from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.cars.temporary_setups import Active, SwitchedSetting, as_data
from uchiwa.core.errors import BadInput
from uchiwa.store import archive_format as form
from uchiwa.store.archive_checks import check_description

THEN, ONE, OTHER = "2026-03-01T10:00:00", "1" * 64, "2" * 64
SETUP = Active("No idle control", (SwitchedSetting("constant", "idle_on", 1.0, 0.0), SwitchedSetting("table", "idle_air", ((3.0, 4.0),), 0.0)), ())  # fmt: skip


def whole() -> dict[str, Any]:
    """A job in its second round: one revision sent, one withdrawn, a step, an answer, pins and a setup."""

    def revision(number: int, **more: Any) -> dict[str, Any]:
        return {
            "number": number, "parent": number - 1 if number else None, "round": number or None, "calibration": ONE, "by": "Orrell",
            "notes": "", "frozen_at": THEN, "final": False, "report": "", "brief": "", "downloaded_at": None, "flashed_at": None,
            "withdrawn_at": None, "withdrawn_why": "", "image": None,
        } | more  # fmt: skip

    def round_(number: int, returned_at: str | None) -> dict[str, Any]:
        return {"number": number, "policy": "{}", "brief": "", "opened_at": THEN, "returned_at": returned_at}

    return {
        "format": "uchiwa.job/1", "customer": "I. Marlow", "car": "Corvid Pike", "details": "", "car_file": CarFile(cylinders=4).model_dump_json(),
        "closed": False, "setup": None, "moved_at": THEN, "image": None,
        "rounds": [round_(1, THEN), round_(2, None)],
        "logs": [
            {"path": "logs/1/a.csv", "name": "a.csv", "round": 1, "sha256": OTHER, "accepted": True, "decided": False, "baseline": True,
             "by_customer": True, "uploaded_at": THEN, "was": 7},
        ],
        "revisions": [revision(0), revision(1), revision(2, parent=1, round=2, withdrawn_at=THEN, withdrawn_why="the wrong fuel")],
        "draft": {"base": 1, "calibration": OTHER, "version": 3, "pins": '{"ve_main": [[1, 2], [3, 4]]}'},
        "events": [
            {"kind": "edit", "round": 1, "by": "Orrell", "at": THEN, "sentence": "12 cells +2 %", "inputs": {"cells": 12},
             "before": ONE, "after": OTHER, "put_back": False, "abandoned": False, "version": 2},
        ],
        "answers": [
            {"round": 1, "concern": "jump", "rule": "jump", "sentence": "A cell stands out.", "reason": "meant", "by": "Orrell", "at": THEN},
        ],
        "messages": [], "channels": [],
    }  # fmt: skip


def check(data: dict[str, Any]) -> None:
    check_description(form.JobPart.model_validate(data), "job.zip")


def test_a_whole_description_is_let_in():
    data = whole()
    check(data)
    data["rounds"][1]["brief"] = Brief().model_dump_json()
    data["setup"] = json.dumps(as_data(SETUP))
    data["events"][0] |= {"kind": "freeze", "before": None, "after": None, "inputs": {"steps": [1], "parent": 0}}
    check(data)


def change(path: str, value: Any) -> Callable[[dict[str, Any]], None]:
    """Put a value at a place such as `rounds.0.brief`."""

    def apply(data: dict[str, Any]) -> None:
        here: Any = data
        *way, last = path.split(".")
        for part in way:
            here = here[int(part)] if isinstance(here, list) else here[part]
        here[int(last) if isinstance(here, list) else last] = value

    return apply


UNREADABLE = "car file, policies, briefs, pins or setup cannot be read"
FAULTS = [
    ("rounds.1.number", 1, "rounds are missing or there twice"),
    ("rounds.0.returned_at", None, "the last round is not the one that is open"),
    ("rounds.1.returned_at", THEN, "the last round is not the one that is open"),
    ("revisions.1.number", 0, "revisions are missing or there twice"),
    ("draft.base", 4, "revisions are missing or there twice"),
    ("revisions.1.parent", 5, "a revision was made from one that is not there"),
    ("revisions.1.parent", 1, "a revision was made from one that is not there"),
    ("revisions.0.withdrawn_at", THEN, "what the car came with cannot have been withdrawn"),
    ("revisions.2.withdrawn_at", None, "the draft does not stand on the revision that was sent last"),
    ("logs.0.round", 3, "something belongs to a round that is not there"),
    ("answers.0.round", 3, "something belongs to a round that is not there"),
    ("revisions.1.round", 3, "something belongs to a round that is not there"),
    ("rounds.0.policy", "{", UNREADABLE),
    ("rounds.0.policy", "[]", "should be a valid dictionary"),
    ("rounds.0.spark", "[]", UNREADABLE),
    ("rounds.0.brief", "{", UNREADABLE),
    ("draft.pins", "[]", UNREADABLE),
    ("draft.pins", '{"ve_main": 3}', UNREADABLE),
    ("draft.pins", '{"ve_main": [[1]]}', UNREADABLE),
    ("draft.pins", '{"ve_main": [[1, 2.5]]}', UNREADABLE),
    ("draft.pins", '{"ve_main": [[1, true]]}', UNREADABLE),
    ("draft.pins", '{"ve_main": [7]}', UNREADABLE),
    ("setup", '{"name": "half"}', UNREADABLE),
    ("setup", "[]", UNREADABLE),
    ("setup", '{"name": "x", "absent": [], "switched": [{"kind": "constant", "id": "a", "before": "b", "during": 1}]}', UNREADABLE),
    ("events.0.before", None, "a step “edit” does not say what it changed"),
    ("events.0.after", None, "a step “edit” does not say what it changed"),
    ("events.0.inputs", {"cells": float("inf")}, "not what JSON can carry"),
]  # fmt: skip


@pytest.mark.parametrize(("path", "value", "said"), FAULTS, ids=[f"{path}={value}" for path, value, _ in FAULTS])
def test_a_description_that_contradicts_itself_is_refused_with_where_and_what_to_do(path, value, said):
    data = whole()
    change(path, value)(data)
    with pytest.raises(BadInput) as error:
        check(data)
    assert said in error.value.what
    assert error.value.where == "job.zip, job.json"
    assert error.value.advice == "export the job again"


@pytest.mark.parametrize(
    ("kind", "inputs", "at"),
    [
        ("take", {"policy": {"strength": "much"}}, "policy.strength"),
        ("take", {"policy": {"limit_percent": 1e13}}, "policy.limit_percent"),
        ("take", {"samples": -1}, "samples"),
        ("take", {"samples_left_out": {"cold": "some"}}, "samples_left_out.cold"),
        ("spark", {"clusters": [{"counts": "perhaps"}]}, "clusters.0.counts"),
        ("clamp", {"speeds": [{"speed": 1000}, {"speed": None}]}, "speeds.1.speed"),
        ("idle", {"logs": ["a", 7]}, "logs.1"),
        ("freeze", {"answers": [{"sentence": "s", "by": "b"}]}, "answers.0.reason"),
        ("freeze", {"steps": "all"}, "steps"),
    ],
)
def test_inputs_of_a_step_that_no_page_could_show_are_refused_with_their_place(kind, inputs, at):
    data = whole()
    data["events"][0] |= {"kind": kind, "inputs": inputs}
    with pytest.raises(BadInput, match=f"the inputs of a step “{kind}” are wrong at {at}"):
        check(data)
    data["events"][0]["inputs"] = {}
    check(data)
