"""The Spark station over HTTP: knock and its judgement, pulls, torque, limits, and what goes into the draft."""

from __future__ import annotations

import json
import re

import numpy as np
import pytest

from tests.store.conftest import log_text
from tests.store.spark_logs import SESSION, dyno_text, knock_text
from tests.web.drawer import drawer_of
from tests.web.test_round import cells_of, facts_of, path  # noqa: F401
from uchiwa.core.errors import BadInput
from uchiwa.core.knock.judgement import Verdict
from uchiwa.core.proposals.fuel_grade.proposal import start_lower
from uchiwa.services import importing, spark, tables
from uchiwa.services.review import review_work
from uchiwa.standin.cars import pike_base
from uchiwa.standin.dyno import dyno_run, write_run
from uchiwa.standin.sprint import sprint_car
from uchiwa.store import accounts, calibrations, drafts, jobs
from uchiwa.store.database import database, unit_of_work
from uchiwa.store.models import Event, LogFile, Round

SPARK = pike_base().table("spark_main")


def send(client, path, **files):  # noqa: F811
    for name, data in files.items():
        client.send_form(f"{path}/logs/upload", files={"files": (f"{name}.csv", data)})
    with unit_of_work():
        ids = [log.id for log in LogFile.select().where(LogFile.state == "stored").order_by(LogFile.id)]
    for id_ in ids:
        importing.import_log(id_)
    with unit_of_work():
        LogFile.update(accepted=True, decided=True).execute()


@pytest.fixture
def knocking(client, path):  # noqa: F811
    send(client, path, pull=knock_text())
    return client


@pytest.fixture
def on_dyno(client, path):  # noqa: F811
    send(client, path, **{f"run{run}": dyno_text(run, offset) for run, offset in SESSION})
    return client


def fresh(scene):
    return Round.get_by_id(scene.round.id)


def test_the_fan_leads_to_spark_and_the_knock_is_shown_with_its_reasons(knocking, path):  # noqa: F811
    assert f'href="{path}/spark"' in knocking.get(f"{path}/logs").text
    page = knocking.get(f"{path}/spark", follow_redirects=True).text
    assert "4 events" in page
    assert "it comes again and again" in page
    cells = cells_of(page)
    i, j = int(SPARK.x.nearest(np.array([3200.0]))[0]), int(SPARK.y.nearest(np.array([158.0]))[0])
    assert cells[i, j] == "3.0"
    margin = knocking.get(f"{path}/spark/knock/cell?i={i}&j={j}").text
    assert float(facts_of(margin)["after"]) < float(facts_of(margin)["before"])
    assert margin.count("/read?log=") == 4
    told = drawer_of(knocking.get(f"{path}/spark/knock/moments?i={i}&j={j}"))
    assert told.title.startswith("4 moments of ")
    assert told.traces[0] == "knock retard"


def test_every_view_shows_what_the_core_has(knocking, scene, path):  # noqa: F811
    with unit_of_work():
        proposal = spark.knock_work(scene.job, fresh(scene)).proposal
    events = cells_of(knocking.get(f"{path}/spark/knock?view=events").text)
    assert sum(int(text or 0) for text in events.values()) == proposal.knock.count.sum() == 4
    shown = cells_of(knocking.get(f"{path}/spark/knock?view=proposed").text)
    assert all(float(text) == proposal.after[j, i] for (i, j), text in shown.items())
    change = cells_of(knocking.get(f"{path}/spark/knock?view=change").text)
    assert sum(text != "·" for text in change.values()) == (proposal.after != SPARK.grid).sum()


