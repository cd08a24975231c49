"""Passkeys: made with the password, used without; and what none of them opens."""

from __future__ import annotations

from dataclasses import replace

import pytest

from tests.store.conftest import Scene
from tests.web.authenticator import Authenticator
from tests.web.conftest import Client
from uchiwa.settings import Settings
from uchiwa.store import audit, passkeys, people
from uchiwa.store.clock import now
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import User
from uchiwa.web.app import create_app

ORIGIN = Settings().public_address.replace("127.0.0.1", "localhost")
PASSWORD = "a long enough password"


def browser(origin: str = ORIGIN) -> Client:
    client = Client(create_app("test-key"), base_url=origin, raise_server_exceptions=False)
    client.learn_token()
    return client


@pytest.fixture
def mine(scene: Scene) -> Client:
    """The tuner, signed in with the password."""
    client = browser()
    assert client.send_form("/sign-in", {"email": scene.user.email, "password": PASSWORD}).headers["location"] == "/"
    client.learn_token()
    return client


def made(client: Client, device: Authenticator, name: str = "phone"):
    asked = client.send_form("/account/passkeys/options", {"password": PASSWORD}).json()
    return client.send_form(
        "/account/passkeys", {"state": asked["state"], "answer": device.make(asked["options"]), "name": name}
    )


def signed_in(client: Client, device: Authenticator):
    asked = client.send_form("/sign-in/passkey/options", {"kind": "sign"}).json()
    answer = {"state": asked["state"], "answer": device.sign(asked["options"])}
    return client.send_form("/sign-in/passkey", answer), answer


def is_in(client: Client) -> bool:
    return client.get("/account", follow_redirects=False).status_code == 200


def test_a_passkey_is_made_signs_in_and_is_removed(mine, scene):
    device = Authenticator(ORIGIN)
    assert made(mine, device, "my  phone").headers["location"] == "/account/passkeys"
    assert "my phone" in mine.get("/account/passkeys").text
    stranger = browser()
    assert 'data-passkey="sign"' in stranger.get("/sign-in").text
    for _ in range(2):
        answer, _ = signed_in(browser(), device)
        assert answer.headers["location"] == "/"
    answer, _ = signed_in(stranger, device)
    assert is_in(stranger)
    with unit_of_work():
        told = [one.kind for one in audit.of_shop(scene.user.shop_id)][:4]
        (kept,) = passkeys.of_person(scene.user)
    assert told == ["signed-in", "signed-in", "signed-in", "passkey-on"]
    assert (kept.sign_count, kept.name) == (3, "my phone")
    assert (
        mine.send_form("/account/passkeys/remove", {"passkey": str(kept.id), "password": "another one"}).status_code
        == 400
    )
    mine.send_form("/account/passkeys/remove", {"passkey": str(kept.id), "password": PASSWORD})
    refused, _ = signed_in(browser(), device)
    assert refused.status_code == 401
    assert "opens nothing here" in refused.text


def test_an_answer_counts_once_and_only_for_what_was_asked(mine):
    device = Authenticator(ORIGIN)
    made(mine, device)
    _, answer = signed_in(browser(), device)
    again = browser().send_form("/sign-in/passkey", answer)
    assert again.status_code == 401
    assert "done before" in again.text
    asked = mine.send_form("/account/passkeys/options", {"password": PASSWORD}).json()
    assert (
        browser().send_form("/sign-in/passkey", {"state": asked["state"], "answer": answer["answer"]}).status_code
        == 401
    )
    assert browser().send_form("/sign-in/passkey", {"state": "x", "answer": "{}"}).status_code == 401


