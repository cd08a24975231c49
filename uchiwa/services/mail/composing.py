"""A mail as it goes out: plain text and HTML, in the shop's words, with a link of its own."""

from __future__ import annotations

import json
from collections.abc import Mapping
from email import message_from_bytes
from email.headerregistry import Address
from email.message import EmailMessage
from email.policy import SMTPUTF8, default
from email.utils import format_datetime
from pathlib import Path
from string import Template
from typing import Any, NamedTuple

from jinja2 import Environment, FileSystemLoader, StrictUndefined

from uchiwa.core.words.plain_text import many_lines, one_line
from uchiwa.services.mail.kinds import KINDS, MailKind
from uchiwa.settings import Settings
from uchiwa.store import audit, links, one_time_links, people
from uchiwa.store.clock import aware
from uchiwa.store.models import Car, Customer, Job, Mail, Shop, User

_FOR_ANYBODY = {
    "customer": "A. Driver", "car": "Corvid Pike", "revision": "2", "log": "road.csv", "days": "7", "by": "A. Colleague",
    "why": "the engine was still cold.", "text": "How did the hill go?",
}  # fmt: skip
_SUBJECT_LIMIT = 200
_templates = Environment(
    loader=FileSystemLoader(Path(__file__).parent), autoescape=True, undefined=StrictUndefined, trim_blocks=True, lstrip_blocks=True
)  # fmt: skip


class NothingToTellError(RuntimeError):
    """What a mail was to tell does not hold any more."""


class NotAMailError(RuntimeError):
    """A mail that does not read back as it was meant."""


def composed(mail: Mail, settings: Settings) -> EmailMessage:
    """The message; written again it is the same, its secret too.

    Raises:
        NothingToTellError: its link was ended, its job closed, or its kind is unknown to this version.
        NotAMailError: what it was made of would become other headers than those meant.
    """
    kind = KINDS.get(mail.kind)
    if kind is None:
        raise NothingToTellError(f"“{mail.kind}” is no kind of mail")
    if kind.code == "reset" and mail.link_id is None:
        _find_person(mail)
    shop = Shop.get_or_none(Shop.id == mail.shop_id)
    names = {key: many_lines(str(value)) for key, value in _names(mail, shop).items()}
    subject, words = words_of(shop, kind)
    address = settings.public_address + _path(mail, kind)
    return _message(mail, settings, shop, _Composed(_filled(subject, names), _filled(words, names), address))


def _find_person(mail: Mail) -> None:
    """Whose new password was asked for: they and their link belong to the mail from now on.

    Raises:
        NothingToTellError: nobody has this address.
    """
    user = people.with_address(mail.recipient)
    if user is None:
        raise NothingToTellError("nobody who can sign in has this address")
    mail.link = one_time_links.make(one_time_links.RESET, shop_id=user.shop_id, user=user)
    mail.user, mail.shop = user, user.shop
    Mail.update(link=mail.link, user=user, shop=user.shop_id).where(Mail.id == mail.id).execute()
    audit.note("reset-asked", shop_id=user.shop_id, user=user)


def words_of(shop: Shop | None, kind: MailKind) -> tuple[str, str]:
    """Subject and words of a kind: the shop's own, else the usual ones."""
    own = json.loads(shop.mail_words).get(kind.code) if shop is not None and kind.to == "customer" else None
    return (own["subject"], own["words"]) if own else (kind.subject, kind.words)


def previewed(subject: str, words: str, tuner: User) -> tuple[str, list[list[str]]]:
    """Subject and paragraphs of a mail as they would read, with names that stand for anybody's."""
    names = _FOR_ANYBODY | {"shop": tuner.shop.name, "tuner": tuner.name}
    return _filled(subject, names), _paragraphs(_filled(words, names))


def _paragraphs(words: str) -> list[list[str]]:
    return [part.splitlines() for part in words.split("\n\n") if part.strip()]


def _filled(text: str, names: dict[str, str]) -> str:
    return Template(text).safe_substitute(names)