def test_a_persons_word_is_kept_used_carried_over_and_can_be_taken_back(knocking, scene, path):  # noqa: F811
    with unit_of_work():
        found = spark.knock_work(scene.job, fresh(scene))
    (cluster,) = found.proposal.clusters
    assert found.holds(cluster) is Verdict.REAL
    cells = " ".join(f"{i}.{j}" for i, j in cluster.cells)
    form = {"cluster": cells, "verdict": "noise", "reason": "a loose heat shield, heard it on the ramp"}
    assert knocking.send_form(f"{path}/spark/knock/decide", form).status_code == 303
    page = knocking.get(f"{path}/spark/knock").text
    assert "a loose heat shield" in page
    assert "said Tuner" in page
    with unit_of_work():
        again = spark.knock_work(scene.job, fresh(scene))
        assert (again.proposal.after == SPARK.grid).all()
        assert Event.select().where(Event.kind == "knock-decision").count() == 1
    send(knocking, path, second=knock_text(knocks=(30.0, 60.0, 90.0)))
    with unit_of_work():
        assert spark.knock_work(scene.job, fresh(scene)).holds(cluster) is Verdict.NOISE
    knocking.send_form(f"{path}/spark/knock/decide", form | {"verdict": "unsure", "reason": ""})
    with unit_of_work():
        assert spark.knock_work(scene.job, fresh(scene)).holds(cluster) is Verdict.REAL
    stale = knocking.send_form(f"{path}/spark/knock/decide", form | {"cluster": "0.0"})
    assert stale.status_code == 409
    assert "Look again" in stale.text


def edit_spark(scene, cell, line):
    work = tables.table_work(scene.job, fresh(scene), "spark_main")
    tables.edit(tables.Editor(scene.acting(round_=fresh(scene))), work, [cell], line)


def test_the_review_asks_about_spark_where_it_knocked_but_not_where_that_is_noise(knocking, scene, path):  # noqa: F811
    i, j = int(SPARK.x.nearest(np.array([3200.0]))[0]), int(SPARK.y.nearest(np.array([158.0]))[0])
    with unit_of_work():
        edit_spark(scene, (i, j), "x+2")
        found = spark.knock_work(scene.job, fresh(scene))
        assert "spark_knock" in {concern.rule for concern in review_work(scene.job, fresh(scene)).concerns}
    cells = " ".join(f"{a}.{b}" for a, b in found.proposal.clusters[0].cells)
    knocking.send_form(f"{path}/spark/knock/decide", {"cluster": cells, "verdict": "noise", "reason": "shield"})
    with unit_of_work():
        assert "spark_knock" not in {concern.rule for concern in review_work(scene.job, fresh(scene)).concerns}


def test_cells_that_only_the_dyno_ran_are_seen_by_the_review(on_dyno, scene, path):  # noqa: F811
    with unit_of_work():
        edit_spark(scene, (8, 12), "x-1")
        rules = {concern.rule for concern in review_work(scene.job, fresh(scene)).concerns}
    assert not rules & {"unseen", "never_logged"}


def test_the_policy_changes_the_proposal_and_bad_numbers_are_said(knocking, scene, path):  # noqa: F811
    page = knocking.send_form(f"{path}/spark/knock/policy", {"margin": "2,5"}, headers={"x-fragment": "yes"})
    assert page.status_code == 200
    with unit_of_work():
        proposal = spark.knock_work(scene.job, fresh(scene)).proposal
    assert proposal.policy.margin == 2.5
    assert proposal.asked.max() == 5.5
    bad = knocking.send_form(f"{path}/spark/knock/policy", {"slope": "0"}, headers={"x-fragment": "yes"})
    assert bad.status_code == 400
    assert "slope" in bad.json()["said"]


