"""What a stolen session, a stolen password or a token from before can still do: nothing that lasts."""

from __future__ import annotations

import json
from datetime import timedelta

import pyotp
import pytest

from tests.web.conftest import Client
from uchiwa.store import accounts, api_tokens, people, second_factor, sessions
from uchiwa.store.clock import now
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import ApiToken, Mail, OneTimeLink, User, WebSession
from uchiwa.web.account import signing_routes
from uchiwa.web.app import create_app

LONG = "seven quiet herons wait"


def test_strangers_who_know_the_password_do_not_lock_out_whose_it_is(client, scene):
    secret = second_factor.new_secret()
    with unit_of_work():
        second_factor.turn_on(scene.user, secret, 0)
        codes = second_factor.new_recovery_codes(scene.user)

    def after_password(address: str) -> Client:
        stranger = Client(create_app("test-key"), client=(address, 4000), raise_server_exceptions=False)
        assert stranger.sign_in("tuner@example.org", "a long enough password").headers["location"] == "/sign-in/code"
        return stranger

    def right() -> str:
        return pyotp.TOTP(secret).now()

    mine = after_password("192.0.2.1")
    assert mine.send_form("/sign-in/code", {"code": right()}).headers["location"] == "/"
    with unit_of_work():
        User.update(second_step=0).where(User.id == scene.user.id).execute()
    mine.send_form("/sign-out")
    for number in range(signing_routes.CODES_OF_A_PERSON // signing_routes.CODES + 1):
        stranger = after_password(f"198.51.100.{number}")
        for _ in range(signing_routes.CODES):
            assert stranger.send_form("/sign-in/code", {"code": "000000"}).status_code in (401, 429)
        assert stranger.send_form("/sign-in/code", {"code": right()}).status_code == 429, "by session and place"
    elsewhere = after_password("203.0.113.9")
    guessed = elsewhere.send_form("/sign-in/code", {"code": right()})
    assert guessed.status_code == 429
    assert "recovery code, a passkey" in guessed.text
    assert elsewhere.send_form("/sign-in/code", {"code": codes[0]}).headers["location"] == "/"
    assert mine.sign_in("tuner@example.org", "a long enough password").headers["location"] == "/sign-in/code"
    assert mine.send_form("/sign-in/code", {"code": right()}).headers["location"] == "/", "on a device known before"


ACCESS_ACTS = {
    "/account/tokens": {"name": "x", "scope": "read", "days": "30"},
    "/shop/people/invite": {"email": "new@example.org", "role": "owner"},
    "/shop/people/{other}/role": {"role": "owner"},
    "/shop/people/{other}/password": {},
    "/shop/people/{other}/let-in": {"open": "true"},
}


@pytest.mark.parametrize("act", ACCESS_ACTS)
def test_a_stolen_session_is_asked_who_it_is_before_access_is_changed(client, scene, act):
    with unit_of_work():
        other = accounts.create_user(scene.user.shop, "second@example.org", "Second", "a long enough password", "tuner")
        before = (ApiToken.select().count(), OneTimeLink.select().count(), User.get_by_id(other.id).role)
        WebSession.update(confirmed_at=now() - sessions.CONFIRMED_LASTS - timedelta(minutes=1)).execute()
    path = act.format(other=other.id)
    asked = client.send_form(path, ACCESS_ACTS[act], headers={"referer": "http://testserver/shop/people"})
    assert asked.status_code == 403
    assert "Is it you?" in asked.text
    assert 'name="back" value="/shop/people"' in asked.text
    with unit_of_work():
        assert (ApiToken.select().count(), OneTimeLink.select().count(), User.get_by_id(other.id).role) == before
    assert client.send_form("/account/confirm", {"password": "another", "back": "/shop/people"}).status_code == 400
    assert client.send_form(path, ACCESS_ACTS[act]).status_code == 403
    good = {"password": "a long enough password", "back": "//evil.example"}
    assert client.send_form("/account/confirm", good).headers["location"] == "/"
    assert client.send_form(path, ACCESS_ACTS[act]).status_code in (200, 303)


@pytest.mark.parametrize("end", ["password", "disable", "erase", "reader", "owner"])
def test_tokens_end_with_what_they_were_made_with(scene, end):
    with unit_of_work():
        other = accounts.create_user(scene.user.shop, "second@example.org", "Second", "a long enough password", "tuner")
        sends, reads = (api_tokens.make(other, "x", scopes, 30) for scopes in (["read", "send"], ["read"]))
        if end == "password":
            people.set_password(other, LONG)
        elif end in ("reader", "owner"):
            people.set_role(other, end)
        else:
            people.disable(other)
        if end == "erase":
            people.erase(User.get_by_id(other.id))
        people.enable(User.get_by_id(other.id))
    works = [api_tokens.find(token) is not None for token in (sends, reads)]
    assert works == {"reader": [False, True], "owner": [True, True]}.get(end, [False, False])


def test_every_change_of_access_is_told_to_whose_it_is(client, scene, monkeypatch):
    monkeypatch.setenv("UCHIWA_MAIL_HOST", "localhost")
    with unit_of_work():
        other = accounts.create_user(scene.user.shop, "second@example.org", "Second", "a long enough password", "tuner")
    client.send_form("/account/tokens", ACCESS_ACTS["/account/tokens"])
    client.send_form(f"/shop/people/{other.id}/role", {"role": "reader"})
    with unit_of_work():
        told = {(mail.recipient, json.loads(mail.details)["what"][:20]) for mail in Mail.select()}
    assert told == {("tuner@example.org", "A token for a progra"), ("second@example.org", "Your role in the sho")}
