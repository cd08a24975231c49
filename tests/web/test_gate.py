"""Before a body is read: who may send it at all, how slowly, and from where."""

from __future__ import annotations

import asyncio
import http.client
import json
import re
import socket
import threading
import time
from pathlib import Path
from typing import Any

import pytest
import uvicorn
from lxml import html
from starlette.testclient import TestClient

from bench.fuzzer import routes
from tests.store.conftest import log_text
from tests.web.conftest import Client
from uchiwa.core.errors import BadInput
from uchiwa.core.tables.interchange import calibration_json
from uchiwa.services.importing import import_log
from uchiwa.settings import Settings, as_table, read_settings
from uchiwa.standin.cars import pike_base
from uchiwa.store import accounts, drafts, links
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import Draft, LogChannel, LogFile
from uchiwa.web.app import create_app
from uchiwa.web.requests import limits, protocol


def ask(
    app: Any, path: str, *, headers: dict[str, str] | None = None, messages: list[Any] | None = None
) -> tuple[int, bytes, int]:
    """Status, body, and how many messages of the request's body were read; what is awaited beyond them never comes."""
    read = 0
    answer: list[dict[str, Any]] = []

    async def receive() -> dict[str, Any]:
        nonlocal read
        read += 1
        if messages is None or read > len(messages):
            await asyncio.sleep(3600)
        return messages[read - 1]

    async def send(message: dict[str, Any]) -> None:
        answer.append(message)

    given = [(key.lower().encode(), value.encode()) for key, value in (headers or {}).items()]
    scope = {
        "type": "http", "http_version": "1.1", "method": "POST", "path": path, "raw_path": path.encode(),
        "query_string": b"", "headers": given, "client": ("127.0.0.1", 5000), "server": ("testserver", 80),
        "scheme": "http", "root_path": "", "asgi": {"version": "3.0"},
    }  # fmt: skip
    asyncio.run(asyncio.wait_for(app(scope, receive, send), 30))
    body = b"".join(one.get("body", b"") for one in answer)
    return answer[0]["status"], body, read


UPLOAD = {"content-type": "multipart/form-data; boundary=x", "content-length": "400000000"}


@pytest.fixture
def path(scene) -> str:
    return f"/jobs/{scene.job.id}/rounds/1/logs/upload"


def test_nothing_is_read_of_a_stranger(client, path):
    app = client.app
    assert ask(app, path, headers=UPLOAD) == (303, b"", 0)
    status, body, read = ask(app, "/c/unknownunknownunknown/logs/upload", headers=UPLOAD)
    assert (status, read) == (404, 0)
    assert b"no such page" in body


def test_of_somebody_with_a_wrong_token_no_more_is_read_than_its_place(client, path):
    cookie = {"cookie": f"uchiwa={client.cookies['uchiwa']}"}
    status, body, read = ask(client.app, path, headers=UPLOAD | cookie | {"x-csrf": "guess"})
    assert (status, read) == (403, 0)
    assert b"open too long" in body
    piece = {"type": "http.request", "body": b"--x\r\n" + b"z" * 30_000, "more_body": True}
    status, _, read = ask(client.app, path, headers=UPLOAD | cookie, messages=[piece] * 50)
    assert (status, read) == (403, 1)


def test_forms_without_script_carry_the_token_first(client, scene, path):
    files = {"csrf": (None, client.token), "files": ("a.csv", log_text())}
    assert client.post(path, files=files, follow_redirects=False).status_code == 303
    late = {"files": ("b.csv", "x" * 200_000), "csrf": (None, client.token)}
    assert client.post(path, files=late, follow_redirects=False).status_code == 403
    close = f"/jobs/{scene.job.id}/close"
    assert client.post(close, data={"closed": "true", "csrf": client.token}, follow_redirects=False).status_code == 303
    assert client.post(close, data={"closed": "true", "csrf": ""}, follow_redirects=False).status_code == 403


