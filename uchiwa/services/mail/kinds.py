"""What mails tell, each kind with its words. A shop can put its own in place of those to customers."""

from __future__ import annotations

from dataclasses import dataclass
from string import Template
from typing import Literal

from uchiwa.core.errors import BadInput

Side = Literal["customer", "tuner", "person"]
SUBJECT_LIMIT, WORDS_LIMIT = 150, 2000


@dataclass(frozen=True)
class MailKind:
    """A kind of mail.

    Attributes:
        code: by which it is known.
        to: the customer, whoever has the job in hand, or a person about their own account.
        title: what it is, for the list of the shop's words.
        subject, words: with `$names` in place of what differs; an empty line parts paragraphs.
        link: what stands on the link to the page; empty for none.
        names: that may stand in subject and words.
    """

    code: str
    to: Side
    title: str
    subject: str
    words: str
    link: str
    names: tuple[str, ...]


_CUSTOMER = ("customer", "car", "shop", "tuner")
_TUNER = ("customer", "car", "shop")
_ALL = (
    MailKind("brief", "customer", "a brief was sent", "What to record for your $car",
             "Hello $customer,\n\nthe list of what to record next is on your page, drive by drive. Send the logs there when you "
             "have them; you are told at once whether they can be used.\n\n$tuner", "Open your page", _CUSTOMER),
    MailKind("log-refused", "customer", "a log cannot be used", "“$log” cannot be used as it is",
             "Hello $customer,\n\nyour log “$log” arrived, but it cannot be used: $why\n\nPlease record that drive again. What "
             "is still wanted stands on your page.\n\n$tuner", "See what is wanted", (*_CUSTOMER, "log", "why")),
    MailKind("return", "customer", "a revision is ready", "Revision $revision for your $car is ready",
             "Hello $customer,\n\nrevision $revision of your calibration is on your page, with a report of what was changed. "
             "Flash it, confirm it there, and then drive what the brief asks for.\n\n$tuner", "Get the revision", (*_CUSTOMER, "revision")),
    MailKind("withdrawn", "customer", "a revision was withdrawn", "Do not drive with revision $revision",
             "Hello $customer,\n\nrevision $revision for your $car was withdrawn: $why\n\nDo not drive with it. Your page says "
             "which one to flash instead.\n\n$tuner", "See what to flash", (*_CUSTOMER, "revision", "why")),
    MailKind("message", "customer", "the tuner has written", "A message about your $car",
             "Hello $customer,\n\n$tuner writes:\n\n$text", "Answer on your page", (*_CUSTOMER, "text")),
    MailKind("reminder", "customer", "nothing came for a while", "Your $car is waiting for a log",
             "Hello $customer,\n\nnothing has come for $days days. What is still to be recorded for your $car stands on your "
             "page.\n\nIf you want no reminders, switch them off there.\n\n$tuner", "Open your page", (*_CUSTOMER, "days")),
    MailKind("log-in", "tuner", "a log has come", "$customer: a log of the $car", "“$log” has come and can be used.",
             "Open the logs", (*_TUNER, "log")),
    MailKind("log-unfit", "tuner", "a log has come and cannot be used", "$customer: a log of the $car cannot be used",
             "“$log” has come, but: $why", "Open the logs", (*_TUNER, "log", "why")),
    MailKind("message-in", "tuner", "a customer has written", "$customer writes about the $car", "$text", "Answer", (*_TUNER, "text")),
    MailKind("flashed", "tuner", "a revision was flashed", "$customer has flashed revision $revision",
             "Revision $revision is in the $car.", "Open the job", (*_TUNER, "revision")),
    MailKind("handed-over", "tuner", "a job was handed to you", "The $car of $customer is yours",
             "$by has handed you the $car of $customer.", "Open the job", (*_TUNER, "by")),
    MailKind("digest", "person", "the day's digest", "Uchiwa: $count since yesterday", "$list", "Open the queue", ("count", "list", "shop")),
    MailKind("invitation", "person", "an invitation", "$by invites you to $shop",
             "$by invites you to work with $shop as $role, who $may.\n\nThe address below is yours alone, works once, and ends "
             "on $until.", "Join $shop", ("by", "shop", "role", "may", "until")),
    MailKind("reset", "person", "a new password", "A new password for Uchiwa",
             "Somebody, you we hope, asked for a new password for this address. The address below lets you set one; it works "
             "once, within an hour.\n\nIf it was not you, nothing has changed, and nothing needs to be done.",
             "Set a new password", ("shop",)),
    MailKind("account", "person", "something about an account was changed", "Your account at $shop: $what",
             "$what, on $at (UTC).\n\nIf it was not you: set a new password at once, and tell the owner of $shop.",
             "Open your account", ("what", "at", "shop")),
)  # fmt: skip
KINDS = {kind.code: kind for kind in _ALL}
"""Every kind by its code."""


def must_be_words(kind: MailKind, subject: str, words: str) -> None:
    """Refuses words of a shop's own that name what a mail of this kind does not know.

    Raises:
        BadInput: says which.
    """
    for text, most in ((subject, SUBJECT_LIMIT), (words, WORDS_LIMIT)):
        if len(text) > most:
            raise BadInput(f"{len(text)} characters", where=kind.title, advice=f"{most} are the most")
        template = Template(text)
        if not template.is_valid():
            raise BadInput("a $ stands for nothing", where=kind.title, advice="write $$ for a dollar sign itself")
        unknown = sorted(set(template.get_identifiers()) - set(kind.names))
        if unknown:
            known = ", ".join(f"${name}" for name in kind.names)
            raise BadInput(f"${unknown[0]} is not known here", where=kind.title, advice=f"use {known}")
    if "\n" in subject.strip() or not subject.strip() or not words.strip():
        raise BadInput("a mail needs a subject of one line, and words", where=kind.title, advice="type both")
