"""Who may try to sign in, how often, and what a session is."""

from __future__ import annotations

import threading
from datetime import timedelta

import pytest

from uchiwa.store import accounts, attempts, jobs, sessions
from uchiwa.store.clock import now
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import Attempt, WebSession

EMAIL, PASSWORD = "tuner@example.org", "a long enough password"


def failures(count: int, email: str = EMAIL, address: str = "1.1.1.1") -> None:
    for _ in range(count):
        assert accounts.sign_in(email, "wrong", address) is None


def test_passwords_are_hashed_and_failures_of_one_address_are_limited(scene):
    assert scene.user.password_hash.startswith("$argon2id$")
    assert accounts.sign_in("Tuner@Example.org ", PASSWORD, "1.1.1.1").id == scene.user.id
    failures(accounts.ATTEMPTS)
    for email in (EMAIL, "other@example.org"):
        with pytest.raises(accounts.TooManyAttemptsError):
            accounts.sign_in(email, PASSWORD, "1.1.1.1")
    with unit_of_work():
        Attempt.update(since=now() - 2 * accounts.WINDOW).execute()
    assert accounts.sign_in(EMAIL, PASSWORD, "1.1.1.1") is not None


def test_a_stranger_makes_a_person_wait_and_never_locks_them_out(scene):
    for number in range(3 * accounts.ATTEMPTS):
        accounts.admit(EMAIL, f"9.9.9.{number}")
    admission = accounts.admit(EMAIL, "2.2.2.2")
    assert 0 < admission.wait_s <= 4
    assert accounts.verify(admission, PASSWORD).id == scene.user.id
    # On a device of theirs they do not even wait, and not behind the address of somebody who guesses either.
    failures(accounts.ATTEMPTS, "other@example.org", "3.3.3.3")
    mine = accounts.admit(EMAIL, "3.3.3.3", device="the laptop in the workshop")
    assert mine.wait_s == 0
    assert accounts.verify(mine, PASSWORD).id == scene.user.id


def test_a_right_password_is_no_failure(scene):
    for _ in range(2 * accounts.ATTEMPTS):
        assert accounts.sign_in(EMAIL, PASSWORD, "1.1.1.1") is not None


def test_eighty_at_once_are_counted_one_by_one(scene):
    passed: list[int] = []
    ready = threading.Barrier(16)

    def try_five() -> None:
        ready.wait()
        for _ in range(5):
            try:
                accounts.admit(EMAIL, "1.1.1.1")
            except accounts.TooManyAttemptsError:
                continue
            passed.append(1)

    threads = [threading.Thread(target=try_five) for _ in range(16)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(passed) == accounts.ATTEMPTS


def test_attempts_of_the_future_are_not_believed(scene):
    mark = attempts.mark("place", "1.1.1.1")
    for _ in range(20):
        attempts.count(mark, accounts.WINDOW)
    with unit_of_work():
        Attempt.update(since=now() + timedelta(days=3)).execute()
    assert attempts.count(mark, accounts.WINDOW) == 1


def test_a_session_ends_for_good_and_by_age(scene):
    token = sessions.begin(scene.user)
    assert sessions.person_of(token).shop.name == "Shop"
    sessions.end(token)
    assert sessions.person_of(token) is None
    token = sessions.begin(scene.user)
    with unit_of_work():
        assert token not in WebSession.get().token_hash
        WebSession.update(seen_at=now() - sessions.LASTS - timedelta(hours=1)).execute()
    assert sessions.person_of(token) is None


def test_a_clock_that_was_set_back_signs_nobody_out(scene):
    token = sessions.begin(scene.user)
    with unit_of_work():
        WebSession.update(seen_at=now() + timedelta(days=40), made_at=now() + timedelta(days=40)).execute()
    assert sessions.person_of(token).id == scene.user.id
    with unit_of_work():
        assert abs(WebSession.get().seen_at - now()) < timedelta(minutes=1)


def test_a_sentence_for_the_next_page_is_shown_once_in_any_script(scene):
    token = sessions.new_token()
    sessions.say(token, "点火時期を三度戻しました。" * 100, bad=True)
    text, bad = sessions.said(token)
    assert (text, bad) == (("点火時期を三度戻しました。" * 100)[:2000], True)
    assert sessions.said(token) is None
    assert sessions.said(sessions.new_token()) is None


@pytest.mark.parametrize(
    ("what", "may"),
    [
        ("nothing", True),
        ("ended", False),
        ("half", False),
        ("seen_long_ago", False),
        ("seen_in_the_future", True),
        ("locked_out", False),
        ("of_another_shop", False),
        ("no_such_job", False),
        ("unknown_token", False),
    ],
)
def test_who_may_see_a_job_is_told_in_one_statement_as_by_the_long_way(scene, what, may):
    user, job_id = scene.user, scene.job.id
    with unit_of_work():
        if what == "of_another_shop":
            user = accounts.create_user(accounts.create_shop("Other"), "other@example.org", "Other", PASSWORD)
        token = sessions.begin(user, half=what == "half")
        seen = {"seen_long_ago": -sessions.LASTS - timedelta(minutes=1), "seen_in_the_future": timedelta(days=30)}
        if what in seen:
            WebSession.update(seen_at=now() + seen[what]).execute()
        if what == "locked_out":
            # As by hand in the database: `people.disable` ends the sessions as well.
            type(user).update(disabled_at=now()).where(type(user).id == user.id).execute()
    if what == "ended":
        sessions.end(token)
    job_id += what == "no_such_job"
    token += "x" if what == "unknown_token" else ""
    assert sessions.may_see(token, job_id) is may
    person = sessions.person_of(token)
    with unit_of_work():
        assert (person is not None and jobs.find(person.shop_id, job_id) is not None) is may