def test_slow_senders_are_cut_off(client, path, monkeypatch):
    headers = UPLOAD | {"cookie": f"uchiwa={client.cookies['uchiwa']}", "x-csrf": client.token}
    first = {"type": "http.request", "body": b"--x\r\n", "more_body": True}
    monkeypatch.setattr(limits, "SILENCE_S", 0.05)
    status, body, read = ask(client.app, path, headers=headers, messages=[first])
    assert (status, read) == (408, 2)
    assert b"too slowly" in body
    monkeypatch.setattr(limits, "SILENCE_S", 30)
    monkeypatch.setattr(limits, "GRACE_S", 0.0)
    status, _, read = ask(client.app, path, headers=headers, messages=[first] * 10)
    assert (status, read) == (408, 1)


def test_a_head_that_never_ends_is_not_waited_for(client, monkeypatch):
    monkeypatch.setattr(protocol, "HEAD_WITHIN_S", 0.3)
    config = uvicorn.Config(client.app, port=0, http=protocol.PunctualProtocol, log_level="critical", lifespan="off")
    server = uvicorn.Server(config)
    thread = threading.Thread(target=server.run, daemon=True)
    thread.start()
    try:
        while not server.started:
            time.sleep(0.01)
        port = server.servers[0].sockets[0].getsockname()[1]
        for head in (b"", b"GET / HTTP/1.1\r\nHost: x\r\nX-Slow: "):
            with socket.create_connection(("127.0.0.1", port), 20) as slow:
                slow.sendall(head)
                slow.settimeout(20)
                assert slow.recv(1000) == b""
        good = http.client.HTTPConnection("127.0.0.1", port, timeout=20)
        for _ in range(2):
            good.request("GET", "/static/fan.svg")
            answer = good.getresponse()
            assert (answer.status, len(answer.read()) > 100) == (200, True)
        good.close()
    finally:
        server.should_exit = True
        thread.join(20)


def test_guessing_links_closes_no_good_one(visitor, scene):
    with unit_of_work():
        token = links.make(scene.job)
    for number in range(links.GUESSES + 5):
        last = visitor.get(f"/c/{'guess' * 5}{number}").status_code
    assert last == 429
    assert visitor.get(f"/c/{token}").status_code == 200


def sign_in_from(app: Any, address: str, password: str, forwarded: str = "") -> int:
    client = Client(app, client=(address, 4000), raise_server_exceptions=False)
    if forwarded:
        client.headers["x-forwarded-for"] = forwarded
    return client.sign_in("tuner@example.org", password).status_code


def test_clients_are_told_apart_behind_a_trusted_proxy_only(scene, monkeypatch):
    monkeypatch.setattr(accounts, "_SLOWER_S", 0.0)
    app = create_app("key", settings=Settings(trusted_proxies="10.0.0.0/24"))
    for number in range(accounts.ATTEMPTS):
        assert sign_in_from(app, "10.0.0.1", "wrong", "1.2.3.4, 10.0.0.7") == 401, number
    assert sign_in_from(app, "10.0.0.2", "a long enough password", "1.2.3.4") == 429
    assert sign_in_from(app, "10.0.0.1", "a long enough password", "1.2.3.5") == 303
    for _ in range(accounts.ATTEMPTS):
        sign_in_from(app, "8.8.8.8", "wrong", "5.5.5.5")
    assert sign_in_from(app, "8.8.8.8", "wrong", "6.6.6.6") == 429
    for number in range(accounts.ATTEMPTS):
        sign_in_from(app, f"2001:db8:0:7::{number}", "wrong")
    assert sign_in_from(app, "2001:db8:0:7:ffff::1", "wrong") == 429


def test_a_device_that_signed_in_before_is_let_in_while_others_guess(visitor, scene):
    assert visitor.sign_in("tuner@example.org", "a long enough password").status_code == 303
    visitor.send_form("/sign-out")
    visitor.learn_token()
    stranger = Client(visitor.app, raise_server_exceptions=False)
    for _ in range(accounts.ATTEMPTS + 1):
        last = stranger.sign_in("tuner@example.org", "wrong").status_code
    assert last == 429
    assert visitor.sign_in("tuner@example.org", "a long enough password").status_code == 303


