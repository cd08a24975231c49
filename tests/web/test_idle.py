"""The Idle station and the signal clamp over HTTP: shown, explained, taken, reviewed, and what cannot be told."""

from __future__ import annotations

import numpy as np
import pytest

from tests.store.idle_logs import pull_text, warming_text
from tests.web.drawer import drawer_of
from tests.web.test_round import cells_of, facts_of
from tests.web.test_spark import send
from uchiwa.core.rounds.progress import Station, StationState, standings
from uchiwa.services import idle
from uchiwa.services.review import review_work
from uchiwa.standin.fleet import car_named
from uchiwa.store import calibrations, drafts, jobs
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import Event, Job, Round


def taken_on(scene, car_id: str) -> str:
    """A job of a stand-in car in the scene's shop: the path of its first round."""
    car = car_named(car_id)
    with unit_of_work():
        job = jobs.create(scene.user, "Customer", car.title, "", car.base(), car.file)
    return f"/jobs/{job.id}/rounds/1"


@pytest.fixture
def idling(client, scene):
    path = taken_on(scene, "corvid-pike-automatic")
    send(client, path, neutral=warming_text(), geared=warming_text(geared=True))
    return path


@pytest.fixture
def clamped(client, scene):
    path = taken_on(scene, "larkspur-tern-s")
    send(client, path, one=pull_text(1), two=pull_text(2))
    return path


def job_of(path: str) -> tuple[Job, Round]:
    job = Job.get_by_id(int(path.split("/")[2]))
    return job, jobs.rounds(job)[0]


def version_of(path: str) -> int:
    with unit_of_work():
        return drafts.current(job_of(path)[0]).version


def test_the_fan_leads_to_idle_and_every_cell_shows_what_the_core_proposes(client, idling):
    assert f'href="{idling}/idle"' in client.get(f"{idling}/logs").text
    page = client.get(f"{idling}/idle", follow_redirects=True).text
    with unit_of_work():
        proposal = idle.idle_air_work(*job_of(idling)).proposal
    shown = cells_of(page)
    assert {cell: float(text) for cell, text in shown.items()} == {
        (i, j): pytest.approx(proposal.after[j, i]) for j, i in np.ndindex(*proposal.table.shape)
    }
    assert "needed, in gear" in page
    assert f"{int(proposal.evidence.sieve.used.sum()):,}".replace(",", "\u202f") in page.replace("\u2009", "\u202f")


def test_a_cell_explains_itself_and_shows_its_moments(client, idling):
    with unit_of_work():
        proposal = idle.idle_air_work(*job_of(idling)).proposal
    margin = client.get(f"{idling}/idle/air/cell?i=5&j=0", headers={"X-Fragment": "1"}).text
    assert float(facts_of(margin)["after"]) == pytest.approx(proposal.after[0, 5])
    assert "what it needs" in margin
    assert "neutral.csv" in margin
    drawn = drawer_of(client.get(f"{idling}/idle/air/moments?i=5&j=0"))
    assert drawn
    assert "left out: after start" in client.get(f"{idling}/idle/air/left-out?reason=after_start").text
    assert client.get(f"{idling}/idle/air/left-out?reason=nonsense").status_code == 400


def test_the_policy_is_kept_and_changes_what_is_proposed(client, idling):
    fields = {"view": "proposed", "table": "idle_air", "cell": "5.0"}
    client.send_form(f"{idling}/idle/air/policy", fields | {"strength": "50", "unmeasured_gear": "shift"})
    with unit_of_work():
        proposal = idle.idle_air_work(*job_of(idling)).proposal
    assert (proposal.policy.strength, proposal.policy.unmeasured_gear) == (50, "shift")
    assert "50" in client.get(f"{idling}/idle/air").text
    assert client.send_form(f"{idling}/idle/air/policy", fields | {"strength": "400"}).status_code == 400


def test_pins_hold_and_taking_puts_the_proposal_into_the_draft(client, idling):
    client.send_form(f"{idling}/idle/air/pin", {"cells": "5.0", "table": "idle_air"})
    answer = client.send_form(f"{idling}/idle/air/take", {"version": str(version_of(idling)), "table": "idle_air"})
    assert answer.status_code == 303
    with unit_of_work():
        job, round_ = job_of(idling)
        found = idle.idle_air_work(job, round_)
        grid = calibrations.content(drafts.current(job).calibration).table("idle_air").grid
        event = Event.get(Event.kind == jobs.IDLE)
        standing = standings(jobs.facts_of([round_])[round_.id])
    assert (grid == found.proposal.after).all()
    assert grid[0, 5] == found.context.table.grid[0, 5]
    assert event.sentence.endswith("(by idle air)")
    assert standing[Station.IDLE] is StationState.DONE
    assert standing[Station.FUEL] is StationState.TO_COME
    assert "This proposal is in the draft" in client.get(f"{idling}/idle/air").text
    again = client.send_form(f"{idling}/idle/air/take", {"version": str(version_of(idling)), "table": "idle_air"})
    assert again.status_code == 400
    assert "by idle air" in client.get(f"{idling}/review").text