def test_spark_goes_into_the_draft_whole_or_by_cells_and_pinned_cells_stay(knocking, scene, path):  # noqa: F811
    i, j = int(SPARK.x.nearest(np.array([3200.0]))[0]), int(SPARK.y.nearest(np.array([158.0]))[0])
    knocking.send_form(f"{path}/spark/knock/pin", {"cells": f"{i}.{j + 1}"})
    with unit_of_work():
        draft = drafts.current(scene.job)
    one = {"version": draft.version, "table": "spark_main", "cells": f"{i}.{j}"}
    assert knocking.send_form(f"{path}/spark/knock/take", one).status_code == 303
    with unit_of_work():
        draft = drafts.current(scene.job)
        grid = calibrations.content(draft.calibration).table("spark_main").grid
    assert (grid != SPARK.grid).sum() == 1
    assert knocking.send_form(f"{path}/spark/knock/take", one).status_code == 409
    assert knocking.send_form(f"{path}/spark/knock/take", one | {"version": draft.version}).status_code == 400
    knocking.send_form(f"{path}/spark/knock/take", {"version": draft.version, "table": "spark_main"})
    with unit_of_work():
        draft = drafts.current(scene.job)
        grid = calibrations.content(draft.calibration).table("spark_main").grid
    assert (grid <= SPARK.grid).all()
    assert (grid < SPARK.grid).sum() > 3
    assert grid[j + 1, i] == SPARK.grid[j + 1, i]
    page = knocking.get(f"{path}/review").text
    assert "by knock" in page
    assert "4 events, 1 places held to be real" in page
    again = knocking.send_form(f"{path}/spark/knock/take", {"version": draft.version, "table": "spark_main"})
    assert again.status_code == 400


def test_logs_without_knock_channels_say_so_and_marks_still_count(client, scene, path):  # noqa: F811
    send(client, path, deaf=knock_text(heard=False))
    assert "No log has a knock channel" in client.get(f"{path}/spark/knock").text
    send(client, path, marked=knock_text(heard=False, marks=True))
    page = client.get(f"{path}/spark/knock").text
    assert "4 events" in page
    assert "the driver heard it 4 times" in page


def test_low_octane_is_told_with_its_duration(client, path):  # noqa: F811
    send(client, path, flagged=knock_text(knocks=(), octane=75.0))
    page = client.get(f"{path}/spark/knock").text
    assert "For 1:15 the controller took the fuel to be bad" in " ".join(re.sub("<[^>]+>", " ", page).split())


def test_what_is_wanting_is_said_on_every_sheet(client, scene, path):  # noqa: F811
    for sheet, said in (
        ("knock", "no log has been accepted"),
        ("pulls", "holds a full-load pull"),
        ("torque", "no log has been accepted"),
        ("limit", "no table of the role knock_limit"),
    ):
        page = client.get(f"{path}/spark/{sheet}")
        assert page.status_code == 200
        assert said in page.text.lower()
    send(client, path, cruise=log_text())
    assert "no log holds a pull with torque" in client.get(f"{path}/spark/torque").text.lower()
    assert client.get(f"{path}/spark/torque", headers={"x-fragment": "yes"}).status_code == 400


def test_dyno_files_are_pulls_and_no_fuel_logs(on_dyno, scene, path):  # noqa: F811
    with unit_of_work():
        assert [log.dyno for log in jobs.spark_logs(scene.round)] == [True] * 5
        assert jobs.usable_logs(scene.round) == []
    assert "Spark is next" in on_dyno.get("/").text or "spark is next" in on_dyno.get("/").text
    page = on_dyno.get(f"{path}/spark/pulls").text
    assert page.count('class="swatch') == 5
    assert page.count("M") > 20
    readings = json.loads(re.search(r'id="pull-readings">(.*?)</script>', page)[1])
    torque = readings["curves"][0]
    assert torque["title"] == "torque"
    assert len(torque["rows"]) == 5
    assert "Runs 1, 4 had the same spark" in " ".join(page.split())
    assert "no more than chance" in page


def test_pulls_are_noted_hidden_shown_and_put_in_order(on_dyno, scene, path):  # noqa: F811
    with unit_of_work():
        rows = spark.pull_rows(scene.job, fresh(scene))
    first, second = rows[0].key, rows[1].key
    words = {"pull": first, "note": "  as   flashed "}
    noted = on_dyno.send_form(f"{path}/spark/pulls/note", words, headers={"x-fragment": "yes"})
    assert (noted.status_code, noted.content) == (204, b"")  # nothing is drawn anew
    assert on_dyno.send_form(f"{path}/spark/pulls/note", words).headers["location"].endswith("/spark/pulls")
    on_dyno.send_form(f"{path}/spark/pulls/note", {"pull": second, "hidden": "true"})
    on_dyno.send_form(f"{path}/spark/pulls/note", {"pull": second, "move": "-1"})
    with unit_of_work():
        after = spark.pull_rows(scene.job, fresh(scene))
        assert [one.key for one in after[:2]] == [second, first]
        assert after[1].note.note == "as flashed"
        assert after[0].hidden
    page = on_dyno.get(f"{path}/spark/pulls").text
    assert "4 of 5 shown" in page
    with unit_of_work():
        assert len(spark.torque_work(scene.job, fresh(scene)).proposal.pulls) == 4
    assert on_dyno.send_form(f"{path}/spark/pulls/note", {"pull": "999.1", "note": "x"}).status_code == 404


