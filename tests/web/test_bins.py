"""The bins page over HTTP: any formula on any axes, kept under a name, and used in the cell line."""

from __future__ import annotations

import json

import numpy as np
import pytest

from tests.web.drawer import drawer_of
from tests.web.test_round import at_fuel, cells_of, facts_of, path  # noqa: F401
from uchiwa.services import bins
from uchiwa.store import calibrations, drafts, jobs
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import Event, Round

USUAL = {
    "value": "(lambda_measured / lambda_target - 1) * 100", "table": "ve_main", "statistic": "mean", "estimator": "nearest",
    "least_samples": "4", "over": "round", "where": "", "other": "", "against": "nothing", "low": "", "high": "",
}  # fmt: skip


def work_of(scene):
    with unit_of_work():
        return bins.bins_work(scene.job, Round.get_by_id(scene.round.id))


def test_each_cell_shows_the_figure_that_was_gathered(at_fuel, scene, path):  # noqa: F811
    at_fuel.send_form(f"{path}/bins/policy", USUAL)
    page = at_fuel.get(f"{path}/bins").text
    found = work_of(scene)
    shown = cells_of(page)
    for (i, j), text in shown.items():
        figure = found.first.figure[j, i]
        assert (text == "") == (not np.isfinite(figure))
        if text:
            assert float(text.replace("−", "-")) == pytest.approx(figure, abs=0.06)
    assert sum(bool(text) for text in shown.values()) > 20


def test_conditions_are_counted_and_a_cell_shows_its_moments(at_fuel, scene, path):  # noqa: F811
    at_fuel.send_form(f"{path}/bins/policy", USUAL | {"where": "engine_speed > 2000; throttle_position < 30"})
    found = work_of(scene)
    page = at_fuel.get(f"{path}/bins").text
    assert found.first.left_out["engine_speed > 2000"] > 0
    assert "not engine_speed &gt; 2000" in page
    j, i = np.unravel_index(int(np.argmax(found.first.bins.samples)), found.first.figure.shape)
    margin = at_fuel.get(f"{path}/bins/cell?i={i}&j={j}&table=ve_main").text
    assert float(facts_of(margin)["figure"].replace("−", "-")) == pytest.approx(found.first.figure[j, i], abs=0.06)
    assert drawer_of(at_fuel.get(f"{path}/bins/moments?i={i}&j={j}&table=ve_main"))


def test_a_second_formula_is_shown_beside_it_and_as_a_difference(at_fuel, scene, path):  # noqa: F811
    at_fuel.send_form(f"{path}/bins/policy", USUAL | {"other": "short_term_trim + 1"})
    found = work_of(scene)
    page = at_fuel.get(f"{path}/bins?view=difference&table=ve_main").text
    shown = {cell: text for cell, text in cells_of(page).items() if text}
    for (i, j), text in shown.items():
        assert float(text.replace("−", "-")) == pytest.approx(found.first.figure[j, i] - 1.0, abs=0.06)
    assert "Difference" in page


def test_own_axes_give_a_curve_and_a_wrong_formula_one_sentence(at_fuel, scene, path):  # noqa: F811
    own = USUAL | {
        "table": "own axes",
        "x_quantity": "engine_speed",
        "x_points": "1000 2000 3000 4000",
        "y_quantity": "",
    }
    at_fuel.send_form(f"{path}/bins/policy", own)
    assert work_of(scene).first.axes.shape == (1, 4)
    assert "bins-curve" in at_fuel.get(f"{path}/bins").text
    at_fuel.send_form(f"{path}/bins/policy", USUAL | {"value": "oil_temperature"})
    page = at_fuel.get(f"{path}/bins")
    assert page.status_code == 200
    assert "oil" in page.text.split('class="problem"')[1][:200]
    assert at_fuel.send_form(f"{path}/bins/policy", USUAL | {"quantile": "400"}).status_code == 400