def test_a_stale_take_is_refused(client, idling):
    version = version_of(idling)
    client.send_form(f"{idling}/idle/air/take", {"version": str(version), "table": "idle_air", "cells": "6.0"})
    answer = client.send_form(f"{idling}/idle/warm-up/take", {"version": str(version), "table": "warmup"})
    assert answer.status_code == 409


def test_warm_up_is_held_against_the_cold_target_and_after_start_is_left_out(client, idling):
    page = client.get(f"{idling}/idle/warm-up").text
    with unit_of_work():
        found = idle.warm_up_work(*job_of(idling))
    assert found.cold_target is not None
    after = found.proposal.after[0]
    assert after[-1] == after[-2] == 100
    assert (np.diff(after) <= 0).all()
    assert after[3] == pytest.approx(found.context.table.grid[0, 3] * 1.05, abs=1.0)
    assert "after-start, left out" in page
    assert "Cold λ target" in page
    margin = client.get(f"{idling}/idle/warm-up/cell?i=3&j=0").text
    assert "lean" in margin
    assert "12 s from" in margin


def test_quality_is_told_by_coolant_band(client, idling):
    page = client.get(f"{idling}/idle/quality").text
    assert "20 to 40 °C" in page
    assert "80 °C and above" in page
    assert "round 1, this one" in page
    assert "none" in page


def test_without_a_table_or_a_log_the_sheets_say_so(client, scene, clamped):
    page = client.get(f"{clamped}/idle/air")
    assert page.status_code == 200
    assert "no table of the role idle_airflow" in page.text.lower()
    empty = taken_on(scene, "corvid-pike-automatic")
    assert "no log has been accepted" in client.get(f"{empty}/idle/warm-up").text.lower()
    assert "no accepted log holds an idle" in client.get(f"{empty}/idle/quality").text.lower()


def test_a_warm_log_and_one_without_its_gear_say_what_is_wanting(client, scene):
    path = taken_on(scene, "corvid-pike-automatic")
    send(client, path, warm=warming_text(begin=86.0))
    assert "begin with a warm engine" in client.get(f"{path}/idle/warm-up").text
    other = taken_on(scene, "corvid-pike-automatic")
    text = "\n".join(",".join(part for at, part in enumerate(line.split(",")) if at != 6) if line[:1] != "#" else line for line in warming_text().split("\n"))  # fmt: skip
    assert "In gear" not in text
    send(client, other, unsaid=text)
    assert "gearbox is automatic" in client.get(f"{other}/idle/air").text


def test_the_clamp_is_a_sheet_of_fuel_and_is_taken_with_its_breakpoints(client, clamped):
    assert f'href="{clamped}/fuel/clamp"' in client.get(f"{clamped}/fuel/clamp").text
    with unit_of_work():
        found = idle.clamp_work(*job_of(clamped))
    assert found.proposal.respread
    margin = client.get(f"{clamped}/fuel/clamp/cell?i=6&j=7").text
    assert "with 5 % margin" in margin
    single = client.send_form(
        f"{clamped}/fuel/clamp/take", {"version": str(version_of(clamped)), "table": "signal_clamp", "cells": "6.7"}
    )
    assert single.status_code == 400
    client.send_form(f"{clamped}/fuel/clamp/take", {"version": str(version_of(clamped)), "table": "signal_clamp"})
    with unit_of_work():
        job, round_ = job_of(clamped)
        table = calibrations.content(drafts.current(job).calibration).table("signal_clamp")
        assert (table.grid == found.proposal.after).all()
        assert (table.y.breakpoints == found.proposal.table.y.breakpoints).all()
        assert standings(jobs.facts_of([round_])[round_.id])[Station.FUEL] is StationState.DONE
    assert "This proposal is in the draft" in client.get(f"{clamped}/fuel/clamp").text


def test_a_clamp_that_was_lowered_by_hand_under_a_signal_is_asked_about(client, clamped):
    client.send_form(f"{clamped}/fuel/clamp/take", {"version": str(version_of(clamped)), "table": "signal_clamp"})
    every = " ".join(f"{i}.{j}" for i in range(12) for j in range(8))
    client.send_form(
        f"{clamped}/tables/edit",
        {"table": "signal_clamp", "version": str(version_of(clamped)), "cells": every, "line": "min(x, 2.5)"},
    )
    with unit_of_work():
        concerns = review_work(*job_of(clamped)).concerns
    assert "clamp_below_signal" in {concern.rule for concern in concerns}


def test_logs_with_boost_are_no_evidence_for_a_clamp(client, scene):
    path = taken_on(scene, "larkspur-tern-s")
    send(client, path, boosted=pull_text(1, boost=40.0))
    assert "already holds boost" in client.get(f"{path}/fuel/clamp").text
