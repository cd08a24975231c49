"""Live over the web: the protocol by WebSocket and plain HTTP, who may watch, what the phone may do."""

from __future__ import annotations

import gzip
import json
from collections.abc import Iterator

import pytest
from starlette.routing import WebSocketRoute
from starlette.websockets import WebSocketDisconnect

from tests.services.live.driving import begun, driven, opening_of
from tests.store.conftest import Scene, log_text, ready
from tests.web.conftest import Client
from uchiwa.core.live.limits import LiveLimits
from uchiwa.services.live import growing, passing, watch_over
from uchiwa.services.live.analysis import Analyst
from uchiwa.store import accounts, briefs, drafts, links, live_events, live_passing, live_sessions, log_states, people
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import LiveEvent, LiveSession, LogFile
from uchiwa.web.app import _ROUTES, create_app
from uchiwa.web.live import watching

ORIGIN = {"origin": "http://testserver"}
JSON = {"content-type": "application/json"}


@pytest.fixture
def link(scene: Scene) -> str:
    with unit_of_work():
        briefs.keep(scene.round, briefs.standard(scene.job, scene.round))
        return f"/c/{links.make(scene.job)}"


@pytest.fixture
def driver(clean_database) -> Iterator[Client]:
    """Somebody with the link and nothing else."""
    with Client(create_app("test-key"), raise_server_exceptions=False) as client:
        yield client


def fresh(session_id: int) -> LiveSession:
    with unit_of_work():
        return live_sessions.get(session_id)


def said(socket, key: str, most: int = 60):
    """The next message that has something."""
    for _ in range(most):
        message = socket.receive_json()
        if key in message:
            return message[key]
    raise AssertionError(f"no {key}")


def test_a_session_over_a_websocket(driver, link, scene):
    drive, batches = driven(8)
    answer = driver.post(link + "/live", content=opening_of(drive), headers=JSON)
    assert answer.status_code == 201
    begun_ = answer.json()
    assert begun_["next"] == 1
    assert begun_["limits"]["rate_hz"] == 200
    with driver.listening(f"{begun_['address']}/passing") as socket:
        socket.send_json({"key": begun_["key"]})
        assert socket.receive_json() == {"kept": 0, "next": 1}
        for batch in batches[:4]:
            socket.send_text(batch.decode())
        while said(socket, "kept") < 4:
            pass
        socket.send_text(batches[6].decode())
        assert "batch 7 came, and 5 is next" in said(socket, "refused")
        socket.send_text("nonsense")
        assert "not JSON" in said(socket, "refused")
        socket.send_text("x" * 300_000)
        assert "too large" in said(socket, "refused")
    # The link breaks here; the program asks where it was and goes on.
    with driver.listening(f"{begun_['address']}/passing") as socket:
        socket.send_json({"key": begun_["key"], "advice": True})
        assert socket.receive_json() == {"kept": 4, "next": 5}
        for batch in batches[3:]:
            socket.send_text(batch.decode())
        while said(socket, "kept") < len(batches):
            pass
        assert said(socket, "advice")["words"]
        socket.send_json({"end": True})
        assert said(socket, "ended")
    assert fresh(begun_["session"]).ended_why == "ended"


def test_the_same_over_plain_http(driver, link):
    drive, batches = driven(6)
    begun_ = driver.post(link + "/live", content=opening_of(drive), headers=JSON).json()
    bearer = JSON | {"authorization": f"Bearer {begun_['key']}"}
    here = begun_["address"]
    body = gzip.compress(b"\n".join(batches[:3]))
    answer = driver.post(f"{here}/batches", content=body, headers=bearer | {"content-encoding": "gzip"})
    assert answer.json() == {"kept": 3, "next": 4}
    assert driver.post(f"{here}/batches", content=b"\n".join(batches[1:5]), headers=bearer).json()["kept"] == 5
    wrong = driver.post(f"{here}/batches", content=b'{"batch": 6, "rows": [[0]]}', headers=bearer)
    assert wrong.status_code == 422
    assert wrong.json()["next"] == 6
    assert (
        driver.post(f"{here}/batches", content=b"\x1f\x8bno", headers=bearer | {"content-encoding": "gzip"}).status_code
        == 422
    )
    assert driver.get(f"{here}/state", headers=bearer).json() == {"kept": 5, "next": 6, "running": True, "why": ""}
    assert driver.get(f"{here}/overlay", headers=bearer).json()["number"] == 0
    assert driver.post(f"{here}/overlay", content=b'{"driven": 1}', headers=bearer).status_code == 422
    assert driver.post(f"{here}/end", content=b"{}", headers=bearer).json() == {"ended": True}
    gone = driver.post(f"{here}/batches", content=batches[5], headers=bearer)
    assert gone.status_code == 410
    assert "has ended" in gone.json()["refused"]


