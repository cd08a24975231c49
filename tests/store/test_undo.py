"""Any sequence of edits, undone and done again, gives back the same bytes."""

from __future__ import annotations

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from tests.seeds import seeds
from tests.store.conftest import Scene, scene  # noqa: F401
from uchiwa.core.errors import BadInput
from uchiwa.core.tables.editing.transfer import set_constant
from uchiwa.services import tables
from uchiwa.store import calibrations, draft_steps, drafts
from uchiwa.store.database import unit_of_work

LINES = ("x-1", "x*1.01", "+3 %", "smooth 60", "fill across", "steps 2 lower", "was", "14.5", "shape row 60 shifted")
CELLS = st.tuples(st.integers(0, 10), st.integers(0, 8), st.integers(1, 5), st.integers(1, 5))
EDITS = st.tuples(st.sampled_from(LINES), CELLS)
STEPS = st.lists(st.one_of(EDITS, st.sampled_from(["undo", "redo", "constant"])), min_size=1, max_size=9)


def document(scene: Scene) -> str:  # noqa: F811
    with unit_of_work():
        return calibrations.document(drafts.current(scene.job).calibration_id)


def step(scene: Scene, what) -> bool:  # noqa: F811
    """Do it, if it can be done."""
    try:
        with unit_of_work():
            by = scene.acting()
            if what == "undo":
                draft_steps.undo(by)
            elif what == "redo":
                draft_steps.redo(by)
            elif what == "constant":
                change = lambda one: set_constant(one, "injector_flow", (one.constant("injector_flow") or 0) + 0.1)  # noqa: E731
                tables.change_content(by, change, "constant", {})
            else:
                line, (i, j, width, height) = what
                cells = [(a, b) for a in range(i, min(i + width, 15)) for b in range(j, min(j + height, 13))]
                tables.edit(tables.Editor(by), tables.table_work(scene.job, scene.round, "spark_main"), cells, line)
    except (BadInput, draft_steps.CannotPutBackError):
        return False
    return True


@pytest.mark.filterwarnings("ignore")
@settings(max_examples=seeds(8, 30), suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow])
@given(STEPS)
def test_undo_of_any_sequence_restores_and_redo_restores_again(scene, steps):  # noqa: F811
    while step(scene, "undo"):
        pass
    assert step(scene, "constant")
    assert step(scene, "undo")
    assert step(scene, "redo")
    start = document(scene)
    behind, ahead = [start], []
    for what in steps:
        done = step(scene, what)
        if what == "undo":
            if len(behind) == 1:
                assert done
                assert step(scene, "redo")
                continue
            assert done
            ahead.append(behind.pop())
        elif what == "redo":
            assert done is bool(ahead)
            if done:
                behind.append(document(scene))
                assert behind[-1] == ahead.pop()
        elif done:
            behind.append(document(scene))
            ahead.clear()
        assert document(scene) == behind[-1]
    while len(behind) > 1:
        assert step(scene, "undo")
        ahead.append(behind.pop())
        assert document(scene) == behind[-1]
    assert document(scene) == start
    while ahead:
        assert step(scene, "redo")
        assert document(scene) == ahead.pop()