def test_signing_out_ends_a_copied_session_too(client):
    copy = Client(client.app, raise_server_exceptions=False)
    copy.cookies.update(client.cookies)
    assert copy.get("/", follow_redirects=False).status_code == 200
    client.send_form("/sign-out")
    assert copy.get("/", follow_redirects=False).status_code == 303


def test_links_begin_with_the_public_address_whatever_a_request_says(scene):
    app = create_app("key", settings=Settings(public_address="https://tune.example"))
    client = Client(app, base_url="https://evil.example", raise_server_exceptions=False)
    client.sign_in("tuner@example.org", "a long enough password")
    client.send_form(f"/jobs/{scene.job.id}/rounds/1/brief/link", {"what": "make"}, headers={"host": "evil.example"})
    page = client.get(f"/jobs/{scene.job.id}/rounds/1/brief").text
    assert re.search(r"https://tune\.example/c/[A-Za-z0-9_-]{20,}", page)
    assert "evil.example" not in page
    again = client.get(f"/jobs/{scene.job.id}/rounds/1/brief").text
    assert not re.search(r"https://tune\.example/c/", again)


def test_cookies_keep_to_tls_where_the_address_does(scene):
    for address, safe in (("https://tune.example", True), ("http://127.0.0.1:8460", False)):
        app = create_app("key", settings=Settings(public_address=address))
        cookie = TestClient(app).get("/sign-in").headers["set-cookie"]
        assert ("Secure" in cookie) is safe
        assert "HttpOnly" in cookie
        assert "SameSite=Lax" in cookie


@pytest.mark.parametrize(
    ("name", "value"),
    [
        ("UCHIWA_PORT", "eighty"), ("UCHIWA_PORT", "0"), ("UCHIWA_PUBLIC_ADDRESS", "tune.example"),
        ("UCHIWA_PUBLIC_ADDRESS", "https://tune.example/path"), ("UCHIWA_TRUSTED_PROXIES", "10.0.0.1, here"),
        ("UCHIWA_WEB_PROCESSES", "many"), ("UCHIWA_WEB_PROCESSES", "0"),
    ],
)  # fmt: skip
def test_a_setting_that_cannot_be_says_which(name, value, monkeypatch):
    monkeypatch.setenv(name, value)
    with pytest.raises(BadInput, match=re.escape(value)) as refused:
        read_settings()
    assert refused.value.where == name
    assert refused.value.advice


def test_settings_have_sensible_values(monkeypatch):
    for name in Settings.model_fields:
        monkeypatch.delenv(f"UCHIWA_{name.upper()}", raising=False)
    assert read_settings().public_address == "http://127.0.0.1:8460"
    monkeypatch.setenv("UCHIWA_PORT", "9000")
    assert read_settings().public_address == "http://127.0.0.1:9000"
    monkeypatch.setenv("UCHIWA_PUBLIC_ADDRESS", "https://tune.example/")
    assert (read_settings().public_address, read_settings().https) == ("https://tune.example", True)


def test_the_documentation_lists_every_setting():
    assert as_table() in (Path(__file__).parents[2] / "docs" / "settings.md").read_text()


def test_an_answer_and_the_log_name_the_request(client, caplog):
    with caplog.at_level("INFO", logger="uchiwa.requests"):
        name = client.get("/c/secret-token").headers["x-request-id"]
    assert re.fullmatch("[0-9a-f]{12}", name)
    assert client.get("/sign-in").headers["x-request-id"] != name
    assert "GET /c/… answered" in caplog.text
    assert "secret-token" not in caplog.text


def test_a_sentence_in_any_script_is_shown_once(client, scene):
    words = "キャブレター " * 8
    client.send_form("/shop/channels", {"name": "mine", "title": words, "formula": "engine_speed"})
    client.send_form(f"/jobs/{scene.job.id}/setups/own", {"name": words.strip(), "wishes": "lambda_target = 1"})
    assert f"“{words.strip()}” is kept." in client.get("/").text
    assert "is kept" not in client.get("/").text