def test_the_view_of_pulls_is_kept(on_dyno, scene, path):  # noqa: F811
    on_dyno.send_form(f"{path}/spark/pulls/view", {"window": "0", "low": "3500", "high": "5000", "corrected": "no"})
    page = on_dyno.get(f"{path}/spark/pulls").text
    assert "Means from 3500 to 5000 rpm" in page
    assert "Every curve is as recorded" in page
    bad = on_dyno.send_form(f"{path}/spark/pulls/view", {"window": "-3"}, headers={"x-fragment": "yes"})
    assert bad.status_code == 400


def test_torque_decides_explains_and_is_taken(on_dyno, scene, path):  # noqa: F811
    with unit_of_work():
        proposal = spark.torque_work(scene.job, fresh(scene)).proposal
        draft = drafts.current(scene.job)
    page = on_dyno.get(f"{path}/spark/torque").text
    assert page.count('class="rung') == len(proposal.decisions)
    assert "5 pulls (dyno), brought to one pressure and intake temperature" in " ".join(page.split())
    one = proposal.decisions[4]
    margin = " ".join(on_dyno.get(f"{path}/spark/torque/cell?i={one.column}&j=11").text.split())
    assert f"At {one.speed:.0f} rpm: {one.advice}" in margin
    assert "Boost against spark" in margin
    assert drawer_of(on_dyno.get(f"{path}/spark/torque/moments?i={one.column}&j=11")).bands == 1
    on_dyno.send_form(f"{path}/spark/torque/policy", {"add": "0.5", "most": "0.5"})
    with unit_of_work():
        careful = spark.torque_work(scene.job, fresh(scene)).proposal
    assert np.abs(careful.after - SPARK.grid).max() <= 0.5 + 1e-9
    changed = int((careful.after != SPARK.grid).sum())
    answer = on_dyno.send_form(f"{path}/spark/torque/take", {"version": draft.version, "table": "spark_main"})
    assert answer.status_code == (303 if changed else 400)
    if changed:
        with unit_of_work():
            grid = calibrations.content(drafts.current(scene.job).calibration).table("spark_main").grid
        assert (grid == careful.after).all()
        assert "by torque" in on_dyno.get(f"{path}/review").text


def test_a_worse_fuel_starts_lower_by_the_tuners_own_rule(on_dyno, scene, path):  # noqa: F811
    with unit_of_work():
        draft = drafts.current(scene.job)
    form = {"version": draft.version, "table": "spark_main", "points": "2", "degrees": "1,5"}
    assert on_dyno.send_form(f"{path}/spark/torque/fuel-grade", form).status_code == 303
    with unit_of_work():
        grid = calibrations.content(drafts.current(scene.job).calibration).table("spark_main").grid
    assert (SPARK.grid - grid)[-1] == pytest.approx(3.0)
    assert (grid[0] == SPARK.grid[0]).all()
    assert on_dyno.send_form(f"{path}/spark/torque/fuel-grade", form | {"points": "many"}).status_code == 400


def test_the_start_for_a_worse_fuel_never_raises_and_has_bounds():
    lower = start_lower(SPARK, 4, 1.0, pinned=((3, 12),))
    assert (lower <= SPARK.grid).all()
    assert lower[12, 3] == SPARK.grid[12, 3]
    assert (np.diff((SPARK.grid - lower)[:, 0]) >= -0.11).all()
    for points, degrees in ((-1, 1), (9, 3), (float("nan"), 1)):
        with pytest.raises(BadInput):
            start_lower(SPARK, points, degrees)