@pytest.mark.parametrize("bad", ["", "[1]", "{", "[" * 1200, '{"a":' * 260, "[" * 600 + "]" * 600])
def test_what_is_no_answer_of_a_browser_is_said_to_be_none(mine, bad, caplog):
    asked = browser().send_form("/sign-in/passkey/options", {}).json()
    answer = browser().send_form("/sign-in/passkey", {"state": asked["state"], "answer": bad})
    assert answer.status_code == 400
    assert "That cannot be used" in answer.text
    state = mine.send_form("/account/passkeys/options", {"password": PASSWORD}).json()["state"]
    assert mine.send_form("/account/passkeys", {"state": state, "answer": bad, "name": "x"}).status_code == 400
    assert "Traceback" not in caplog.text


@pytest.mark.parametrize(
    "wrong",
    [
        {"origin": "http://localhost:8401"},
        {"origin": "https://false.example"},
        {"verifies": False},
        {"credential": b"somebody else's, that nobody has"},
    ],
)
def test_another_page_another_device_and_one_that_asks_for_no_finger_are_refused(mine, wrong):
    device = Authenticator(ORIGIN)
    made(mine, device)
    client = browser()
    assert signed_in(client, replace(device, **wrong))[0].status_code == 401
    assert not is_in(client)


def test_a_key_of_another_signature_is_refused(mine):
    device = Authenticator(ORIGIN)
    made(mine, device)
    assert signed_in(browser(), Authenticator(ORIGIN, device.credential))[0].status_code == 401


def test_a_copy_of_a_key_that_has_signed_since_is_refused(mine):
    device = Authenticator(ORIGIN)
    made(mine, device)
    copy = replace(device)
    for _ in range(2):
        assert signed_in(browser(), device)[0].status_code == 303
    assert signed_in(browser(), copy)[0].status_code == 401


def test_an_old_question_cannot_be_answered(mine, monkeypatch):
    device = Authenticator(ORIGIN)
    made(mine, device)
    asked = browser().send_form("/sign-in/passkey/options", {"kind": "sign"}).json()
    monkeypatch.setattr(passkeys, "now", lambda: now() + passkeys.AGE * 1.1)
    answer = {"state": asked["state"], "answer": device.sign(asked["options"])}
    assert "took too long" in browser().send_form("/sign-in/passkey", answer).text


def test_making_one_takes_the_password_and_a_device_that_is_not_known_yet(mine, scene):
    assert mine.send_form("/account/passkeys/options", {"password": "another one"}).status_code == 400
    device = Authenticator(ORIGIN)
    made(mine, device)
    again = made(mine, device)
    assert again.status_code == 400
    assert "known already" in again.text
    assert made(mine, Authenticator(ORIGIN, verifies=False)).status_code == 400
    for _ in range(passkeys.MOST - 1):
        assert made(mine, Authenticator(ORIGIN)).status_code == 303
    assert "at most" in made(mine, Authenticator(ORIGIN)).text
    with unit_of_work():
        assert len(passkeys.of_person(scene.user)) == passkeys.MOST


def test_who_is_locked_out_stays_out(mine, scene):
    device = Authenticator(ORIGIN)
    made(mine, device)
    with unit_of_work():
        User.update(disabled_at=now()).where(User.id == scene.user.id).execute()
    assert signed_in(browser(), device)[0].status_code == 401
    with unit_of_work():
        people.erase(User.get_by_id(scene.user.id))
        assert passkeys.of_person(scene.user) == []


def test_under_a_number_there_are_none_and_the_page_says_where(mine):
    client = browser(Settings().public_address)
    assert "data-passkey" not in client.get("/sign-in").text
    assert client.send_form("/sign-in/passkey/options", {"kind": "sign"}).status_code == 404
    client.send_form("/sign-in", {"email": "tuner@example.org", "password": PASSWORD})
    client.learn_token()
    assert f"{ORIGIN}/account/passkeys" in client.get("/account/passkeys").text
    assert client.send_form("/account/passkeys/options", {"password": PASSWORD}).status_code == 404


def test_guessing_is_limited(mine):
    client = browser()
    codes = {client.send_form("/sign-in/passkey", {"state": "x", "answer": "{}"}).status_code for _ in range(32)}
    assert codes == {401, 429}