def test_health_can_be_asked_by_head(client):
    assert client.head("/healthz").status_code == client.get("/healthz").status_code


def test_an_ended_round_s_logs_stay_as_they_were_through_any_address(client, scene):
    log, _ = scene.receive(log_text())
    import_log(log.id)
    with unit_of_work():
        version = drafts.current(scene.job).version
    job = f"/jobs/{scene.job.id}"
    assert client.send_form(f"{job}/rounds/1/return", {"version": version, "notes": "x"}).status_code == 303
    for number, status in ((1, 409), (2, 404)):
        here = f"{job}/rounds/{number}/logs/{log.id}"
        for act, form in (
            ("accept", {"accepted": "false"}),
            ("again", {}),
            ("channel", {"name": "rpm", "quantity": "auto"}),
        ):
            assert client.send_form(f"{here}/{act}", form).status_code == status, (number, act)
    with unit_of_work():
        row = LogFile.get_by_id(log.id)
    assert (row.accepted, row.state, row.decided) == (True, "ready", False)


def test_a_log_that_is_read_anew_while_it_is_looked_at_says_so(client, scene):
    log, _ = scene.receive(log_text())
    import_log(log.id)
    here = f"/jobs/{scene.job.id}/rounds/1"
    with unit_of_work():
        LogChannel.delete().where(LogChannel.log == log).execute()
    for path in (f"/read?log={log.id}", f"/logs/{log.id}/as/csv", "/spark/knock", "/fuel", "/tables", "/airflow"):
        answer = client.get(here + path)
        assert answer.status_code in (200, 409), (path, answer.status_code, answer.text[:500])


def forms_without_a_token_first(text: str) -> list[str]:
    """The actions of a page's forms that are sent without script and do not begin with the token, in the order of sending."""
    tree = html.fromstring(text)
    wrong = []
    for form in tree.xpath("//form[translate(@method, 'POST', 'post') = 'post']"):
        fields = tree.xpath("//input[@name] | //select[@name] | //textarea[@name] | //button[@name]")
        its = [one for one in fields if (one.get("form") or None) == form.get("id", "") or (
            one.get("form") is None and form in one.iterancestors("form"))]  # fmt: skip
        if not its or its[0].get("name") != "csrf":
            wrong.append(f"{form.get('action')}: {[one.get('name') for one in its[:3]]}")
    return wrong


def test_every_form_has_the_token_as_its_first_field(client, scene, link):
    here = f"/jobs/{scene.job.id}"
    paths = [route.path for route in routes() if "GET" in route.methods and "{" not in route.path]
    paths += [f"{here}/{rest}" for rest in ("", "car", "setups", "image", *(f"rounds/1/{one}" for one in (
        "brief", "logs", "fuel", "airflow", "tables", "compare", "review", "return", "bins", "spark/knock", "idle/air", "live")))]  # fmt: skip
    seen = 0
    for path in [*paths, link]:
        answer = client.get(path.rstrip("/") or "/")
        if answer.status_code == 200 and "text/html" in answer.headers.get("content-type", "") and answer.text.strip():
            assert forms_without_a_token_first(answer.text) == [], path
            seen += answer.text.count("<form")
    assert seen > 60


def test_every_page_of_a_job_without_a_log_answers(client, scene):
    values = {"job_id": scene.job.id, "number": 1, "table_id": "ve_main", "kind": "csv", "channel_id": 1, "log_id": 1}
    asked = [route.path for route in routes() if "GET" in route.methods and route.path.startswith("/jobs/{job_id}")]
    assert len(asked) > 30
    said = {
        "x": "engine_speed", "y": "throttle_position", "colour": "lambda_measured", "table": "ve_main", "i": 0, "j": 0,
        "box": [0, 1, 0, 1], "formula": "engine_speed", "where": "engine_speed > 1000", "cells": "0.0", "at": 1, "from": 0,
        "to": 1, "start": 0, "end": 1, "width": 600, "keys": "engine_speed", "channel": "engine_speed", "a": 0, "b": 0,
        "q": "engine", "text": "x*2", "condition": "engine_speed > 1",
    }  # fmt: skip
    for path in asked:
        for query in ({}, said):
            answer = client.get(re.sub(r"{(\w+)[^}]*}", lambda found: str(values.get(found[1], 1)), path), params=query)
            assert answer.status_code < 500, (path, query, answer.status_code, answer.text[:500])


