"""The programming interface: scopes, shops, limits, and every call against its own description."""

from __future__ import annotations

import re
from datetime import timedelta

import pytest
import schemathesis
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st
from schemathesis.core.failures import FailureGroup
from schemathesis.specs.openapi.checks import ignored_auth, positive_data_acceptance

from tests.seeds import seeds
from tests.store.conftest import log_text, ready, sweep
from tests.web.conftest import Client
from uchiwa.core.tables.interchange import calibration_json, cdf
from uchiwa.standin.cars import pike_base
from uchiwa.store import accounts, api_tokens, attempts, jobs, people
from uchiwa.store.clock import now
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import ApiToken, AuditEntry, Job, LogFile
from uchiwa.web.api.app import create_api
from uchiwa.web.api.caller import A_MINUTE, PATH
from uchiwa.web.app import create_app

NOT_FOR_US = [ignored_auth, positive_data_acceptance]
"""The first sends the token along; the second takes any text for a formula or the id of a table."""
ALL_SCOPES = list(api_tokens.SCOPES)


def token_for(user, *scopes: str) -> dict[str, str]:
    """The head of a request with a new token."""
    with unit_of_work():
        return {"authorization": f"Bearer {api_tokens.make(user, 'a program', list(scopes) or ALL_SCOPES, 30)}"}


@pytest.fixture
def worked(scene):
    """The scene with a log that was read."""
    ready(scene.receive(log_text())[0])
    return scene


def test_a_log_goes_in_and_findings_proposal_bins_and_revision_come_out(visitor, scene):
    head = token_for(scene.user)
    assert [one["car"] for one in visitor.get(f"{PATH}/jobs", headers=head).json()["jobs"]] == ["Corvid Pike"]
    job = f"{PATH}/jobs/{scene.job.id}"
    sent = visitor.post(f"{job}/logs", headers=head, files={"file": ("drive.csv", log_text().encode())})
    assert sent.status_code == 202
    assert sent.json()["state"] == "stored"
    again = visitor.post(f"{job}/logs", headers=head, files={"file": ("drive.csv", log_text().encode())})
    assert (again.status_code, again.json()["id"]) == (200, sent.json()["id"])
    sweep()
    log = visitor.get(f"{PATH}/logs/{sent.json()['id']}", headers=head).json()
    assert (log["state"], log["accepted"]) == ("ready", True)
    assert isinstance(visitor.get(f"{PATH}/logs/{log['id']}/findings", headers=head).json()["findings"], list)
    proposal = visitor.get(f"{job}/rounds/1/proposals/fuel", headers=head).json()
    assert proposal["report"]["table"] == "ve_main"
    assert any(one["state"] == "changed" for one in proposal["report"]["cells"])
    asked = {"table": "ve_main", "value": "lambda_measured", "where": ["coolant_temperature > 80"]}
    bins = visitor.get(f"{job}/rounds/1/bins", headers=head, params=asked).json()
    figures = [one for row in bins["figure"] for one in row if one is not None]
    assert figures
    assert all(1.0 < figure < 1.12 for figure in figures)
    assert visitor.get(f"{job}/revisions", headers=head).json()["revisions"][0]["number"] == 0
    told = visitor.get(f"{job}/revisions/0/calibration", headers=head)
    assert told.text == calibration_json.dumps(pike_base())
    as_cdf = visitor.get(f"{job}/revisions/0/calibration?cdf=true", headers=head)
    assert calibration_json.dumps(cdf.loads(as_cdf.content).calibration) == told.text


def test_without_a_token_nothing_is_answered_and_no_body_is_read(client, scene):
    """A session's cookie opens nothing here, and a token opens no page."""
    paths = list(create_api().openapi()["paths"])
    for path in paths:
        address = PATH + re.sub(r"\{kind\}", "fuel", re.sub(r"\{\w+_?id\}|\{number\}", "1", path))
        method = "POST" if path.endswith("{job_id}/logs") else "GET"
        for head in ({}, {"authorization": "Bearer uchiwa_made-up"}, {"authorization": "Basic eDp5"}):
            answer = client.request(method, address, headers=head)
            assert answer.status_code == 401, address
            assert "token" in answer.json()["detail"]
    head = token_for(scene.user)
    with Client(create_app("test-key")) as other:
        assert other.get("/shelf", headers=head, follow_redirects=False).headers["location"] == "/sign-in"


def test_a_token_may_only_what_its_scopes_say(visitor, worked):
    job = f"{PATH}/jobs/{worked.job.id}"
    reads, sends, fetches = (token_for(worked.user, scope) for scope in ALL_SCOPES)
    file = {"file": ("x.csv", b"time,rpm\n0,1\n")}
    assert visitor.get(job, headers=reads).status_code == 200
    assert visitor.post(f"{job}/logs", headers=reads, files=file).status_code == 403
    assert visitor.get(f"{job}/revisions/0/calibration", headers=reads).status_code == 403
    assert visitor.get(job, headers=sends).status_code == 403
    assert visitor.get(f"{job}/revisions/0/calibration", headers=fetches).status_code == 200
    assert "scope “read”" in visitor.get(job, headers=fetches).json()["detail"]


