"""People, their roles and devices, links that work once, and the second factor."""

from __future__ import annotations

import threading
from datetime import UTC, datetime, timedelta

import pyotp
import pytest

from uchiwa.core.errors import BadInput
from uchiwa.standin.cars import pike_base
from uchiwa.store import accounts, audit, jobs, one_time_links, people, second_factor, sessions
from uchiwa.store.database import run_again, unit_of_work
from uchiwa.store.models import AuditEntry, Job, OneTimeLink, User

LONG = "seven quiet herons wait"


def second(scene, role: str = "owner", email: str = "second@example.org") -> User:
    with unit_of_work():
        return accounts.create_user(scene.user.shop, email, "Second", LONG, role)


@pytest.mark.parametrize(
    ("email", "name", "password", "role"),
    [("", "A", LONG, "tuner"), ("no address", "A", LONG, "tuner"), ("a@b.example", " ", LONG, "tuner"),
     ("a@b.example", "A", "", "tuner"), ("a@b.example", "A", LONG, "god"), ("TUNER@example.org", "A", LONG, "tuner")],
)  # fmt: skip
def test_nobody_is_made_of_what_cannot_be_used(scene, email, name, password, role):
    with pytest.raises(BadInput), unit_of_work():
        accounts.create_user(scene.user.shop, email, name, password, role)


def test_the_last_owner_stays(scene):
    for act in (lambda: people.disable(scene.user), lambda: people.set_role(scene.user, "tuner")):
        with pytest.raises(BadInput, match="only owner"), unit_of_work():
            act()
    other = second(scene)
    with unit_of_work():
        people.disable(other)
    with pytest.raises(BadInput, match="only owner"), unit_of_work():
        people.disable(scene.user)


