import json
import re

import numpy as np
import pytest

from tests.store.conftest import log_text
from tests.web.drawer import drawer_of
from uchiwa.core.proposals.fuel.explanation import explain
from uchiwa.core.tables.difference import signed
from uchiwa.core.tables.interchange import calibration_json
from uchiwa.services import fuel, importing
from uchiwa.standin.cars import pike_base
from uchiwa.store import jobs, log_states, revisions, stored_log
from uchiwa.store.database import database, unit_of_work
from uchiwa.store.models import LogFile
from uchiwa.web.requests.limits import FORM_LIMIT_BYTES, UPLOAD_LIMIT_BYTES


@pytest.fixture
def path(scene):
    return f"/jobs/{scene.job.id}/rounds/1"


@pytest.fixture
def at_fuel(client, scene, path):
    client.send_form(f"{path}/logs/upload", files={"files": ("drive.csv", log_text())})
    with unit_of_work():
        ids = [log.id for log in jobs.round_logs(scene.round)]
    for log_id in ids:
        importing.import_log(log_id)
    return client


def cells_of(page):
    """(i, j) -> text of the grid's cells."""
    found = re.findall(r'<td role="gridcell"[^>]*data-i="(\d+)" data-j="(\d+)"[^>]*>([^<]*)</td>', page)
    return {(int(i), int(j)): text for i, j, text in found}


def facts_of(page):
    """The figures of the margin by name."""
    plain = re.sub(r"<(?!/?(dd|span|strong)\b)[^>]+>", "", page)
    return {name: text.strip() for name, text in re.findall(r'data-fact="([\w-]+)"[^>]*>([^<]*)<', plain)}


def test_an_upload_is_stored_before_it_is_read(client, scene, path):
    answer = client.send_form(f"{path}/logs/upload", files={"files": ("drive.csv", log_text())})
    assert answer.status_code == 303
    with unit_of_work():
        log = LogFile.get()
        assert (log.state, log.name) == (log_states.STORED, "drive.csv")
    assert "being read" in client.get(f"{path}/logs").text
    importing.import_log(log.id)
    page = client.get(f"{path}/logs").text
    assert "ready" in page
    assert "engine_speed" in page


@pytest.mark.parametrize(
    ("data", "said"),
    [
        (b"", "the file is empty"),
        (b"time,rpm\n1,2\n", "only one row"),
        (b"time,rpm\na,b\nc,d\n", "not one number"),
        (b"time [s],MAP [kPa]\n0,1\n1,2\n", "no engine speed"),
        (b"PK\x03\x04\x00\x00" * 40, "the archive is damaged"),
        (bytes(range(256)) * 4, "not a text file"),
    ],
)
def test_a_bad_log_is_said_in_the_page_and_kept(client, scene, path, data, said):
    client.send_form(f"{path}/logs/upload", files={"files": ("bad.csv", data)})
    with unit_of_work():
        log = LogFile.get()
    importing.import_log(log.id)
    page = client.get(f"{path}/logs")
    assert page.status_code == 200
    assert said.lower() in page.text.lower()
    assert "Traceback" not in page.text
    assert client.get(f"{path}/logs/{log.id}/raw").content == data
    assert client.get(f"{path}/fuel").status_code == 200
    assert "There is no log to compute from" in client.get(f"{path}/fuel").text


def test_a_body_over_the_limit_is_refused_before_it_is_read(client, path):
    headers = {"content-length": str(UPLOAD_LIMIT_BYTES + 1)}
    answer = client.send_form(f"{path}/logs/upload", files={"files": ("a.csv", b"x")}, headers=headers)
    assert answer.status_code == 413
    assert "larger than 512 MB" in answer.text
    answer = client.send_form("/sign-in", {"email": "x" * (FORM_LIMIT_BYTES + 1), "password": "x"})
    assert answer.status_code == 413


def test_the_same_file_again_is_recognised(client, scene, path):
    for _ in range(2):
        client.send_form(f"{path}/logs/upload", files={"files": ("drive.csv", log_text())})
    assert "is the same file as drive.csv" in client.get(f"{path}/logs").text


def test_the_grid_shows_the_cores_errors(at_fuel, scene, path):
    with unit_of_work():
        proposal = fuel.fuel_work(scene.job, scene.round).proposal
    shown = cells_of(at_fuel.get(f"{path}/fuel").text)
    assert len(shown) == proposal.table.grid.size
    for (i, j), text in shown.items():
        mean = proposal.estimate.factor[j, i]
        assert text == ("" if np.isnan(mean) else signed((mean - 1) * 100))
    after = cells_of(at_fuel.get(f"{path}/fuel?view=proposed").text)
    assert all(float(text) == proposal.correction.after[j, i] for (i, j), text in after.items())


