"""What is said of a draft before it is frozen, and what led to each of its cells."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from uchiwa.core.errors import BadInput
from uchiwa.core.review.concern import Weight, outstanding
from uchiwa.core.review.duty import expected_duty
from uchiwa.core.review.reviewed import Duty, ImageFit, ReviewedDraft, VisitedCells
from uchiwa.core.review.rules import review
from uchiwa.core.tables.attribution import Step, by_hand, by_reason, cell_steps, last_step
from uchiwa.core.tables.editing.transfer import set_constant, take_constant, take_table
from uchiwa.core.tables.table import frozen
from uchiwa.standin.cars import pike_base

BASE = pike_base()


def changed(table_id: str, *cells: tuple[int, int, float], by=BASE):
    table = by.table(table_id)
    grid = table.grid.copy()
    for i, j, step in cells:
        grid[j, i] += step
    return by.with_table(table.with_grid(grid))


def visited(table_id: str, dwell: float = 5.0, retard: float = 0.0, logged: bool = True):
    shape = BASE.table(table_id).shape
    return {table_id: VisitedCells(np.full(shape, dwell), np.full(shape, retard), logged)}


def rules_of(it: ReviewedDraft) -> dict[str, Weight]:
    return {one.rule: one.weight for one in review(it)}


def test_an_ordinary_correction_raises_no_concern():
    draft = changed("ve_main", (4, 4, 1.0), (5, 4, 1.2))
    assert review(ReviewedDraft(BASE, draft, visited("ve_main"))) == ()
    assert review(ReviewedDraft(BASE, BASE)) == ()


def test_each_rule_speaks_up_for_its_own_fault_and_names_the_cells():
    ledge = changed("spark_main", (6, 6, 7.0))
    found = review(ReviewedDraft(BASE, ledge, visited("spark_main")))
    assert [one.rule for one in found] == ["ledge"]
    assert (6, 6) in found[0].cells
    assert len(found[0].cells) == 5
    unseen = visited("ve_main")
    unseen["ve_main"].dwell[4, 4] = 0
    hand = {"ve_main": np.ones(BASE.table("ve_main").shape, dtype=bool)}
    edit = changed("ve_main", (4, 4, 1.0), (5, 4, 1.0))
    assert rules_of(ReviewedDraft(BASE, edit, unseen, by_hand=hand)) == {"unseen": Weight.ANSWER}
    assert rules_of(ReviewedDraft(BASE, edit, unseen)) == {"filled": Weight.NOTE}
    assert rules_of(ReviewedDraft(BASE, changed("ve_main", (4, 4, 1.0)), visited("ve_main", logged=False))) == {
        "never_logged": Weight.ANSWER
    }
    assert rules_of(ReviewedDraft(BASE, changed("ve_main", (4, 4, 1.0)), {}, logs=False)) == {
        "never_logged": Weight.ANSWER
    }
    knock = visited("spark_main")
    knock["spark_main"].retard[9, 5] = 2.5
    assert rules_of(ReviewedDraft(BASE, changed("spark_main", (5, 9, 1.0)), knock)) == {"spark_knock": Weight.ANSWER}
    assert rules_of(ReviewedDraft(BASE, changed("spark_main", (5, 10, 1.0)), knock)) == {"spark_knock": Weight.ANSWER}
    assert rules_of(ReviewedDraft(BASE, changed("spark_main", (5, 9, -1.0)), knock)) == {}
    assert rules_of(ReviewedDraft(BASE, changed("spark_main", (5, 8, 1.0)), knock)) == {}
    lean = changed("lambda_target", (7, 9, 0.05))
    assert rules_of(ReviewedDraft(BASE, lean, visited("lambda_target")))["lean_load"] is Weight.ANSWER
    assert rules_of(ReviewedDraft(BASE, changed("lambda_target", (7, 4, 0.05)), visited("lambda_target"))) == {}
    assert rules_of(ReviewedDraft(BASE, changed("ve_main", (4, 4, 1.0)), visited("ve_main"), Duty(80, 91, 6100))) == {
        "duty": Weight.ANSWER
    }
    assert rules_of(ReviewedDraft(BASE, changed("ve_main", (4, 4, 1.0)), visited("ve_main"), Duty(95, 104, 6100))) == {
        "duty": Weight.STOP
    }
    assert rules_of(ReviewedDraft(BASE, BASE, setup="speed density only")) == {"setup": Weight.ANSWER}
    refused = ImageFit("Spark advance: 4000 cannot be kept as i16")
    assert rules_of(ReviewedDraft(BASE, BASE, image=refused)) == {"image": Weight.STOP}
    rounded = ImageFit("", {"ve_main": (((1, 1),), 0.2)})
    assert rules_of(ReviewedDraft(BASE, BASE, image=rounded)) == {"rounding": Weight.NOTE}
    table = BASE.table("ve_main")
    beyond = BASE.with_table(replace(table, values=frozen(table.grid + 200)))
    assert rules_of(ReviewedDraft(BASE, beyond, visited("ve_main")))["limits"] is Weight.STOP


def test_an_answer_holds_only_for_what_was_answered():
    one = review(ReviewedDraft(BASE, changed("spark_main", (6, 6, 7.0)), visited("spark_main")))
    assert outstanding(one, []) == one
    assert outstanding(one, [one[0].key]) == ()
    worse = review(ReviewedDraft(BASE, changed("spark_main", (6, 6, 9.0)), visited("spark_main")))
    assert outstanding(worse, [one[0].key]) == worse
    stop = review(ReviewedDraft(BASE, BASE, image=ImageFit("no")))
    assert outstanding(stop, [stop[0].key]) == stop


def test_expected_duty_follows_air_and_leaves_the_dead_time():
    # pulse 12 ms of which 0.85 dead, +10 % trim: the same air by VE alone is (12 − 0.85)/1.1 · 1.2 + 0.85
    table = BASE.table("ve_main")
    draft = BASE.with_table(table.with_grid(table.grid * 1.2))
    signals = {
        "engine_speed": np.array([6000.0, 800.0]),
        "manifold_pressure": np.array([150.0, 35.0]),
        "injector_pulse": np.array([12.0, 3.0]),
        "short_term_trim": np.array([10.0, 0.0]),
    }
    duty = expected_duty(signals, BASE, draft)
    assert duty.logged == pytest.approx(60.0)
    assert duty.expected == pytest.approx(((12 - 0.85) / 1.1 * 1.2 + 0.85) * 6000 / 1200)
    assert duty.speed == 6000
    assert expected_duty({"engine_speed": np.array([6000.0])}, BASE, draft) is None


def test_every_cell_knows_the_step_that_made_it():
    first = changed("ve_main", (1, 1, 1.0), (2, 1, 1.0))
    second = changed("ve_main", (2, 1, 1.0), by=first)
    steps = [Step(BASE, first, "fuel proposal", "take", 1), Step(first, second, "x+1", "edit", 2)]
    last = last_step(second.table("ve_main"), steps)
    assert (last[1, 1], last[1, 2], last[0, 0]) == (0, 1, -1)
    assert by_reason(second.table("ve_main"), BASE.table("ve_main"), steps) == (("fuel proposal", 1), ("x+1", 1))
    assert by_hand(second.table("ve_main"), steps)[1].tolist() == [False, False, True] + [False] * 12
    assert not by_hand(second.table("ve_main"), []).any()
    told = cell_steps("ve_main", 2, 1, steps)
    assert [one.step.words for one in told] == ["fuel proposal", "x+1"]
    assert told[1].after == pytest.approx(told[1].before + 1)
    assert cell_steps("spark_main", 2, 1, steps) == ()


def test_single_changes_are_taken_across():
    other = changed("ve_main", (1, 1, 1.0), (2, 1, 1.0))
    other = changed("spark_main", (0, 0, 1.0), by=other)
    taken = take_table(BASE, other, "ve_main", [(1, 1)])
    assert (taken.table("ve_main").grid != BASE.table("ve_main").grid).sum() == 1
    assert taken.table("spark_main") is BASE.table("spark_main")
    whole = take_table(BASE, other, "ve_main", pinned=[(2, 1)])
    assert whole.table("ve_main").grid[1, 2] == BASE.table("ve_main").grid[1, 2]
    with pytest.raises(BadInput, match="nothing among these cells differs"):
        take_table(BASE, other, "ve_main", [(3, 3)])
    richer = set_constant(BASE, "injector_flow", 7.5)
    assert take_constant(BASE, richer, "injector_flow").constant("injector_flow") == 7.5
    for call, said in (
        (lambda: take_table(BASE, other, "nothing"), "there is no table"),
        (lambda: set_constant(BASE, "nothing", 1.0), "there is no constant"),
        (lambda: set_constant(BASE, "injector_flow", float("nan")), "not a number"),
        (lambda: set_constant(BASE, "injector_flow", 6.9), "changes nothing"),
    ):
        with pytest.raises(BadInput, match=said):
            call()