def test_a_gathering_is_saved_for_the_shop_used_again_and_forgotten(at_fuel, scene, path):  # noqa: F811
    at_fuel.send_form(f"{path}/bins/policy", USUAL | {"statistic": "scatter"})
    at_fuel.send_form(f"{path}/bins/keep", {"name": " Mixture  scatter "})
    at_fuel.send_form(f"{path}/bins/policy", USUAL)
    assert "Mixture scatter" in at_fuel.get(f"{path}/bins").text
    at_fuel.send_form(f"{path}/bins/use", {"name": "Mixture scatter"})
    assert work_of(scene).asked.statistic == "scatter"
    at_fuel.send_form(f"{path}/bins/use", {"name": "Mixture scatter", "drop": "true"})
    at_fuel.get(f"{path}/bins")
    assert "Mixture scatter" not in at_fuel.get(f"{path}/bins").text
    assert at_fuel.send_form(f"{path}/bins/keep", {"name": "  "}).status_code == 400
    assert at_fuel.send_form(f"{path}/bins/use", {"name": "never"}).status_code == 400


def test_the_cell_line_uses_what_was_gathered_and_the_step_names_it(at_fuel, scene, path):  # noqa: F811
    at_fuel.send_form(f"{path}/bins/policy", USUAL)
    found = work_of(scene)
    with unit_of_work():
        before = calibrations.content(drafts.current(scene.job).calibration).table("ve_main").grid
        version = drafts.current(scene.job).version
    every = " ".join(f"{i}.{j}" for i in range(before.shape[1]) for j in range(before.shape[0]))
    answer = at_fuel.send_form(
        f"{path}/tables/edit", {"table": "ve_main", "version": str(version), "cells": every, "line": "x*(1+bins/200)"}
    )
    assert answer.status_code == 303
    with unit_of_work():
        after = calibrations.content(drafts.current(scene.job).calibration).table("ve_main").grid
        event = Event.get(Event.kind == jobs.EDIT)
    told = np.isfinite(found.first.figure)
    assert (after[~told] == before[~told]).all()
    wanted = before * (1 + found.first.figure / 200)
    assert after[told] == pytest.approx(wanted[told], abs=0.051)
    assert "bins: mean of (lambda_measured / lambda_target - 1) * 100" in event.sentence
    assert json.loads(event.inputs)["bins"]["value"] == USUAL["value"]


def test_gathered_on_other_axes_the_word_is_refused(at_fuel, scene, path):  # noqa: F811
    at_fuel.send_form(f"{path}/bins/policy", USUAL | {"value": "oil_temperature"})
    with unit_of_work():
        version = drafts.current(scene.job).version
    answer = at_fuel.send_form(
        f"{path}/tables/edit", {"table": "ve_main", "version": str(version), "cells": "3.3", "line": "x + bins"}
    )
    assert answer.status_code == 400


def test_from_a_moment_of_a_log_to_its_cell(at_fuel, scene, path):  # noqa: F811
    at_fuel.send_form(f"{path}/bins/policy", USUAL | {"where": "engine_speed > 2000"})
    found = work_of(scene)
    samples, log = found.first.samples, found.rows[0].id
    here = samples.log == 0
    at = int(np.flatnonzero(here)[here.sum() // 2])
    j, i = divmod(int(found.first.cell[at]), found.first.axes.shape[1])
    page = at_fuel.get(f"{path}/bins?log={log}&at={samples.time[at]:.3f}").text
    assert f'data-i="{i}" data-j="{j}"' in page.split('class="page')[1].split(">")[0]
    assert f"Where {samples.names[0]} was at" in page
    assert "is left out here" in at_fuel.get(f"{path}/bins?log={log}&at=-500").text
    assert "not among those gathered" in at_fuel.get(f"{path}/bins?log=999999&at=5").text
    assert at_fuel.get(f"{path}/bins?log={log}&at=nan").status_code == 400
