"""The Fuel station over HTTP: policy, conditions, shapes; airflow side by side; temporary setups; convergence."""

from __future__ import annotations

import re

import numpy as np
import pytest

from tests.web.drawer import drawer_of
from tests.web.test_round import at_fuel, cells_of, facts_of, path  # noqa: F401
from uchiwa.core.evidence.regions import Region
from uchiwa.core.rounds.convergence import NextRoundAdvice, RegionError, RoundResult, verdict
from uchiwa.core.tables.interchange import calibration_json
from uchiwa.core.viewing.ticks import nice_ticks
from uchiwa.services import fuel
from uchiwa.services.airflow import airflow_of
from uchiwa.store import calibrations, drafts, jobs
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import Event, Job, Round
from uchiwa.web.grid.grid import View
from uchiwa.web.stations.fuel.flow_picture import flow_picture
from uchiwa.web.stations.fuel.line_picture import line_picture
from uchiwa.web.stations.fuel.relief_picture import relief_picture
from uchiwa.web.svg.convergence import convergence_picture


def proposal_of(scene):
    with unit_of_work():
        return fuel.fuel_work(scene.job, Round.get_by_id(scene.round.id)).proposal


def change(client, path, **form):  # noqa: F811
    answer = client.send_form(f"{path}/fuel/policy", form)
    assert answer.status_code == 303, answer.text
    return answer


def test_each_estimator_is_shown_as_the_core_has_it(at_fuel, scene, path):  # noqa: F811
    for estimator in ("nearest", "weighted", "surface"):
        change(at_fuel, path, estimator=estimator)
        proposal = proposal_of(scene)
        assert proposal.policy.estimator == estimator
        shown = cells_of(at_fuel.get(f"{path}/fuel?view=error").text)
        errors = (proposal.estimate.factor - 1) * 100
        for (i, j), text in shown.items():
            told = float(text.replace("−", "-")) if text else np.nan
            assert told == pytest.approx(errors[j, i], abs=0.051, nan_ok=True)


def test_a_delay_of_ones_own_is_kept_and_shown(at_fuel, scene, path):  # noqa: F811
    change(at_fuel, path, delay="own", delay_d0="0,2", delay_k="1.5")
    assert proposal_of(scene).evidence.delay.d0 == 0.2
    assert (
        'name="delay_k" aria-label="gas in g" inputmode="decimal" size="4" value="1.5"'
        in at_fuel.get(f"{path}/fuel").text
    )
    change(at_fuel, path, delay="auto", delay_d0="0.2", delay_k="1.5")
    assert proposal_of(scene).policy.delay == "auto"


def test_a_condition_of_ones_own_is_counted_shown_and_dropped(at_fuel, scene, path):  # noqa: F811
    before = proposal_of(scene).evidence.sieve.used.sum()
    text = "engine_speed < 2000"
    assert at_fuel.send_form(f"{path}/fuel/condition", {"formula": text}).status_code == 303
    evidence = proposal_of(scene).evidence
    assert evidence.left_out()[text] > 0
    assert evidence.sieve.used.sum() < before
    page = at_fuel.get(f"{path}/fuel").text
    assert "engine_speed &lt; 2000" in page
    told = drawer_of(at_fuel.get(f"{path}/fuel/left-out", params={"reason": text}))
    assert told.bands >= told.windows > 0
    assert told.seconds == pytest.approx(
        evidence.duration[evidence.sieve.verdict == evidence.sieve.reasons.index(text)].sum(), rel=0.25
    )
    at_fuel.send_form(f"{path}/fuel/condition", {"formula": text, "drop": "true"})
    assert proposal_of(scene).policy.where == ()


@pytest.mark.parametrize(
    ("formula", "said"),
    [
        ("engine_speed <", "is not"),
        ("boost_of_moon > 1", "boost_of_moon"),
        ("engine_speed + 1", "condition"),
        ("", "no condition"),
    ],
)
def test_a_wrong_condition_is_said_and_changes_nothing(at_fuel, scene, path, formula, said):  # noqa: F811
    answer = at_fuel.send_form(f"{path}/fuel/condition", {"formula": formula})
    assert answer.status_code == 400
    assert said in answer.text
    assert proposal_of(scene).policy.where == ()


def test_what_a_rule_left_out_and_what_was_used_can_be_seen(at_fuel, path):  # noqa: F811
    used = drawer_of(at_fuel.get(f"{path}/fuel/left-out", params={"reason": "used"}))
    assert "with samples that are used" in used.title
    assert used.moments > 0
    assert at_fuel.get(f"{path}/fuel/left-out", params={"reason": "nonsense"}).status_code == 400


