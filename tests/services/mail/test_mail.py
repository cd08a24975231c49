"""What is told by mail, to whom, once, and with what in it."""

from __future__ import annotations

import re
from datetime import timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.store.conftest import log_text, ready, sweep
from uchiwa.core.errors import BadInput
from uchiwa.core.words.plain_text import many_lines, one_line
from uchiwa.services import correspondence, joining
from uchiwa.services.mail import regularly, sending
from uchiwa.services.mail.kinds import KINDS, must_be_words
from uchiwa.services.mail.telling import tell_customer
from uchiwa.settings import read_settings
from uchiwa.store import accounts, briefs, jobs, links, mails, people, revisions, shops
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import Car, Customer, CustomerLink, Job, LogFile, Mail, Round, Shop, User
from uchiwa.store.names import name_typed

DRIVER, TUNER = "driver@example.org", "tuner@example.org"


def with_link(scene) -> str:
    with unit_of_work():
        return links.make(scene.job)


def token_in(text: str) -> str:
    return re.search(r"/c/([\w-]+)", text)[1]


def test_a_mail_opens_the_customers_page_with_a_link_of_its_own(scene, mailbox):
    handed_out = with_link(scene)
    with unit_of_work():
        correspondence.to_customer(scene.job, "Check the <plug> gaps & torque", scene.user, "once")
        correspondence.to_customer(scene.job, "Check the <plug> gaps & torque", scene.user, "once")
    (mail,) = mailbox.to(DRIVER)
    assert "Check the <plug> gaps & torque" in mail.text
    assert "Check the &lt;plug&gt; gaps &amp; torque" in mail.html
    token = token_in(mail.text)
    assert token == token_in(mail.html) != handed_out
    with unit_of_work():
        assert links.open_job(token).id == scene.job.id
        kept = str([*Mail.select().dicts(), *CustomerLink.select().dicts()])
        assert token not in kept
        links.revoke(scene.job)
        assert links.open_job(token) is None


def test_who_was_shut_out_is_not_let_in_by_a_mail(scene, mailbox):
    with_link(scene)
    with unit_of_work():
        correspondence.to_customer(scene.job, "One", scene.user, "a")
        links.revoke(scene.job)
    assert mailbox.to(DRIVER) == []
    with unit_of_work():
        assert [mail.state for mail in Mail.select()] == [mails.DROPPED]


@pytest.mark.parametrize("moment", ["before it is handed over", "after it was taken"])
def test_killed_at_the_worst_moment_a_mail_is_there_once(scene, mailbox, monkeypatch, moment):
    """The process dies between the server's answer and the note that it was sent; the next one sends it again."""
    with_link(scene)
    with unit_of_work():
        correspondence.to_customer(scene.job, "One", scene.user, "a")

    class Killed(BaseException):
        pass

    def die(*_args) -> None:
        raise Killed

    with monkeypatch.context() as patched:
        patched.setattr(sending, "_hand_over", die) if moment.startswith("before") else patched.setattr(
            mails, "sent", die
        )
        with pytest.raises(Killed):
            sending.send_next(read_settings())
    assert not sending.send_next(read_settings()), "its lease has not ended"
    with unit_of_work():
        Mail.update(lease_until=mails.now() - timedelta(seconds=1)).execute()
    (mail,) = mailbox.to(DRIVER)
    with unit_of_work():
        row = Mail.get()
        assert (row.state, row.attempts) == (mails.SENT, 2)
        assert links.open_job(token_in(mail.text)) is not None
        assert CustomerLink.select().where(CustomerLink.mail_key != "").count() == 1


