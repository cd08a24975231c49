"""From an empty installation to a shop with people, and each of them at their own page, as browsers go through it."""

from __future__ import annotations

import re
import threading
from datetime import UTC, datetime, timedelta

import pyotp
import pytest

from tests.web.conftest import Client
from uchiwa.services import joining
from uchiwa.services.mail.composing import NothingToTellError, composed
from uchiwa.settings import read_settings
from uchiwa.store import audit, one_time_links, people, sessions
from uchiwa.store.database import run_again, unit_of_work
from uchiwa.store.models import Mail, OneTimeLink, Shop, User
from uchiwa.web.app import create_app

LONG, OTHER = "seven quiet herons wait", "eight loud magpies leave"
OWNER = {"shop": "Hill Club", "name": "O. Wner", "email": "owner@example.org", "password": LONG}


def browser() -> Client:
    client = Client(create_app("test-key"), raise_server_exceptions=False)
    client.learn_token()
    return client


def offered() -> str:
    with unit_of_work():
        link = joining.first_run()
        return f"/begin/{one_time_links.token_of(link)}" if link is not None else ""


def address_on(page: str) -> str:
    return re.search(r"/(join|reset)/[\w-]+", page)[0]


def test_from_nothing_to_a_shop_with_two_people(clean_database):
    owner = browser()
    assert "open that one" in owner.get("/sign-in").text
    assert owner.get("/", follow_redirects=False).headers["location"] == "/sign-in"
    assert owner.get("/begin/guess").status_code == 404
    first = offered()
    begin = offered()
    assert owner.get(first).status_code == 404, "each start offers a new one, and the one before ends"
    assert owner.get(begin).headers["referrer-policy"] == "no-referrer"
    refused = owner.send_form(begin, OWNER | {"password": "Hill Club owner"})
    assert refused.status_code == 400
    assert 'value="Hill Club"' in refused.text
    assert owner.send_form(begin, OWNER).headers["location"] == "/"
    assert owner.get("/").status_code == 200
    assert owner.get(begin).status_code == 404
    assert offered() == ""
    owner.learn_token()
    page = owner.send_form("/shop/people/invite", {"email": "Second@Example.org", "role": "tuner"})
    join = address_on(page.text)
    second = browser()
    assert "second@example.org" in second.get(join).text
    assert second.send_form(join, {"name": "", "password": OTHER}).status_code == 400
    assert second.send_form(join, {"name": "S. Econd", "password": OTHER}).headers["location"] == "/"
    assert second.get("/").status_code == 200
    assert second.get("/shop/people").status_code == 403
    assert browser().get(join).status_code == 404
    with unit_of_work():
        assert [(user.name, user.role, user.operator) for user in User.select().order_by(User.id)] == [
            ("O. Wner", "owner", True), ("S. Econd", "tuner", False)]  # fmt: skip
        told = [(one.kind, one.who) for one in audit.of_shop(Shop.get().id)][::-1]
    assert told == [("shop-made", "O. Wner"), ("invited", "O. Wner"), ("joined", "S. Econd")]
    assert "invited" in owner.get("/shop/audit").text


def test_the_first_shop_is_made_once_however_often_the_form_is_sent(clean_database):
    """The link is spent in the transaction that makes the shop."""
    begin = offered()
    one, other = browser(), browser()
    answers = sorted(
        client.send_form(begin, OWNER | {"email": f"{n}@example.org"}).status_code
        for n, client in enumerate((one, other))
    )
    assert answers == [303, 404]
    with unit_of_work():
        assert (Shop.select().count(), User.select().count()) == (1, 1)