def test_an_optional_rule_is_switched_on(at_fuel, scene, path):  # noqa: F811
    at_fuel.send_form(f"{path}/fuel/rule", {"rule": "falling", "on": "true"})
    assert proposal_of(scene).policy.also == ("falling",)
    at_fuel.send_form(f"{path}/fuel/rule", {"rule": "falling", "on": "false"})
    assert proposal_of(scene).policy.also == ()


def test_every_view_is_drawn_in_every_shape(at_fuel, path):  # noqa: F811
    for shape in ("grid", "lines", "relief"):
        for view in View:
            page = at_fuel.get(f"{path}/fuel", params={"shape": shape, "view": view, "turn": 3})
            assert page.status_code == 200
            assert ('role="gridcell"' in page.text) == (shape == "grid")
            assert "nan" not in re.sub(r"<[^>]*(title|aria)[^>]*>", "", page.text)


def test_lines_and_relief_keep_to_their_box_and_show_every_cell(at_fuel, scene, path):  # noqa: F811
    proposal = proposal_of(scene)
    rows, columns = proposal.table.shape
    lines = line_picture(proposal, rows - 1)
    assert len(lines.before) == rows
    assert [mark.i for mark in lines.changes] == list(range(columns))
    for mark in (*lines.points, *lines.changes):
        assert 0 <= mark.x <= 820
        assert 0 <= mark.y <= 372
    for turn in range(24):
        relief = relief_picture(proposal, View.PROPOSED, turn)
        assert {(patch.i, patch.j) for patch in relief.patches} == {
            (i, j) for i in range(columns - 1) for j in range(rows - 1)
        }
        places = np.array([pair.split(",") for patch in relief.patches for pair in patch.points.split()], dtype=float)
        assert places.min() >= 0
        assert places[:, 0].max() <= 820
        assert places[:, 1].max() <= 372


@pytest.mark.parametrize(("low", "high"), [(0, 1), (-3, 3), (17, 4210), (0.99, 1.01)])
def test_ticks_are_round_and_within(low, high):
    ticks = nice_ticks(low, high, 5)
    assert 2 <= len(ticks) <= 7
    assert all(low - 1e-9 <= tick <= high + 1e-9 for tick in ticks)


def test_the_margin_gives_an_interval(at_fuel, scene, path):  # noqa: F811
    proposal = proposal_of(scene)
    j, i = (int(one) for one in np.unravel_index(np.argmax(proposal.bins.dwell), proposal.bins.dwell.shape))
    told = facts_of(at_fuel.get(f"{path}/fuel/cell?i={i}&j={j}").text)["interval"].replace("−", "-")
    low, high = (float(word) for word in told.rstrip(" %").split("…"))
    error = (proposal.estimate.factor[j, i] - 1) * 100
    assert (low + high) / 2 == pytest.approx(error, abs=0.06)
    assert (high - low) / 2 == pytest.approx(196 * proposal.estimate.standard_error[j, i], abs=0.06)


def test_airflow_is_laid_side_by_side(at_fuel, scene, path):  # noqa: F811
    page = at_fuel.get(f"{path}/airflow")
    assert page.status_code == 200
    with unit_of_work():
        check, _ = airflow_of(scene.job, scene.round)
    assert "air by speed density" in page.text.lower() or "speed density" in page.text
    picture = flow_picture(check)
    assert len(picture.lines) == len(check.ways)


def draft_of(scene):
    with unit_of_work():
        return drafts.current(Job.get_by_id(scene.job.id))


def test_a_setup_goes_on_shows_everywhere_blocks_the_end_and_goes_off(client, scene, path):  # noqa: F811
    here = f"/jobs/{scene.job.id}"
    before = calibration_json.content_hash(calibrations.content(draft_of(scene).calibration))
    own = {"name": "no cut", "wishes": "overrun_cut_enabled = 0"}
    assert client.send_form(f"{here}/setups/own", own).status_code == 303
    on = client.send_form(f"{here}/setups/on", {"name": "no cut", "version": draft_of(scene).version})
    assert on.status_code == 303
    assert calibrations.content(draft_of(scene).calibration).constant("overrun_cut_enabled") == 0
    for page in (
        here,
        f"{path}/logs",
        f"{path}/fuel",
        f"{path}/review",
        f"{path}/return",
        f"{path}/brief",
        f"{here}/setups",
        f"{here}/car",
    ):
        assert "no cut” is in force" in client.get(page).text, page
    final = client.send_form(f"{path}/return", {"version": draft_of(scene).version, "final": "true"})
    assert final.status_code == 400
    assert "still in force" in final.text
    assert client.send_form(f"{here}/close", {"closed": "true"}).status_code == 400
    stale = client.send_form(f"{here}/setups/off", {"version": draft_of(scene).version - 1})
    assert stale.status_code == 409
    assert client.send_form(f"{here}/setups/off", {"version": draft_of(scene).version}).status_code == 303
    assert calibration_json.content_hash(calibrations.content(draft_of(scene).calibration)) == before
    assert "is in force" not in client.get(here).text
    with unit_of_work():
        kinds = [event.kind for event in Event.select().where(Event.job == scene.job).order_by(Event.id)]
    assert kinds[-2:] == ["setup-on", "setup-off"]
    assert client.send_form(f"{here}/close", {"closed": "true"}).status_code == 303