def test_another_shop_sees_none_of_it_and_an_ended_round_cannot_be_changed(on_dyno, scene, path, visitor):  # noqa: F811
    with unit_of_work():
        Round.update(returned_at=scene.round.opened_at).where(Round.id == scene.round.id).execute()
    assert on_dyno.send_form(f"{path}/spark/pulls/view", {"window": "0"}).status_code == 409
    assert on_dyno.send_form(f"{path}/spark/knock/pin", {"cells": "1.1"}).status_code == 409
    with unit_of_work():
        other = accounts.create_shop("Other")
        accounts.create_user(other, "other@example.org", "Other", "a long enough password")
    visitor.sign_in("other@example.org", "a long enough password")
    for sheet in ("knock", "pulls", "torque", "limit"):
        assert visitor.get(f"{path}/spark/{sheet}").status_code == 404
    assert visitor.send_form(f"{path}/spark/knock/pin", {"cells": "1.1"}).status_code == 404


def test_pages_take_a_handful_of_queries_whatever_the_number_of_pulls(on_dyno, path, monkeypatch):  # noqa: F811
    on_dyno.get(f"{path}/spark/pulls")
    counted = []
    plain = database.execute_sql
    monkeypatch.setattr(database, "execute_sql", lambda *args, **more: counted.append(args[0]) or plain(*args, **more))
    on_dyno.get(f"{path}/spark/pulls")
    few = len(counted)
    monkeypatch.setattr(database, "execute_sql", plain)
    send(on_dyno, path, **{f"more{run}": dyno_text(run, 0.2 * run) for run in range(6, 10)})
    on_dyno.get(f"{path}/spark/pulls")
    counted.clear()
    monkeypatch.setattr(database, "execute_sql", lambda *args, **more: counted.append(args[0]) or plain(*args, **more))
    on_dyno.get(f"{path}/spark/pulls")
    assert len(counted) <= few


def test_a_knock_limit_from_safe_runs_is_shown_and_taken(client, scene):
    car = sprint_car()
    with unit_of_work():
        job = jobs.create(scene.user, "Another", "Corvid Pike", "", car.base())
    here = f"/jobs/{job.id}/rounds/1"
    send(client, here, **{f"safe{run}": write_run(dyno_run(car, car.base(), 5, run, offset=-4.0)) for run in (1, 2)})
    send(client, here, loud=write_run(dyno_run(car, car.base(), 5, 3, offset=6.0)))
    with unit_of_work():
        found = spark.limit_work(job, jobs.rounds(job)[0])
        assert [row.name for row in found.safe] == ["safe1.csv", "safe2.csv"]
        assert found.proposal.caught.events > 0
        draft = drafts.current(job)
    page = client.get(f"{here}/spark/limit").text
    assert "safe1.csv, safe2.csv" in page
    assert page.count("<circle") > 200
    shown = cells_of(page)
    assert all(float(text) == found.proposal.after[j, i] for (i, j), text in shown.items())
    assert "safe samples here" in client.get(f"{here}/spark/limit/cell?i=3&j=0").text
    assert drawer_of(client.get(f"{here}/spark/limit/moments?i=3&j=0")).traces[0] == "knock level"
    client.send_form(f"{here}/spark/limit/policy", {"margin": "1.5"})
    client.send_form(f"{here}/spark/limit/pin", {"cells": "5.0"})
    client.send_form(f"{here}/spark/limit/take", {"version": draft.version, "table": "knock_limit"})
    with unit_of_work():
        grid = calibrations.content(drafts.current(job).calibration).table("knock_limit").grid
    assert grid[0, 5] == 1.9
    assert grid[0, 2] == pytest.approx(found.proposal.base[0, 2] * 1.5, abs=0.02)
    assert "by knock limit" in client.get(f"{here}/review").text