def test_a_server_that_does_not_answer_is_tried_again_later_and_at_last_it_has_failed(scene, mailbox, monkeypatch):
    with_link(scene)
    with unit_of_work():
        correspondence.to_customer(scene.job, "One", scene.user, "a")
    monkeypatch.setenv("UCHIWA_MAIL_PORT", "9")
    for attempt in range(1, len(mails.PAUSES) + 2):
        assert sending.send_next(read_settings())
        with unit_of_work():
            row = Mail.get()
            assert (row.attempts, row.state) == (
                attempt,
                mails.WAITING if attempt <= len(mails.PAUSES) else mails.FAILED,
            )
            assert "could not be spoken to" in row.problem
            assert not sending.send_next(read_settings())
            Mail.update(due_at=mails.now()).execute()
    with unit_of_work():
        assert [one.id for one in mails.failed()] == [row.id]
        assert mails.again(row.id)
    monkeypatch.undo()
    with unit_of_work():
        assert Mail.get().state == mails.WAITING


def test_a_log_is_told_of_to_both_sides_whichever_way_it_goes(scene, mailbox):
    with_link(scene)
    good, _ = scene.receive(log_text(), "good.csv")
    bad, _ = scene.receive("no log at all\n", "bad.csv")
    with unit_of_work():
        LogFile.update(by_customer=True).execute()
    ready(good)
    sweep()
    assert [one.subject for one in mailbox.to(DRIVER)] == ["“bad.csv” cannot be used as it is"]
    told = {one.subject: one.text for one in mailbox.to(TUNER)}
    assert set(told) == {"Customer: a log of the Corvid Pike", "Customer: a log of the Corvid Pike cannot be used"}
    assert f"/jobs/{scene.job.id}/rounds/1/logs" in told["Customer: a log of the Corvid Pike"]
    with unit_of_work():
        assert LogFile.get_by_id(bad.id).message in told["Customer: a log of the Corvid Pike cannot be used"]


def test_only_who_has_the_job_is_told_and_as_they_wish(scene, mailbox):
    with unit_of_work():
        other = accounts.create_user(scene.user.shop, "other@example.org", "Other", "seven quiet herons", "tuner")
        reader = accounts.create_user(scene.user.shop, "reader@example.org", "Reader", "seven quiet herons", "reader")
        correspondence.from_customer(scene.job, "First", "1")
        Job.update(tuner=other).where(Job.id == scene.job.id).execute()
        job = jobs.find(scene.user.shop_id, scene.job.id)
        correspondence.from_customer(job, "Second", "2")
        people.set_told_by_mail(other, people.NEVER)
        correspondence.from_customer(job, "Third", "3")
    found = sorted((one.to, one.text.splitlines()[0]) for one in mailbox.all())
    assert found == [("other@example.org", "First"), ("other@example.org", "Second"), (TUNER, "First")]
    assert reader.email not in {to for to, _ in found}


def test_a_digest_gathers_what_came(scene, mailbox):
    with unit_of_work():
        people.set_told_by_mail(scene.user, people.DIGEST)
        for number in range(3):
            correspondence.from_customer(scene.job, f"Message {number}", str(number))
    assert mailbox.all() == []
    regularly.digest_all()
    assert mailbox.all() == [], "not before something has waited long enough"
    with unit_of_work():
        Mail.update(made_at=mails.now() - regularly.DIGEST_AFTER - timedelta(minutes=1)).execute()
    regularly.digest_all()
    regularly.digest_all()
    (digest,) = mailbox.to(TUNER)
    assert digest.subject == "Uchiwa: 3 things since yesterday"
    assert digest.text.count("Customer writes about the Corvid Pike") == 3


def test_reminders_come_after_the_shops_days_three_times_and_can_be_stopped(scene, mailbox, monkeypatch):
    with_link(scene)
    with unit_of_work():
        briefs.keep(scene.round, briefs.standard(scene.job, scene.round))
    start = regularly.now()
    for day in range(60):
        monkeypatch.setattr(regularly, "now", lambda day=day: start + timedelta(days=day))
        regularly.remind_all()
        regularly.remind_all()
    found = mailbox.to(DRIVER)
    assert len(found) == regularly.MOST_REMINDERS
    assert "nothing has come for 7 days" in found[-1].text
    with unit_of_work():
        Mail.delete().execute()
        Customer.update(reminders_off=True).execute()
    regularly.remind_all()
    monkeypatch.setattr(regularly, "now", lambda: start + timedelta(days=8))
    regularly.remind_all()
    with unit_of_work():
        Customer.update(reminders_off=False).execute()
        Shop.update(remind_days=0).execute()
    regularly.remind_all()
    assert len(mailbox.to(DRIVER)) == regularly.MOST_REMINDERS


