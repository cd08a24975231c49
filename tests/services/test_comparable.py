"""What of a job can be held against each other, by name; nothing of another job or shop."""

from __future__ import annotations

import numpy as np
import pytest

from tests.store.conftest import Scene
from uchiwa.core.errors import BadInput
from uchiwa.core.tables.interchange import calibration_json
from uchiwa.services import comparable
from uchiwa.standin.cars import pike_base
from uchiwa.store import accounts, calibrations, draft_steps, drafts, jobs
from uchiwa.store.database import unit_of_work


@pytest.fixture
def edited(scene: Scene):
    """A job whose draft has two steps; the ids of the steps."""
    found = []
    for factor in (1.1, 1.2):
        with unit_of_work():
            draft = drafts.current(scene.job)
            content = calibrations.content(draft.calibration)
            table = content.table("ve_main")
            after = content.with_table(table.with_grid(np.round(table.grid * factor, 1)))
            step = draft_steps.edit(draft, scene.acting(), after, f"times {factor}", {})
            found.append(step.id)
    return found


def grid(side: comparable.ComparedSide) -> np.ndarray:
    return side.content.table("ve_main").grid


def test_the_draft_each_revision_and_each_step_can_be_chosen_by_the_name_offered(scene: Scene, edited):
    with unit_of_work():
        names = dict(comparable.choices(scene.job))
        assert list(names) == ["draft", "revision:0", f"step:{edited[1]}", f"step:{edited[0]}"]
        assert names[f"step:{edited[0]}"] == "after: times 1.1"
        sides = {name: comparable.side(scene.job, name) for name in names}
    base = pike_base().table("ve_main").grid
    assert np.array_equal(grid(sides["revision:0"]), base)
    assert np.array_equal(grid(sides["draft"]), grid(sides[f"step:{edited[1]}"]))
    assert np.array_equal(grid(sides[f"step:{edited[0]}"]), np.round(base * 1.1, 1))


def test_before_a_step_is_after_the_one_before_it(scene: Scene, edited):
    with unit_of_work():
        before = comparable.side(scene.job, f"before:{edited[1]}")
        after = comparable.side(scene.job, f"step:{edited[0]}")
    assert np.array_equal(grid(before), grid(after))
    assert before.words == "before: times 1.2"


@pytest.mark.parametrize(
    "name", ["", "draft:1", "revision:9", "revision:-1", "revision:1e3", "step:0", "before:x", "shelf:1", "file:999999", "else:1", "step:" + "9" * 60]
)  # fmt: skip
def test_any_other_name_is_refused_in_words(scene: Scene, name):
    with unit_of_work(), pytest.raises(BadInput, match="no such calibration"):
        comparable.side(scene.job, name)


def test_a_step_or_file_of_another_job_is_not_found(scene: Scene, edited):
    with unit_of_work():
        stranger = accounts.create_user(
            accounts.create_shop("Other"), "other@example.org", "Other", "a long enough password"
        )
        other = jobs.create(stranger, "Somebody", "Corvid Pike", "", pike_base())
        kept = drafts.current(scene.job).calibration_id
        assert comparable.side(scene.job, f"file:{kept}").content.table("ve_main") is not None
        for name in (f"step:{edited[0]}", f"before:{edited[0]}", f"file:{kept}"):
            with pytest.raises(BadInput, match="no such calibration"):
                comparable.side(other, name)


def test_a_file_is_read_by_what_is_in_it_or_refused_with_what_to_do(scene: Scene):
    told = calibration_json.dumps(pike_base())
    with unit_of_work():
        read = comparable.read_file(scene.job, told.encode() if isinstance(told, str) else told, "mine.json")
        assert np.array_equal(read.table("ve_main").grid, pike_base().table("ve_main").grid)
        with pytest.raises(BadInput) as refused:
            comparable.read_file(scene.job, b"\x7fELF\x00", "mine.bin")
    assert "no layout" in str(refused.value)
    assert "controller image" in str(refused.value)
