"""What a watcher is told of the worker's analysis: each part when it is new, and no cells, which the table draws."""

from __future__ import annotations

import json
from types import SimpleNamespace

from uchiwa.core.live.limits import LiveLimits
from uchiwa.services.live.analysis import Analysis
from uchiwa.web.live.telling import Teller

CELL = {"i": 2, "j": 3, "state": "changed", "factor": 1.04}


def analysis(number: int, **parts: object) -> Analysis:
    found = {"through": number, "findings": [], "drives": [], "items": [], "correction": None} | parts
    return Analysis.of(
        SimpleNamespace(
            analysis=json.dumps(found), analysed=number, limits_version=1, limits=LiveLimits(on=True).model_dump_json()
        )
    )


def test_only_what_is_new_is_told():
    follower = SimpleNamespace(analysis=Analysis())
    teller = Teller(follower, ())
    assert teller.found() == {}
    follower.analysis = analysis(1, findings=["a"], correction={"used": 5, "cells": [CELL]})
    first = {"findings": ["a"], "drives": [], "items": [], "correction": {"used": 5}}
    assert teller.found() == first
    assert teller.found() == {}
    follower.analysis = analysis(2, findings=["a", "b"], correction={"used": 5, "cells": [CELL, CELL]})
    assert teller.found() == {"findings": ["a", "b"]}
    follower.analysis = analysis(3, findings=["a", "b"])
    assert teller.found() == {"correction": None}
    assert Teller(follower, ()).found() == first | {"findings": ["a", "b"], "correction": None}


def test_cells_and_limits_are_at_hand_for_all_who_watch():
    found = analysis(1, correction={"used": 5, "cells": [CELL]})
    assert found.correction == {(2, 3): CELL}
    assert found.limits.on
    assert found.number == (1, 1)
    nothing = Analysis.of(SimpleNamespace(analysis="", analysed=0, limits_version=0, limits="{}"))
    assert (nothing.parts, nothing.correction) == ({}, {})