def test_two_addresses_at_once_make_one_first_shop(clean_database):
    """Two servers that start together offer an address each."""
    with unit_of_work():
        tokens = []
        for _ in range(2):
            link = one_time_links.make("begin")
            tokens.append(one_time_links.token_of(link))
            OneTimeLink.update(kind="kept").where(OneTimeLink.id == link.id).execute()
        OneTimeLink.update(kind="begin").execute()
    together, spent = threading.Barrier(2), list[str]()

    def begin(number: int) -> None:
        found = one_time_links.find("begin", tokens[number])
        newcomer = joining.Newcomer(f"{number}@example.org", "O", LONG)
        together.wait()
        try:
            run_again(lambda: _in_one(lambda: joining.begin(found, "Hill Club", newcomer)))()
        except one_time_links.SpentLinkError:
            spent.append("spent")

    threads = [threading.Thread(target=begin, args=(number,)) for number in range(2)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert spent == ["spent"]
    with unit_of_work():
        assert (Shop.select().count(), User.select().count()) == (1, 1)


def _in_one(act):
    with unit_of_work():
        return act()


def turned_on(client: Client) -> tuple[str, list[str]]:
    """The second factor, with a generator set up from the page; its secret and the recovery codes."""
    page = client.get("/account/second-factor").text
    secret = re.search(r'name="secret" value="(\w+)"', page)[1]
    form = {"secret": secret, "password": "a long enough password"}
    assert client.send_form("/account/second-factor", form | {"code": "000000"}).status_code == 400
    assert (
        client.send_form(
            "/account/second-factor", form | {"code": pyotp.TOTP(secret).now(), "password": "no"}
        ).status_code
        == 400
    )
    shown = client.send_form("/account/second-factor", form | {"code": pyotp.TOTP(secret).now()})
    assert shown.status_code == 200
    return secret, re.findall(r"<li>(\w{5}-\w{5})</li>", shown.text)


def test_signing_in_with_a_second_factor(client, scene):
    secret, codes = turned_on(client)
    assert len(codes) == 10
    other = browser()
    assert other.sign_in("tuner@example.org", "a long enough password").headers["location"] == "/sign-in/code"
    assert other.get("/", follow_redirects=False).headers["location"] == "/sign-in"
    assert other.send_form("/jobs/1/close", {"closed": "true"}).headers["location"] == "/sign-in"
    assert other.send_form("/sign-in/code", {"code": pyotp.TOTP(secret).now()}).status_code == 401, "that one was used"
    later = pyotp.TOTP(secret).at(datetime.now(UTC) + timedelta(seconds=30))
    assert other.send_form("/sign-in/code", {"code": later}).headers["location"] == "/"
    assert other.get("/").status_code == 200
    third = browser()
    third.sign_in("tuner@example.org", "a long enough password")
    assert third.send_form("/sign-in/code", {"code": codes[0]}).headers["location"] == "/"
    third.learn_token()
    assert "9 recovery codes left" in third.get("/account").text
    assert third.send_form("/account/second-factor/off", {"password": "wrong"}).status_code == 400
    assert third.send_form("/account/second-factor/off", {"password": "a long enough password"}).status_code == 303
    assert browser().sign_in("tuner@example.org", "a long enough password").headers["location"] == "/"


def test_codes_cannot_be_tried_without_end(client, scene):
    turned_on(client)
    thief = browser()
    thief.sign_in("tuner@example.org", "a long enough password")
    answers = [thief.send_form("/sign-in/code", {"code": f"{number:06}"}).status_code for number in range(10)]
    assert answers == [401] * 8 + [429] * 2


def test_another_password_signs_the_others_out(client, scene):
    other = browser()
    other.sign_in("tuner@example.org", "a long enough password")
    assert client.send_form("/account/password", {"password": "wrong", "new": LONG}).status_code == 400
    assert (
        client.send_form("/account/password", {"password": "a long enough password", "new": "short"}).status_code == 400
    )
    assert other.get("/").status_code == 200
    assert client.send_form("/account/password", {"password": "a long enough password", "new": LONG}).status_code == 303
    assert client.get("/account").status_code == 200
    assert other.get("/", follow_redirects=False).headers["location"] == "/sign-in"
    assert browser().sign_in("tuner@example.org", LONG).status_code == 303


def test_a_forgotten_password(client, scene, monkeypatch):
    monkeypatch.setenv("UCHIWA_MAIL_HOST", "localhost")
    monkeypatch.setenv("UCHIWA_MAIL_SECURITY", "none")
    visitor = browser()
    known = visitor.send_form("/forgotten", {"email": "Tuner@example.org"})
    unknown = visitor.send_form("/forgotten", {"email": "nobody@example.org"})
    assert known.status_code == unknown.status_code == 200
    assert re.sub(r'"[\w-]+"', "", known.text) == re.sub(r'"[\w-]+"', "", unknown.text)
    for _ in range(10):
        visitor.send_form("/forgotten", {"email": "tuner@example.org"})
    with unit_of_work():
        posted = list(Mail.select().order_by(Mail.id))
        assert [mail.recipient for mail in posted] == [
            "tuner@example.org",
            "nobody@example.org",
            *["tuner@example.org"] * (joining.RESETS - 1),
        ]
        assert {(mail.user_id, mail.link_id, mail.shop_id) for mail in posted} == {(None, None, None)}, (
            "nothing tells which is known"
        )
        for mail in posted:
            if mail.recipient == "nobody@example.org":
                with pytest.raises(NothingToTellError):
                    composed(mail, read_settings())
            else:
                assert "/reset/" in composed(mail, read_settings()).as_string()
        asked = [one for one in audit.of_shop(scene.user.shop_id) if one.kind == "reset-asked"]
        assert len(asked) == joining.RESETS
        first, *_, link = OneTimeLink.select().order_by(OneTimeLink.id)
        under_way = f"/reset/{one_time_links.token_of(first)}"
        reset = f"/reset/{one_time_links.token_of(link)}"
    assert visitor.get(under_way).status_code == 200, "who asks anew ends no link that is under way"
    assert visitor.send_form(reset, {"password": "short"}).status_code == 400
    assert visitor.send_form(reset, {"password": LONG}).headers["location"] == "/sign-in"
    assert visitor.send_form(reset, {"password": OTHER}).status_code == 404
    assert visitor.get(under_way).status_code == 404, "one that was used ends the others"
    assert client.get("/", follow_redirects=False).status_code == 303, "who was signed in is not any more"
    assert visitor.sign_in("tuner@example.org", LONG).status_code == 303


def test_name_address_and_way_of_being_told(client, scene):
    assert client.send_form("/account/name", {"name": " "}).status_code == 400
    client.send_form("/account/name", {"name": "T. Uner"})
    assert "T. Uner" in client.get("/account").text
    assert client.send_form("/account/address", {"email": "new@example.org", "password": "wrong"}).status_code == 400
    assert (
        client.send_form(
            "/account/address", {"email": "new@example.org", "password": "a long enough password"}
        ).status_code
        == 303
    )
    assert browser().sign_in("new@example.org", "a long enough password").status_code == 303
    assert client.send_form("/account/told", {"how": "loudly"}).status_code == 400
    client.send_form("/account/told", {"how": "digest"})
    with unit_of_work():
        assert people.find(scene.user.shop_id, scene.user.id).told_by_mail == "digest"


def test_signed_in_devices(client, scene):
    phone = Client(create_app("test-key"), raise_server_exceptions=False)
    phone.headers["user-agent"] = (
        "Mozilla/5.0 (iPhone; CPU iPhone OS 17_0 like Mac OS X) Version/17.0 Mobile Safari/604.1"
    )
    phone.sign_in("tuner@example.org", "a long enough password")
    assert "Safari on an iPhone" in client.get("/account").text
    client.send_form("/account/devices/end")
    assert phone.get("/", follow_redirects=False).status_code == 303
    assert client.get("/account").status_code == 200
    with unit_of_work():
        assert len(sessions.of_person(scene.user)) == 1


def test_who_is_locked_out_is_out_with_the_next_click(client, scene):
    page = client.send_form("/shop/people/invite", {"email": "second@example.org", "role": "reader"})
    second = browser()
    second.send_form(address_on(page.text), {"name": "Second", "password": LONG})
    with unit_of_work():
        person = people.with_address("second@example.org")
    assert "change nothing" in second.get("/").text
    second.learn_token()
    assert second.send_form(f"/jobs/{scene.job.id}/close", {"closed": "true"}).status_code == 403
    assert second.send_form("/settings/theme", {"theme": "night"}).status_code == 303
    client.send_form(f"/shop/people/{person.id}/role", {"role": "tuner"})
    assert second.send_form(f"/jobs/{scene.job.id}/close", {"closed": "true"}).status_code == 303
    client.send_form(f"/shop/people/{person.id}/let-in", {"open": "false"})
    assert second.get("/", follow_redirects=False).headers["location"] == "/sign-in"
    assert browser().sign_in("second@example.org", LONG).status_code == 401
    client.send_form(f"/shop/people/{person.id}/let-in", {"open": "true"})
    assert browser().sign_in("second@example.org", LONG).status_code == 303
    reset = address_on(client.send_form(f"/shop/people/{person.id}/password").text)
    assert browser().send_form(reset, {"password": OTHER}).status_code == 303
    assert client.send_form(f"/shop/people/{scene.user.id}/let-in", {"open": "false"}).status_code == 400


@pytest.mark.parametrize(
    "email", ["", "x", "tuner@example.org", "a@b@c.example", "x" * 300 + "@y.example", "a\r\nb@c.example"]
)
def test_nobody_is_invited_at_no_address(client, scene, email):
    assert client.send_form("/shop/people/invite", {"email": email, "role": "tuner"}).status_code == 400
    with unit_of_work():
        assert OneTimeLink.select().count() == 0


def test_an_invitation_can_be_withdrawn(client, scene):
    page = client.send_form("/shop/people/invite", {"email": "second@example.org", "role": "reader"})
    with unit_of_work():
        link = OneTimeLink.get()
    client.send_form("/shop/people/withdraw", {"invitation": str(link.id)})
    assert browser().get(address_on(page.text)).status_code == 404


def test_the_shops_settings_and_words(client, scene):
    assert (
        client.send_form("/shop/settings", {"name": "New name", "remind_days": "9", "link_days": "30"}).status_code
        == 303
    )
    assert (
        client.send_form("/shop/settings", {"name": "New name", "remind_days": "-1", "link_days": "30"}).status_code
        == 400
    )
    wrong = client.send_form(
        "/shop/settings/words", {"kind": "reminder", "subject": "$nothing", "words": "typed words"}
    )
    assert wrong.status_code == 400
    assert "typed words" in wrong.text
    client.send_form("/shop/settings/words", {"kind": "reminder", "subject": "$car", "words": "$customer, hello"})
    assert "$customer, hello" in client.get("/shop/settings?kind=reminder").text
    client.send_form("/shop/settings/words", {"kind": "reminder", "usual": "true"})
    assert "$customer, hello" not in client.get("/shop/settings?kind=reminder").text
    assert (
        client.send_form("/shop/settings/words", {"kind": "invitation", "subject": "s", "words": "w"}).status_code
        == 404
    )
    with unit_of_work():
        assert (Shop.get().name, Shop.get().remind_days) == ("New name", 9)