def test_the_margin_explains_a_cell(at_fuel, scene, path):
    with unit_of_work():
        proposal = fuel.fuel_work(scene.job, scene.round).proposal
    j, i = (int(one) for one in np.unravel_index(np.argmax(proposal.bins.dwell), proposal.bins.dwell.shape))
    account = explain(proposal, j, i)
    facts = facts_of(at_fuel.get(f"{path}/fuel/cell?i={i}&j={j}").text)
    assert float(facts["before"]) == account.before
    assert float(facts["after"]) == account.after
    assert facts["factor"] == signed((account.after / account.before - 1) * 100)
    assert facts["samples"] == f"{account.samples:.0f}"
    assert facts["mean"] == f"{signed((account.mean - 1) * 100, 2)} %"
    assert facts["spread"] == f"{account.spread * 100:.2f} %"


def test_the_policy_sentence_changes_the_proposal(at_fuel, scene, path):
    at_fuel.send_form(f"{path}/fuel/policy", {"strength": "50", "limit_percent": "3,5", "view": "proposed"})
    with unit_of_work():
        work = fuel.fuel_work(scene.job, jobs.rounds(scene.job)[0])
    assert (work.proposal.policy.strength, work.proposal.policy.limit_percent) == (50.0, 3.5)
    change = work.proposal.correction.after / work.proposal.table.grid - 1
    assert np.abs(change).max() < 0.037


@pytest.mark.parametrize(
    "field", [{"strength": "many"}, {"strength": "130"}, {"estimator": "best"}, {"settle_s": "nan"}]
)
def test_a_bad_policy_is_refused_and_the_old_one_stays(at_fuel, scene, path, field):
    answer = at_fuel.send_form(f"{path}/fuel/policy", field, headers={"x-fragment": "yes"})
    assert answer.status_code == 400
    assert next(iter(field)) in answer.json()["said"]
    with unit_of_work():
        assert fuel.policy_of(jobs.rounds(scene.job)[0]).strength == 100


def test_pins_and_rules_are_kept(at_fuel, scene, path):
    at_fuel.send_form(f"{path}/fuel/pin", {"cells": "2.3 3.3"})
    at_fuel.send_form(f"{path}/fuel/rule", {"rule": "transient", "on": "false"})
    with unit_of_work():
        policy = fuel.fuel_work(scene.job, jobs.rounds(scene.job)[0]).proposal.policy
    assert policy.pinned == ((2, 3), (3, 3))
    assert policy.without == ("transient",)
    at_fuel.send_form(f"{path}/fuel/pin", {"cells": "2.3 3.3"})
    at_fuel.send_form(f"{path}/fuel/rule", {"rule": "transient", "on": "true"})
    with unit_of_work():
        policy = fuel.policy_of(jobs.rounds(scene.job)[0])
    assert (policy.pinned, policy.without) == ((), ())
    assert at_fuel.send_form(f"{path}/fuel/pin", {"cells": "a.b"}).status_code == 400
    assert at_fuel.send_form(f"{path}/fuel/rule", {"rule": "missing", "on": "false"}).status_code == 400


def test_a_whole_round(at_fuel, scene, path):
    answer = at_fuel.send_form(f"{path}/fuel/take", {"version": "1"})
    assert answer.status_code == 303
    assert "This proposal is in the draft" in at_fuel.get(f"{path}/fuel").text
    review = at_fuel.get(f"{path}/review").text
    assert "Draft against revision 0" in review
    assert "put back" in review
    stale = at_fuel.send_form(f"{path}/return", {"version": "1", "notes": ""})
    assert stale.status_code == 409
    assert "Nothing was overwritten" in stale.text
    assert at_fuel.send_form(f"{path}/return", {"version": "2", "notes": "Flash it."}).status_code == 303
    answer = at_fuel.get(f"/jobs/{scene.job.id}/revisions/1.json")
    assert 'filename="corvid-pike-revision-1.json"' in answer.headers["content-disposition"]
    content = calibration_json.loads(answer.content)
    with unit_of_work():
        kept = revisions.numbered(scene.job, 1).calibration
    assert calibration_json.content_hash(content) == kept.content_hash == answer.headers["x-content-hash"]
    for action, data in (
        ("fuel/take", {"version": "3"}),
        ("fuel/policy", {"strength": "10"}),
        ("fuel/pin", {"cells": "1.1"}),
        ("return", {"version": "3"}),
    ):
        assert at_fuel.send_form(f"{path}/{action}", data).status_code == 409, action
    assert "Revision 1 against revision 0" in at_fuel.get(f"{path}/review").text
    assert at_fuel.get(f"/jobs/{scene.job.id}/rounds/2/logs").status_code == 200