def extreme(value: float) -> bytes:
    """A calibration with numbers that no controller holds."""
    document = json.loads(calibration_json.dumps(pike_base()))
    for constant in document["constants"]:
        constant["value"] = value
    table = document["tables"][0]
    table |= {"minimum": None, "maximum": None}
    table["values"][0][0], table["values"][-1][-1] = -value, value
    return json.dumps(document).encode()


def test_calibrations_of_any_size_are_drawn_or_refused(client, scene):
    form = {"customer": "X", "car": "Y"}
    refused = client.send_form("/jobs/new", form, files={"calibration": ("base.json", extreme(1e308))})
    assert refused.status_code == 400
    assert "constants[0].value" in refused.text
    answer = client.send_form("/jobs/new", form, files={"calibration": ("base.json", extreme(1e12))})
    assert answer.status_code == 303, answer.text[:3000]
    job = answer.headers["location"].split("/rounds")[0]
    table = "ve_main"
    for path in ("/car", "/setups", "/image", "/rounds/1/brief", "/rounds/1/fuel", "/rounds/1/tables", "/rounds/1/review",
                 f"/rounds/1/tables?table={table}&show=change", "/rounds/1/return", "/rounds/1/compare",
                 f"/rounds/1/tables/cell?table={table}&i=0&j=0", f"/rounds/1/tables/cell?table={table}&i=0&j=0&relief=true"):  # fmt: skip
        assert client.get(job + path).status_code == 200, path
    for line, status in (("x*2", 400), ("x+1e308", 400), ("x*1e300*1e300", 400), ("5", 303)):
        with unit_of_work():
            version = Draft.get(Draft.job == int(job.rsplit("/", 1)[1])).version
        form = {"table": table, "version": version, "cells": "0.0 1.1 14.12", "line": line}
        assert client.send_form(f"{job}/rounds/1/tables/edit", form).status_code == status, line
    form = {"constant": "displacement", "value": "1e300", "version": version + 1}
    assert client.send_form(f"{job}/rounds/1/tables/constant", form).status_code == 400


@pytest.mark.parametrize("text", ["²", "1.²", "٣.٣", "-1.2", "1e3.2", "9" * 30 + ".1", "1.1.1", "1,1"])
def test_numbers_that_are_none_are_said(client, scene, text):
    here = f"/jobs/{scene.job.id}/rounds/1"
    for answer in (
        client.send_form(f"{here}/tables/edit", {"table": "ve_main", "version": 1, "cells": text, "line": "x+1"}),
        client.get(f"{here}/compare?a=revision:{text}"),
        client.get(f"{here}/tables?cell={text}"),
        client.get(f"{here}/fuel?cell={text}"),
        client.get(f"{here}/read?place={text}:{text}"),
        client.send_form(f"/jobs/{scene.job.id}/car", {"banks": text}),
    ):
        assert answer.status_code < 500, answer.text[:800]


def test_a_sentence_leads_back_to_the_page_it_is_about(client, scene):
    page = f"/jobs/{scene.job.id}/rounds/1/tables"
    form = {"table": "ve_main", "version": 99, "cells": "1.1", "line": "5"}
    answer = client.send_form(f"{page}/edit", form, headers={"referer": f"http://testserver{page}?table=ve_main"})
    assert answer.status_code == 409
    assert f'href="{page}?table=ve_main"' in answer.text
    answer = client.send_form(f"{page}/edit", form, headers={"referer": "https://elsewhere.example/page"})
    assert "elsewhere" not in answer.text
