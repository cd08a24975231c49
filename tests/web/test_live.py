"""Live over the web: the protocol by WebSocket and plain HTTP, who may watch, what the phone may do."""

from __future__ import annotations

import json

import pytest
from starlette.routing import WebSocketRoute
from starlette.websockets import WebSocketDisconnect

from tests.services.live.driving import begun, driven
from tests.store.conftest import log_text, ready
from tests.web.conftest import Client
from tests.web.live_link import ORIGIN, fresh, said
from uchiwa.core.live.limits import LiveLimits
from uchiwa.services.live import growing, passing, watch_over
from uchiwa.services.live.analysis import Analyst
from uchiwa.store import accounts, drafts, links, live_events, live_passing, live_sessions, log_states, people
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import LiveEvent, LiveSession, LogFile
from uchiwa.web.app import _ROUTES, create_app
from uchiwa.web.live import watching


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
        assert [event.kind for event in LiveEvent.select().order_by(LiveEvent.id)] == ["mark", "allowed", "taken_back"]
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