def test_every_refusal_is_one_clear_sentence(driver, link):
    drive, batches = driven(2)
    first = driver.post(link + "/live", content=opening_of(drive), headers=JSON).json()
    again = driver.post(link + "/live", content=opening_of(drive), headers=JSON)
    assert again.status_code == 409
    assert "another session of this car is being recorded" in again.json()["refused"]
    stranger = driver.post(
        f"{first['address']}/batches", content=batches[0], headers=JSON | {"authorization": "Bearer " + "x" * 32}
    )
    assert stranger.status_code == 410
    assert "no session of this key" in stranger.json()["refused"]
    assert driver.post(link + "/live", content=b"[", headers=JSON).status_code == 422
    # What a page of another site could have a browser send is not taken for a program's.
    assert (
        driver.post(link + "/live", content=opening_of(drive), headers={"content-type": "text/plain"}).status_code
        == 403
    )
    assert driver.post("/c/unknown/live", content=opening_of(drive), headers=JSON).status_code == 404
    with driver.listening(f"{first['address']}/passing") as socket:
        socket.send_json({"key": "wrong"})
        assert "no session of this key" in socket.receive_json()["refused"]
        with pytest.raises(WebSocketDisconnect):
            socket.receive_json()


def test_a_link_ended_under_way_ends_what_comes_and_keeps_what_came(driver, link, scene):
    drive, batches = driven(4)
    begun_ = driver.post(link + "/live", content=opening_of(drive), headers=JSON).json()
    with driver.listening(f"{begun_['address']}/passing") as socket:
        socket.send_json({"key": begun_["key"]})
        socket.send_text(batches[0].decode())
        while said(socket, "kept") < 1:
            pass
        with unit_of_work():
            links.revoke(scene.job)
        assert "ended this link" in said(socket, "refused")
    bearer = JSON | {"authorization": f"Bearer {begun_['key']}"}
    assert driver.post(f"{begun_['address']}/batches", content=batches[1], headers=bearer).status_code == 404
    assert fresh(begun_["session"]).batches == 1


def test_the_page_shows_and_tells_what_comes(client, scene, link):
    drive, batches = driven(30)
    session, _ = begun(scene, drive)
    assert "Nothing is being recorded" not in client.get(f"/jobs/{scene.job.id}/rounds/1/live").text
    passing.take(session, batches[:20])
    page = client.get(f"/jobs/{scene.job.id}/rounds/1/live?session={session.id}")
    assert page.status_code == 200
    assert "being recorded" in page.text
    address = f"/jobs/{scene.job.id}/rounds/1/live/{session.id}"
    strips = client.get(f"/jobs/{scene.job.id}/rounds/1/read/strips?log={session.log_id}&show=fuel&start=0&end=10")
    assert strips.status_code == 200
    with client.listening(f"{address}/watching", headers=ORIGIN) as socket:
        socket.send_json({"keys": ["engine_speed", "lambda_measured"], "table": "ve_main", "view": "time"})
        assert said(socket, "standing")["running"]
        passing.take(session, batches[20:])
        for _ in range(40):
            message = socket.receive_json()
            if message.get("t"):
                break
        assert set(message["v"]) == {"engine_speed", "lambda_measured"}
        assert message["t"] == pytest.approx([row[0] for batch in batches[20:] for row in json.loads(batch)["rows"]])
        assert message["at"]["i"] is not None
        live_passing.end(session.id)
        while said(socket, "standing")["running"]:
            pass