def test_another_shops_things_are_not_there(visitor, worked):
    with unit_of_work():
        shop = accounts.create_shop("Other")
        user = accounts.create_user(shop, "other@example.org", "Other", "a long enough password")
        log = LogFile.get(LogFile.job == worked.job)
    head = token_for(user)
    assert visitor.get(f"{PATH}/jobs", headers=head).json() == {"jobs": [], "next": None}
    job = f"{PATH}/jobs/{worked.job.id}"
    for address in (job, f"{job}/rounds/1/logs", f"{job}/revisions", f"{job}/revisions/0/calibration", f"{PATH}/logs/{log.id}",
                    f"{PATH}/logs/{log.id}/findings", f"{job}/rounds/1/proposals/fuel", f"{job}/rounds/1/bins?table=ve_main&value=1"):  # fmt: skip
        assert visitor.get(address, headers=head).status_code == 404, address
    sent = visitor.post(f"{job}/logs", headers=head, files={"file": ("x.csv", log_text().encode())})
    assert sent.status_code == 404


def test_a_token_ends_when_it_is_revoked_has_aged_or_its_person_is_locked_out(visitor, scene):
    def works(head):
        return visitor.get(f"{PATH}/jobs", headers=head).status_code == 200

    with unit_of_work():
        second = accounts.create_user(
            scene.user.shop, "second@example.org", "Second", "a long enough password", "tuner"
        )
    revoked, aged, locked = (token_for(second) for _ in range(3))
    assert all(works(one) for one in (revoked, aged, locked))
    with unit_of_work():
        tokens = api_tokens.of_person(second)  # newest first
        api_tokens.revoke(second, tokens[2].id)
        ApiToken.update(expires_at=now() - timedelta(seconds=1)).where(ApiToken.id == tokens[1].id).execute()
    assert [works(one) for one in (revoked, aged, locked)] == [False, False, True]
    with unit_of_work():
        people.disable(second)
    assert not works(locked)
    with unit_of_work():
        kinds = [entry.kind for entry in AuditEntry.select().where(AuditEntry.shop == scene.user.shop_id)]
    assert kinds.count("token-made") == 3
    assert kinds.count("token-ended") == 3, "one revoked, and what was left when its person was locked out"


def test_a_token_that_asks_too_often_waits(visitor, scene):
    head = token_for(scene.user)
    with unit_of_work():
        token = api_tokens.of_person(scene.user)[0]
    for _ in range(A_MINUTE):
        attempts.count(attempts.mark("api", str(token.id)), timedelta(minutes=1))
    answer = visitor.get(f"{PATH}/jobs", headers=head)
    assert answer.status_code == 429
    assert answer.headers["retry-after"] == "60"


def test_tokens_are_made_told_once_and_revoked_on_a_page(client, scene):
    refused = client.send_form("/account/tokens", {"name": "logger", "days": "90"})
    assert "at least one of the scopes" in refused.text
    made = client.send_form("/account/tokens", {"name": "logger", "scope": "read", "days": "30"})
    token = re.search(r"uchiwa_[\w-]{20,}", made.text)[0]
    assert client.get(f"{PATH}/jobs", headers={"authorization": f"Bearer {token}"}).status_code == 200
    page = client.get("/account/tokens").text
    assert token not in page
    number = re.search(r"/account/tokens/(\d+)/revoke", page)[1]
    client.send_form(f"/account/tokens/{number}/revoke")
    assert client.get(f"{PATH}/jobs", headers={"authorization": f"Bearer {token}"}).status_code == 401
    assert "/api/v1/jobs/{job_id}/logs" in client.get("/api/docs").text


def test_a_closed_job_takes_no_log(visitor, scene):
    with unit_of_work():
        Job.update(closed=True).where(Job.id == scene.job.id).execute()
    sent = visitor.post(
        f"{PATH}/jobs/{scene.job.id}/logs",
        headers=token_for(scene.user),
        files={"file": ("d.csv", log_text().encode())},
    )
    assert sent.status_code == 409
    assert "closed" in sent.json()["detail"]
    assert LogFile.select().count() == 0


def test_many_jobs_come_a_page_at_a_time(visitor, scene):
    with unit_of_work():
        for number in range(60):
            jobs.create(scene.user, f"Customer {number}", "Car", "", pike_base())
    head, seen, after = token_for(scene.user), [], 0
    while after is not None:
        page = visitor.get(f"{PATH}/jobs", headers=head, params={"after": after}).json()
        seen += [one["id"] for one in page["jobs"]]
        after = page["next"]
    assert len(seen) == len(set(seen)) == 61


def test_its_answers_are_what_its_description_says(visitor, worked):
    """Calls drawn from the description, valid ones and others: no failure of ours, no answer that is not described."""
    head = token_for(worked.user)
    schema = schemathesis.openapi.from_asgi(f"{PATH}/openapi.json", create_app("test-key"))
    with unit_of_work():
        real = {"job_id": worked.job.id, "number": 1, "log_id": LogFile.get(LogFile.job == worked.job).id}
    faults: list[str] = []
    for found in schema.get_all_operations():
        attempts.drop_old(timedelta(seconds=-1))
        _draw_calls(found.ok(), real, head, faults)
    assert sorted(set(faults)) == []


def _draw_calls(operation, real: dict[str, int], head: dict[str, str], faults: list[str]) -> None:
    """Two of three of them about what there is."""

    @settings(
        max_examples=seeds(15, 200), deadline=None, phases=[Phase.generate], suppress_health_check=list(HealthCheck)
    )
    @given(case=operation.as_strategy(), about=st.sampled_from([True, True, False]))
    def ask(case, about):
        if about and case.path_parameters:
            case.path_parameters = {key: real.get(key, value) for key, value in case.path_parameters.items()}
        try:
            case.call_and_validate(headers=head, excluded_checks=NOT_FOR_US)
        except FailureGroup as group:
            faults.extend(
                f"{case.method} {case.formatted_path} {case.query}: {exception}" for exception in group.exceptions
            )

    ask()
