"""What programs at the car say over the web, by WebSocket and plain HTTP, and what they are told."""

from __future__ import annotations

import gzip

import pytest
from starlette.websockets import WebSocketDisconnect

from tests.services.live.driving import driven, opening_of
from tests.web.live_link import JSON, fresh, said
from uchiwa.store import links, live_passing
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import LiveEvent


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