def test_a_step_taken_before_a_setup_cannot_be_put_back_over_it(at_fuel, scene, path):  # noqa: F811
    here = f"/jobs/{scene.job.id}"
    at_fuel.send_form(f"{path}/fuel/take", {"version": draft_of(scene).version})
    with unit_of_work():
        taken = Event.get(Event.kind == jobs.TAKE)
    at_fuel.send_form(f"{here}/setups/on", {"name": "open loop", "version": draft_of(scene).version})
    answer = at_fuel.send_form(f"{path}/review/put-back", {"event": taken.id, "version": draft_of(scene).version})
    assert answer.status_code == 409


@pytest.mark.parametrize(
    ("address", "form"),
    [
        ("on", {"name": "none such"}),
        ("off", {}),
        ("own", {"name": " "}),
        ("own", {"name": "x", "wishes": "x"}),
        ("own", {"name": "open loop", "wishes": "a = 1"}),
    ],
)
def test_wrong_setups_are_said(client, scene, address, form):
    answer = client.send_form(f"/jobs/{scene.job.id}/setups/{address}", {"version": draft_of(scene).version} | form)
    assert answer.status_code == 400
    assert "Traceback" not in answer.text


def test_setups_belong_to_their_shop(client, scene):
    assert client.get(f"/jobs/{scene.job.id + 1000}/setups").status_code == 404


def test_the_job_shows_how_it_converges(at_fuel, scene):  # noqa: F811
    page = at_fuel.get(f"/jobs/{scene.job.id}").text
    with unit_of_work():
        round_ = Round.get_by_id(scene.round.id)
    assert f"of {round_.cells} driven cells" in page
    assert round_.driven_s > 10
    assert 'class="convergence"' in page


def result(number, error, cells=100, within=50, trim=0.5, load=None, idle=True):
    """A round in which the car was driven everywhere; `load` changes what full load shows."""
    load = {"error": error, "within": within * 10 // cells, "lean": 0.0, "cells": 10} | (load or {})
    regions = [RegionError(Region.CRUISE, error, cells - 12, within * (cells - 12) // cells, 0.0)]
    if idle:
        regions.append(RegionError(Region.IDLE, error, 2, 2 if within > cells / 2 else 0, 0.0))
    if load["cells"]:
        regions.append(RegionError(Region.LOAD, load["error"], load["cells"], load["within"], load["lean"]))
    return RoundResult(number, error, cells, within, trim, 600.0, (), tuple(regions))


@pytest.mark.parametrize(
    ("rounds", "ended", "said"),
    [
        ([], NextRoundAdvice.NOTHING, "Nothing has been measured"),
        ([result(1, 6.0)], NextRoundAdvice.GO_ON, "Another round is worth it"),
        (
            [result(1, 6.0), result(2, 0.9, within=98)],
            NextRoundAdvice.DONE,
            "Within ±2 % in 98 % of 100 driven cells, at idle",
        ),
        ([result(1, 0.9, within=98, load={"cells": 0})], NextRoundAdvice.UNMEASURED, "full load was hardly driven"),
        ([result(1, 0.9, within=98, idle=False)], NextRoundAdvice.UNMEASURED, "idle was hardly driven"),
        ([result(1, 0.9, within=98, load={"lean": 4.0})], NextRoundAdvice.LEAN, "full load runs 4 % lean"),
        (
            [result(1, 0.9, within=98, load={"error": 3.0, "within": 2})],
            NextRoundAdvice.GO_ON,
            "Not right yet: full load",
        ),
        ([result(1, 0.9, within=98, trim=4.0)], NextRoundAdvice.TRIMS, "were they reset"),
        ([result(1, 4.0), result(2, 3.9), result(3, 3.8)], NextRoundAdvice.STUCK, "hardly helped (4.0 → 3.8 %)"),
        ([result(1, 4.0), result(2, 2.0), result(3, 1.9)], NextRoundAdvice.GO_ON, "Another round"),
    ],
)
def test_when_to_stop_is_said(rounds, ended, said):
    found = verdict(rounds)
    assert found.code is ended
    assert found.stop is (ended is NextRoundAdvice.DONE)
    assert said in found.sentence


def test_the_convergence_picture_keeps_to_its_box():
    picture = convergence_picture([result(1, 8.0, trim=-9.0), result(2, 1.0, within=99, trim=None)])
    assert picture.trim_line.count(",") == 1
    for mark in picture.marks:
        assert 0 <= mark.error_y <= 96
        assert 0 <= mark.cells_y <= mark.within_y <= 52