def test_a_page_without_a_session_learns_of_one_that_begins(client, scene):
    address = f"/jobs/{scene.job.id}/rounds/1/live"
    assert f'data-waiting="{address}"' in client.get(address).text
    assert client.get(f"{address}/now").json() == {"session": None}
    drive, batches = driven(5)
    session, _ = begun(scene, drive)
    assert client.get(f"{address}/now").json() == {"session": session.id}
    passing.take(session, batches)
    live_passing.end(session.id)
    assert client.get(f"{address}/now").json() == {"session": None}
    assert f'data-known="{session.id}"' in client.get(address).text


def test_a_session_that_has_ended_is_shown_until_it_is_imported_and_after(client, scene, link):
    drive, batches = driven(30)
    session, _ = begun(scene, drive)
    passing.take(session, batches)
    strips = f"/jobs/{scene.job.id}/rounds/1/read/strips?log={session.log_id}&show=engine_speed&start=0&end=10"
    shown = {log_states.RECORDING: len(client.get(strips).content)}
    live_passing.end(session.id)
    for state in (log_states.STORED, log_states.IMPORTING):
        with unit_of_work():
            LogFile.update(state=state).where(LogFile.id == session.log_id).execute()
        growing.forget()  # as in a process that has not followed it
        answer = client.get(strips)
        assert answer.status_code == 200, state
        shown[state] = len(answer.content)
    assert min(shown.values()) > 1000, shown
    with unit_of_work():
        LogFile.update(state=log_states.STORED).where(LogFile.id == session.log_id).execute()
        log = LogFile.get_by_id(session.log_id)
    ready(log)
    assert client.get(strips).status_code == 200
    other, _ = scene.receive(log_text(3), "waits.csv")
    assert client.get(strips.replace(f"log={session.log_id}", f"log={other.id}")).status_code == 404


def test_who_may_watch(scene, client, link, clean_database):
    """Every WebSocket of a page, as those who must not see it, and from another site's page."""
    drive, batches = driven(3)
    session, _ = begun(scene, drive)
    passing.take(session, batches)
    sockets = {route.path for module in _ROUTES for route in module.router.routes if isinstance(route, WebSocketRoute)}
    values = {"job_id": scene.job.id, "number": 1, "session_id": session.id, "token": link.removeprefix("/c/")}
    of_pages = sorted(path for path in sockets if not path.endswith("/passing"))
    assert len(sockets) == 3
    with unit_of_work():
        other = accounts.create_shop("Other")
        accounts.create_user(other, "other@example.org", "Other", "seven quiet herons wait")
        accounts.create_user(scene.user.shop, "reader@example.org", "Reader", "seven quiet herons wait", "reader")
        gone = accounts.create_user(scene.user.shop, "gone@example.org", "Gone", "seven quiet herons wait")
    app = create_app("test-key")
    with Client(app) as nobody, Client(app) as foreign, Client(app) as reader, Client(app) as locked_out:
        foreign.sign_in("other@example.org", "seven quiet herons wait")
        reader.sign_in("reader@example.org", "seven quiet herons wait")
        locked_out.sign_in("gone@example.org", "seven quiet herons wait")
        with unit_of_work():
            people.disable(gone)
        for path in of_pages:
            address = path.format(**values)
            shut = [nobody, foreign, locked_out] if path.startswith("/jobs") else []
            for one in shut:
                with pytest.raises(WebSocketDisconnect), one.websocket_connect(address, headers=ORIGIN):
                    pass
            for headers in ({}, {"origin": "https://elsewhere.example"}):
                with pytest.raises(WebSocketDisconnect), client.websocket_connect(address, headers=headers):
                    pass
            with reader.listening(address, headers=ORIGIN) as socket:  # who looks on may look on
                assert socket.receive_json()
        for changed in ({"session_id": session.id + 1}, {"token": "x" * 32}, {"job_id": scene.job.id + 1}):
            for path in of_pages:
                if next(iter(changed)) in path:
                    address = path.format(**values | changed)
                    with pytest.raises(WebSocketDisconnect), client.websocket_connect(address, headers=ORIGIN):
                        pass


def shut(socket) -> bool:
    """Whether a page's WebSocket is closed before it was told sixty times."""
    try:
        for _ in range(60):
            socket.receive_json()
    except WebSocketDisconnect:
        return True
    return False