def test_a_shops_own_words(scene, mailbox):
    with_link(scene)
    with unit_of_work():
        shops.set_words(scene.user.shop, "reminder", "$car, day $days", "Moin $customer,\n\nbis bald. $$5\n\n$tuner")
        job = jobs.find(scene.user.shop_id, scene.job.id)
        tell_customer("reminder", job, "r", days=9)
    (mail,) = mailbox.to(DRIVER)
    assert mail.subject == "Corvid Pike, day 9"
    assert "Moin Customer" in mail.text
    assert "$5" in mail.text
    assert "Tuner" in mail.text


@pytest.mark.parametrize(
    ("subject", "words", "said"),
    [("", "w", "subject"), ("s", "", "words"), ("a\nb", "w", "one line"), ("$nobody", "w", "nobody"), ("5 $", "w", "stands for nothing"),
     ("s", "x" * 2001, "2000")],
)  # fmt: skip
def test_words_that_cannot_be_filled_are_refused(subject, words, said):
    with pytest.raises(BadInput, match=re.escape(said)):
        must_be_words(KINDS["brief"], subject, words)


@pytest.mark.parametrize("kind", KINDS.values(), ids=lambda kind: kind.code)
def test_the_usual_words_name_what_they_may(kind):
    must_be_words(kind, kind.subject, kind.words)


def test_names_with_line_breaks_and_signs_stay_in_their_place(scene, mailbox):
    with_link(scene)
    with unit_of_work():
        Customer.update(name='A\r\nBcc: x@y.example "quoted" <b>').execute()
        Shop.update(name='Hill "Club" <x@y.example>, Ltd').execute()
        job = jobs.find(scene.user.shop_id, scene.job.id)
        tell_customer("reminder", job, "r", days=9)
        correspondence.from_customer(job, "Hi", "1")
    for mail in mailbox.all():
        assert mail.to in (DRIVER, TUNER)
        assert "Bcc" not in mail.subject or "\n" not in mail.subject
        assert "<b>" not in mail.html
    assert len(mailbox.all()) == 2


HOSTILE = [
    "=?utf-8?q?Ann=0D=0ABcc:_all@example.org=0D=0A=0D=0AHello?=", "=?utf-8?b?QQ0KQmNjOiBhQGI=?=", "Ann\r\nBcc: a@example.org",
    "Ann\nSubject: other", "Ann\x00\x07", "\u202eannA", "Ann\u2028Bcc: a@b.example", 'Ann" <a@b.example>, "x', "A,B;C:D <e@f.example>",
    "Ann\u200b\u00ad\ufeff", "A" * 500, "\u0041\u030a" * 40, "Jürgen Ångström 日本 🙂", "(comment) Ann", "Ann\\", "=?=?=?", "a=?us-ascii?q?b?=c",
    "..", "@", "$customer $$ ${car}", "\t Ann \t", "Ann\x85Bcc: x", "Ann\x0b\x0cB", "\U000e0041Ann",
]  # fmt: skip