def test_two_owners_who_lock_each_other_out_at_once_leave_one(scene):
    other = second(scene)
    together = threading.Barrier(2)
    refused: list[BadInput] = []

    @run_again
    def lock_out(user: User) -> None:
        with unit_of_work():
            people.disable(user)

    def run(user: User) -> None:
        together.wait()
        try:
            lock_out(user)
        except BadInput as error:
            refused.append(error)

    threads = [threading.Thread(target=run, args=(one,)) for one in (scene.user, other)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(refused) == 1
    with unit_of_work():
        assert sum(person.disabled_at is None for person in people.of_shop(scene.user.shop_id)) == 1


def test_who_is_locked_out_is_out_at_once_and_what_they_did_stays(scene):
    other = second(scene)
    with unit_of_work():
        job = jobs.create(other, "C", "Car", "", pike_base())
        Job.update(tuner=other).where(Job.id == job.id).execute()
    token = sessions.begin(other, "Firefox on Linux")
    assert sessions.person_of(token) is not None
    with unit_of_work():
        people.disable(other)
    assert sessions.person_of(token) is None
    assert accounts.sign_in("second@example.org", LONG, "10.0.0.9") is None
    with unit_of_work():
        assert Job.get_by_id(job.id).tuner_id is None
        people.erase(people.find(scene.user.shop_id, other.id))
        assert User.get_by_id(other.id).email.endswith("uchiwa.invalid")
        assert Job.get_by_id(job.id) is not None
    with pytest.raises(BadInput), unit_of_work():
        people.erase(scene.user)


def test_another_password_ends_every_other_session(scene):
    here, there = sessions.begin(scene.user), sessions.begin(scene.user)
    with unit_of_work():
        people.set_password(scene.user, LONG, keep=here)
    assert sessions.person_of(here) is not None
    assert sessions.person_of(there) is None
    assert accounts.sign_in("tuner@example.org", "a long enough password", "10.0.0.9") is None
    assert accounts.sign_in("tuner@example.org", LONG, "10.0.0.9").id == scene.user.id


def test_devices_are_listed_and_ended_one_or_all(scene):
    tokens = [
        sessions.begin(scene.user, words) for words in ("Firefox on Linux", "Safari on an iPhone", "Edge on Windows")
    ]
    sessions.begin(scene.user, "half", half=True)
    with unit_of_work():
        listed = sessions.of_person(scene.user)
        assert sorted(one.device for one in listed) == ["Edge on Windows", "Firefox on Linux", "Safari on an iPhone"]
        gone = next(one for one in listed if one.device == "Edge on Windows")
        assert sessions.end_of_person(scene.user, only=gone.id, but=tokens[0]) == 1
    assert sessions.person_of(tokens[2]) is None
    with unit_of_work():
        assert sessions.end_of_person(scene.user, but=tokens[0]) == 2
    assert [sessions.person_of(token) is not None for token in tokens] == [True, False, False]


def test_half_a_session_opens_nothing_and_ends_soon(scene, monkeypatch):
    token = sessions.begin(scene.user, half=True)
    assert sessions.person_of(token) is None
    assert sessions.half_person_of(token).id == scene.user.id
    later = sessions.now() + timedelta(minutes=11)
    monkeypatch.setattr(sessions, "now", lambda: later)
    assert sessions.half_person_of(token) is None


def test_a_link_works_once_for_one_of_many(scene):
    with unit_of_work():
        link = one_time_links.make("reset", shop_id=scene.user.shop_id, user=scene.user)
        token = one_time_links.token_of(link)
    spent: list[int] = []
    together = threading.Barrier(4)

    @run_again
    def use() -> None:
        with unit_of_work():
            found = one_time_links.find("reset", token)
            if found is None:
                return
            try:
                one_time_links.spend(found)
            except one_time_links.SpentLinkError:
                return
        spent.append(1)

    def run() -> None:
        together.wait()
        use()

    threads = [threading.Thread(target=run) for _ in range(4)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert spent == [1]


def test_a_link_ends_with_its_age_a_newer_one_and_is_of_its_kind_only(scene, monkeypatch):
    with unit_of_work():
        old = one_time_links.token_of(
            one_time_links.make("join", shop_id=scene.user.shop_id, email="a@b.example", role="tuner")
        )
        new = one_time_links.token_of(
            one_time_links.make("join", shop_id=scene.user.shop_id, email="a@b.example", role="tuner")
        )
        assert one_time_links.find("join", old) is None
        assert one_time_links.find("reset", new) is None
        assert one_time_links.find("join", new).email == "a@b.example"
        assert new not in str(list(OneTimeLink.select().dicts()))
        later = one_time_links.now() + timedelta(days=8)
        monkeypatch.setattr(one_time_links, "now", lambda: later)
        assert one_time_links.find("join", new) is None


def code_at(secret: str, step: int) -> str:
    """A generator's code some intervals from now."""
    return pyotp.TOTP(secret).at(datetime.now(UTC) + timedelta(seconds=30 * step))


def test_a_code_of_the_generator_works_once(scene):
    secret = second_factor.new_secret()
    with unit_of_work():
        codes = second_factor.turn_on(scene.user, secret, second_factor.step_of(secret, code_at(secret, -1)))
        user = User.get_by_id(scene.user.id)
        assert secret not in user.second_factor
        assert not second_factor.accept(user, "000000x")
        assert not second_factor.accept(user, code_at(secret, 5))
        assert second_factor.accept(user, code_at(secret, 0)[:3] + " " + code_at(secret, 0)[3:])
        assert not second_factor.accept(user, code_at(secret, 0))
        assert not second_factor.accept(user, code_at(secret, -1))
        assert len(set(codes)) == second_factor.CODES
        assert second_factor.accept_recovery(user, codes[3].upper())
        assert not second_factor.accept_recovery(user, codes[3])
        assert second_factor.codes_left(user) == second_factor.CODES - 1
        second_factor.turn_off(user)
        assert not second_factor.accept_recovery(user, codes[4])


def test_the_audit_log_is_read_by_page_and_by_shop(scene):
    with unit_of_work():
        other = accounts.create_shop("Other")
        for number in range(7):
            audit.note("signed-in", shop_id=scene.user.shop_id, user=scene.user, subject=str(number))
        audit.note("signed-in", shop_id=other.id, who="somebody")
        first = audit.of_shop(scene.user.shop_id, limit=5)
        assert [one.subject for one in first] == ["6", "5", "4", "3", "2"]
        assert [one.subject for one in audit.of_shop(scene.user.shop_id, first[-1].id)] == ["1", "0"]
        assert all(one.who == "Tuner" for one in first)
        with pytest.raises(ValueError, match="nonsense"):
            audit.note("nonsense", shop_id=None)
        AuditEntry.update(at=audit.now() - audit.KEPT - timedelta(days=1)).where(AuditEntry.subject == "0").execute()
    audit.drop_old()
    with unit_of_work():
        assert len(audit.of_shop(scene.user.shop_id)) == 6