def test_a_page_that_is_open_is_shut_when_its_person_may_look_on_no_more(scene, client, driver, link, monkeypatch):
    monkeypatch.setattr(watching, "_MAY_EVERY_S", 0.05)
    monkeypatch.setattr(watching, "_STILL_THERE_S", 0.2)
    drive, batches = driven(3)
    session, _ = begun(scene, drive)
    passing.take(session, batches)
    with unit_of_work():
        gone = accounts.create_user(scene.user.shop, "gone@example.org", "Gone", "seven quiet herons wait")
    page = f"/jobs/{scene.job.id}/rounds/1/live/{session.id}/watching"
    with Client(client.app) as colleague:
        colleague.be_signed_in(gone)
        with client.listening(page, headers=ORIGIN) as stays, colleague.listening(page, headers=ORIGIN) as socket:
            assert said(socket, "standing")["running"]
            with unit_of_work():
                people.disable(gone)
            assert shut(socket)
            passing.take(session, batches[:1])
            assert said(stays, "standing")["running"]
    with driver.listening(f"{link}/live/{session.id}/telling", headers=ORIGIN) as phone:
        assert said(phone, "standing")["running"]
        with unit_of_work():
            links.revoke(scene.job)
        assert shut(phone)


def test_the_phone_marks_allows_and_goes_back(driver, link, scene):
    drive, batches = driven(12)
    session, _ = begun(scene, drive)
    passing.take(session, batches)
    driver.learn_token()
    page = driver.get(link + "/live").text
    assert "Mark this moment" in page
    here = f"{link}/live/{session.id}"
    marked = driver.send_form(f"{here}/mark").json()["at"]
    assert 11 <= marked <= 60  # of the newest row, and what has passed since
    assert driver.send_form(f"{here}/allow", {"allowed": "true"}).json() == {"allowed": True}
    assert fresh(session.id).allowed
    driver.send_form(f"{here}/allow", {"allowed": "false"})
    assert not fresh(session.id).allowed
    assert "It ran rough" in driver.send_form(f"{here}/words", {"text": "It ran rough just now", "once": "a"}).text
    assert driver.post(f"{here}/mark").status_code == 403  # not from our page
    with unit_of_work():
        assert [one.kind for one in LiveEvent.select().order_by(LiveEvent.id)] == ["mark", "allowed", "taken_back"]
    live_passing.end(session.id)
    assert driver.send_form(f"{here}/mark").status_code == 404
    assert "Nothing is being recorded" in driver.get(link + "/live").text
    headers = {"x-fragment": "yes"}
    assert driver.get(link + "/live", headers=headers).json() == {"session": None}


def test_the_driver_is_told_on_the_phone(driver, link, scene):
    drive, batches = driven(40)
    session, _ = begun(scene, drive)
    passing.take(session, batches)
    with driver.listening(f"{link}/live/{session.id}/telling", headers=ORIGIN) as socket:
        assert said(socket, "advice")["ask"] in ("hold", "idle")
        with unit_of_work():
            links.revoke(scene.job)
        with pytest.raises(WebSocketDisconnect):
            for _ in range(60):
                socket.receive_json()


def on(session: LiveSession) -> LiveLimits:
    limits = LiveLimits(on=True, after_s=15, samples=10, seconds=0.5)
    with unit_of_work():
        live_sessions.keep_limits(session, limits.model_dump_json())
    return limits


def test_limits_are_a_sentence_and_wrong_ones_change_nothing(client, scene):
    drive, batches = driven(3)
    session, _ = begun(scene, drive)
    passing.take(session, batches)
    here = f"/jobs/{scene.job.id}/rounds/1/live/{session.id}"
    assert 'value="12.5"' in client.send_form(f"{here}/limits", {"on": "true", "after_s": "12,5"}).text
    wrong = client.send_form(f"{here}/limits", {"percent": "90"})
    assert wrong.status_code == 400
    assert "percent" in wrong.text
    kept = LiveLimits.loads(fresh(session.id).limits)
    assert (kept.on, kept.after_s, kept.percent) == (True, 12.5, 8.0)
    refused = client.send_form(f"{here}/limits", {"on": "false"})
    assert refused.status_code == 200
    assert "switch the correction on first" in client.send_form(f"{here}/overlay", {"wanted": "true"}).text
    with unit_of_work():
        assert live_events.latest(session.id) == []