def test_putting_back_through_the_page(at_fuel, path):
    at_fuel.send_form(f"{path}/fuel/take", {"version": "1"})
    event = re.search(r'name="event" value="(\d+)"', at_fuel.get(f"{path}/review").text)[1]
    assert at_fuel.send_form(f"{path}/review/put-back", {"event": event, "version": "2"}).status_code == 303
    assert "Nothing differs from revision 0" in at_fuel.get(f"{path}/review").text
    again = at_fuel.send_form(f"{path}/review/put-back", {"event": event, "version": "3"})
    assert again.status_code == 409


def test_an_ended_round_still_shows_what_it_saw(at_fuel, scene, path):
    views = ("error", "proposed", "difference", "evidence")
    before = [cells_of(at_fuel.get(f"{path}/fuel?view={view}").text) for view in views]
    margin = facts_of(at_fuel.get(f"{path}/fuel/cell?i=4&j=4").text)
    at_fuel.send_form(f"{path}/fuel/take", {"version": "1"})
    at_fuel.send_form(f"{path}/return", {"version": "2"})
    assert [cells_of(at_fuel.get(f"{path}/fuel?view={view}").text) for view in views] == before
    assert facts_of(at_fuel.get(f"{path}/fuel/cell?i=4&j=4").text) == margin


def test_the_drawer_reads_three_channels_and_thins_them(at_fuel, scene, path, monkeypatch):
    monkeypatch.setattr("uchiwa.web.drawer.moments_picture._POINTS", 50)
    stored_log.forget()
    at_fuel.get(f"{path}/fuel")
    read = []
    original = database.execute_sql

    def counted(sql, *rest, **named):
        read.append(sql)
        return original(sql, *rest, **named)

    monkeypatch.setattr(database, "execute_sql", counted)
    drawn = drawer_of(at_fuel.get(f"{path}/fuel/moments?i=4&j=4"))
    assert drawn.traces == ["engine speed", "intake pressure", "λ measured"]
    assert max(drawn.points) <= 50
    assert sum("`channel_chunk`" in sql for sql in read) <= drawn.windows
    assert re.search(r"/read\?log=\d+&amp;from=[\d.]+&amp;to=[\d.]+&amp;at=[\d.]+$", drawn.read)
    assert "of drive.csv fed this cell" in drawn.title


def test_taking_on_a_car(client):
    good = calibration_json.dumps(pike_base()).encode()
    form = {"customer": "Ada", "car": "Corvid Pike", "details": "red"}
    answer = client.send_form("/jobs/new", form, files={"calibration": ("base.json", good)})
    assert answer.status_code == 303
    assert client.get(answer.headers["location"]).status_code == 200


def bad_calibrations():
    base = calibration_json.as_dict(pike_base())

    def changed(change):
        raw = json.loads(json.dumps(base))
        change(raw["tables"][0])
        return json.dumps(raw).encode()

    return {
        "ragged": changed(lambda table: table["values"][3].pop()),
        "do not rise": changed(lambda table: table["x"]["breakpoints"].reverse()),
        "not known": changed(lambda table: table.update(colour="red")),
        "NaN": changed(lambda table: table["values"][2].__setitem__(1, float("nan"))),
        "identity": b"\x00\x01",
        "nothing says what the car starts from": b"",
    }


@pytest.mark.parametrize("said", list(bad_calibrations()))
def test_a_bad_calibration_is_said_and_the_form_kept(client, said):
    form = {"customer": "Ada", "car": "Corvid Pike", "details": "red"}
    answer = client.send_form("/jobs/new", form, files={"calibration": ("base.json", bad_calibrations()[said])})
    assert answer.status_code == 400
    assert said in answer.text
    assert 'value="Ada"' in answer.text
    assert client.get("/").text.count("queue-row") == 1


@pytest.mark.parametrize(
    "address",
    ["/nowhere", "/jobs/999", "/jobs/x", "/jobs/{job}/rounds/9/fuel", "/jobs/{job}/rounds/1/fuel?view=none",
     "/jobs/{job}/rounds/1/fuel/cell?i=99&j=0", "/jobs/{job}/revisions/7.json", "/jobs/{job}/rounds/1/logs/77/raw",
     "/jobs/{job}/rounds/1/fuel?table=none", "/jobs/{job}/rounds/1/fuel/moments?i=-1&j=500"],
)  # fmt: skip
def test_odd_addresses_get_a_page_without_a_traceback(at_fuel, scene, address):
    answer = at_fuel.get(address.format(job=scene.job.id))
    assert answer.status_code < 500
    assert "Traceback" not in answer.text


def test_a_failure_is_not_shown(client, monkeypatch):
    monkeypatch.setattr("uchiwa.store.queue.queue", lambda *_, **__: 1 / 0)
    answer = client.get("/")
    assert answer.status_code == 503
    assert "nothing of yours is lost" in answer.text
    assert "ZeroDivisionError" not in answer.text