def _names(mail: Mail, shop: Shop | None) -> dict[str, Any]:
    details = json.loads(mail.details)
    if "lines" in details:
        details["list"] = "\n".join(f"– {one_line(text)}" for _, text in details["lines"])
    known: dict[str, Any] = {"shop": shop.name if shop is not None else "Uchiwa"} | details
    if mail.job_id is None:
        return known
    job = Job.select(Job, Car, Customer).join(Car).join(Customer).where(Job.id == mail.job_id).get()
    if job.closed and mail.user_id is None:
        raise NothingToTellError("the job was closed")
    tuner = next(iter(people.concerned(job)), None)
    return {
        "customer": job.car.customer.name,
        "car": job.car.title,
        "tuner": tuner.name if tuner is not None else known["shop"],
    } | known


def _path(mail: Mail, kind: MailKind) -> str:
    """The page a mail leads to."""
    if kind.to == "customer":
        job = Job.select(Job, Shop).join(Shop).where(Job.id == mail.job_id).get()
        token = links.for_mail(job, mail.key)
        if token is None:
            raise NothingToTellError("the customer's link was ended")
        return f"/c/{token}"
    link = mail.link
    if link is not None:
        if link.used_at is not None:
            raise NothingToTellError("its address was used already")
        return f"/{link.kind}/{one_time_links.token_of(link)}"
    if kind.to == "tuner":
        number = json.loads(mail.details).get("round")
        station = "brief" if kind.code == "message-in" else "logs"
        return f"/jobs/{mail.job_id}/rounds/{number}/{station}" if number else f"/jobs/{mail.job_id}"
    return "/account" if kind.code == "account" else "/"


class _Composed(NamedTuple):
    subject: str
    words: str
    address: str


def _message(mail: Mail, settings: Settings, shop: Shop | None, composed: _Composed) -> EmailMessage:
    subject, words, address = composed
    kind = KINDS[mail.kind]
    told: dict[str, Any] = {
        "paragraphs": _paragraphs(words),
        "address": address,
        "link": kind.link.replace("$shop", shop.name if shop is not None else "Uchiwa"),
        "shop": shop.name if shop is not None else "Uchiwa",
        "personal": kind.to == "customer" or mail.link_id is not None,
        "own_page": settings.public_address + "/account" if kind.to == "tuner" else "",
    }
    message = EmailMessage()
    user, _, domain = settings.mail_from.rpartition("@")
    subject = one_line(subject)[:_SUBJECT_LIMIT].strip()
    headers: dict[str, str | Address] = {
        "From": Address(one_line(told["shop"])[:60].strip(), user, domain),
        "To": Address(addr_spec=mail.recipient),
        "Subject": subject,
        "Date": format_datetime(aware(mail.made_at)),
        "Message-ID": f"<{mail.key}@{domain}>",
        "Auto-Submitted": "auto-generated",
    }
    if kind.code == "reminder":
        headers["List-Unsubscribe"] = f"<{address}#reminders>"
    for name, value in headers.items():
        message[name] = value
    message.set_content(_templates.get_template("mail.txt").render(told))
    message.add_alternative(_templates.get_template("mail.html").render(told), subtype="html")
    _must_read_back(message, headers)
    return message


def _must_read_back(message: EmailMessage, headers: Mapping[str, str | Address]) -> None:
    """Whether the mail, as bytes, has the headers meant, each once and as it was meant, and both forms of its words.

    Raises:
        NotAMailError: it has others.
    """
    read = message_from_bytes(message.as_bytes(policy=SMTPUTF8), policy=default)
    expected = {name: str(value) for name, value in headers.items()} | {"MIME-Version": "1.0"}
    if sorted(name for name in read if name != "Content-Type") != sorted(expected):
        raise NotAMailError("it would have other headers than those meant")
    for name, value in expected.items():
        text = str(read[name].addresses[0]) if name in ("From", "To") else str(read[name])
        if text != value or (name in ("From", "To") and len(read[name].addresses) != 1):
            raise NotAMailError(f"its header {name} would say something else")
    if [part.get_content_type() for part in read.iter_parts()] != ["text/plain", "text/html"]:
        raise NotAMailError("its words would fall apart")