@pytest.mark.parametrize("field", ["person", "shop", "customer", "car", "file", "note"])
def test_whatever_a_name_is_a_mail_has_the_headers_meant(scene, mailbox, field):
    with_link(scene)
    for number, name in enumerate(HOSTILE):
        with unit_of_work():
            if field == "person":
                User.update(name=name[:120]).where(User.id == scene.user.id).execute()
            elif field == "shop":
                Shop.update(name=name[:120]).where(Shop.id == scene.user.shop_id).execute()
            elif field == "customer":
                Customer.update(name=name[:120]).where(Customer.id == scene.job.car.customer_id).execute()
            elif field == "car":
                Car.update(title=name[:120]).where(Car.id == scene.job.car_id).execute()
            job = Job.get_by_id(scene.job.id)
            kind, details = (
                ("log-refused", {"log": name[:200], "why": "x"}) if field == "file" else ("message", {"text": name})
            )
            tell_customer(kind, job, f"{field}:{number}", **details)
    got = mailbox.to(DRIVER)
    assert len(got) == len(HOSTILE)
    for mail in got:
        raw = mail.message
        assert sorted(set(raw.keys())) == sorted(raw.keys()), "no header twice"
        assert set(raw.keys()) <= {
            "From",
            "To",
            "Subject",
            "Date",
            "Message-ID",
            "Auto-Submitted",
            "MIME-Version",
            "Content-Type",
        }
        assert [one.addr_spec for one in raw["To"].addresses] == [DRIVER]
        assert len(raw["From"].addresses) == 1
        assert not {"\r", "\n", "\u202e"} & set(str(raw["Subject"]))
        assert "/c/" in mail.text
    with unit_of_work():
        assert Mail.select().where(Mail.state != mails.SENT).count() == 0


def test_a_mail_that_cannot_be_written_has_failed_and_holds_up_no_other(scene, mailbox, monkeypatch):
    with_link(scene)
    with unit_of_work():
        tell_customer("message", scene.job, "one", text="One")
        tell_customer("message", scene.job, "two", text="Two")
        bad = Mail.select().order_by(Mail.id).get()
        Mail.update(recipient="nobody\r\nBcc: all@example.org").where(Mail.id == bad.id).execute()
    assert [mail.text.count("Two") for mail in mailbox.to(DRIVER)] == [1]
    with unit_of_work():
        row = Mail.get_by_id(bad.id)
    assert row.state == mails.FAILED
    assert "could not be written" in row.problem


@pytest.mark.parametrize("name", ["=?utf-8?q?a?=", "a\u202e", "\x00"])
def test_names_that_are_typed_are_kept_in_one_form(name):
    try:
        kept = name_typed(f"Ann {name}", "the person")
    except BadInput as refused:
        assert "=?" in str(refused)
        assert "=?" in name
    else:
        assert kept in ("Ann", "Ann a")


@given(st.text())
def test_a_line_has_nothing_that_cannot_be_seen(text):
    line = one_line(text)
    assert one_line(line) == line
    assert line.isprintable()
    assert "=?" not in line
    assert many_lines(many_lines(text)) == many_lines(text)


def test_without_a_mail_server_nothing_is_posted(scene):
    with unit_of_work():
        Customer.update(email=DRIVER).execute()
        correspondence.to_customer(scene.job, "One", scene.user, "a")
        joining.invite(scene.user.shop, scene.user, "new@example.org", "tuner")
        assert Mail.select().count() == 0


def test_a_return_and_its_withdrawal_are_told(scene, mailbox, monkeypatch):
    from uchiwa.services import freezing

    with_link(scene)
    with unit_of_work():
        page = freezing.freeze(scene.acting(), "n", lambda *_: "<p>report</p>", final=False)
    with unit_of_work():
        correspondence.flashed(scene.job, revisions.offered(scene.job))
        freezing.withdraw(scene.job, scene.user, page.number, "lean at\n full load")
    subjects = [one.subject for one in mailbox.to(DRIVER)]
    assert subjects == ["Do not drive with revision 1", "Revision 1 for your Corvid Pike is ready"]
    assert "lean at full load" in mailbox.to(DRIVER)[0].text
    assert [one.subject for one in mailbox.to(TUNER)] == ["Customer has flashed revision 1"]
    assert Round.select().count() == 2
    assert User.select().count() == 1