def test_the_correction_is_taken_or_cleared_at_the_end(client, scene):
    drive, batches = driven(120)
    session, _ = begun(scene, drive)
    passing.take(session, batches)
    limits = on(session)
    watch_over.keep(session.id, Analyst(fresh(session.id)).analyse(limits))
    here = f"/jobs/{scene.job.id}/rounds/1/live"
    assert "still being read" in client.get(f"{here}/{session.id}/correction").text
    assert client.send_form(f"{here}/{session.id}/end").status_code == 303
    with unit_of_work():
        log = LogFile.get_by_id(session.log_id)
    ready(log)
    page = client.get(f"{here}/{session.id}/correction").text
    assert "would change" in page
    with unit_of_work():
        version = drafts.current(scene.job).version
    stale = client.send_form(f"{here}/{session.id}/take", {"version": version + 1, "cells": ""})
    assert stale.status_code == 409
    assert client.send_form(f"{here}/{session.id}/clear").status_code == 303
    assert "None of it was taken" in client.get(f"{here}/{session.id}/correction").text
    client.send_form(f"{here}/{session.id}/clear", {"again": "true"})
    assert client.send_form(f"{here}/{session.id}/take", {"version": version}).status_code == 303
    assert "Undo it there" in client.get(f"{here}/{session.id}/correction").text
    with unit_of_work():
        assert drafts.current(scene.job).version == version + 1


def test_what_a_program_says_of_an_overlay_is_noted_and_nothing_else_is(driver, link, scene):
    drive, batches = driven(3)
    begun_ = driver.post(link + "/live", content=opening_of(drive), headers=JSON).json()
    bearer, here = JSON | {"authorization": f"Bearer {begun_['key']}"}, begun_["address"]
    driver.post(f"{here}/batches", content=batches[0], headers=bearer)
    for body in (b"{}", b'"driven"', b'{"driven": "1"}', b"not JSON"):
        answer = driver.post(f"{here}/overlay", content=body, headers=bearer)
        assert answer.status_code == 422
        assert answer.json()["refused"]
    assert driver.post(f"{here}/overlay", content=b'{"dropped": "the driver braked"}', headers=bearer).json() == {
        "noted": True
    }
    with unit_of_work():
        (event,) = LiveEvent.select().where(LiveEvent.session == begun_["session"], LiveEvent.text.contains("braked"))
    assert event.who == "car"
    assert fresh(begun_["session"]).acknowledged == 0


def test_a_packed_body_that_unpacks_to_too_much_is_refused_and_nothing_is_kept(driver, link):
    drive, _ = driven(2)
    begun_ = driver.post(link + "/live", content=opening_of(drive), headers=JSON).json()
    bearer = JSON | {"authorization": f"Bearer {begun_['key']}", "content-encoding": "gzip"}
    bomb = gzip.compress(b" " * 8_000_000)
    assert len(bomb) < 20_000
    answer = driver.post(f"{begun_['address']}/batches", content=bomb, headers=bearer)
    assert answer.status_code == 422
    assert "unpacks to too much" in answer.json()["refused"]
    assert fresh(begun_["session"]).batches == 0


def test_a_program_that_says_no_key_or_has_no_link_is_told_so(driver, link):
    drive, batches = driven(2)
    begun_ = driver.post(link + "/live", content=opening_of(drive), headers=JSON).json()
    for first in ('"just words"', "[]", "{}"):
        with driver.listening(f"{begun_['address']}/passing") as socket:
            socket.send_text(first)
            assert "no session of this key" in said(socket, "refused")
    with driver.listening(f"/c/{'x' * 32}/live/{begun_['session']}/passing") as socket:
        assert "This link is not known" in said(socket, "refused")
    with driver.listening(f"{begun_['address']}/passing") as socket:
        socket.send_json({"key": begun_["key"]})
        assert said(socket, "kept") == 0
        socket.send_json({"still": True})  # a sign of life, and rows in the same breath
        socket.send_text(batches[0].decode())
        while said(socket, "kept") < 1:
            pass
        assert live_passing.end(begun_["session"])
        socket.send_text(batches[1].decode())
        assert "has ended" in said(socket, "refused")
    assert fresh(begun_["session"]).batches == 1
