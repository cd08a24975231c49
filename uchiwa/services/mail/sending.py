"""Handing mails to the mail server, one at a time."""

from __future__ import annotations

import logging
import smtplib
import ssl
from email.message import EmailMessage

from uchiwa.core.errors import in_one_line
from uchiwa.services.mail.composing import NothingToTellError, composed
from uchiwa.settings import Settings
from uchiwa.store import mails
from uchiwa.store.database import can_run_again, run_again, unit_of_work
from uchiwa.store.models import Mail

_PATIENCE_S = 20.0
_FOR_GOOD = range(500, 600)
_log = logging.getLogger("uchiwa.mail")


def send_next(settings: Settings) -> bool:
    """Send the mail that is due, if there is one; whether there was.

    Killed at any moment, it is sent again when its lease has ended, with the same Message-ID and the same words, by which
    mailboxes know the second of two.
    """
    mail = mails.claim()
    if mail is None:
        return False
    try:
        message = _composed(mail, settings)
    except NothingToTellError as why:
        mails.dropped(mail, str(why))
        return True
    except Exception as error:
        if can_run_again(error):
            raise
        _log.exception("a mail of kind %s could not be written", mail.kind)
        mails.not_sent(mail, f"it could not be written: {in_one_line(error)}", for_good=True)
        return True
    try:
        _hand_over(message, settings)
    except (OSError, smtplib.SMTPException) as error:
        _log.warning("a mail of kind %s was not taken: %s", mail.kind, type(error).__name__)
        mails.not_sent(mail, _why(error), for_good=_is_final(error))
    else:
        mails.sent(mail)
    return True


@run_again
def _composed(mail: Mail, settings: Settings) -> EmailMessage:
    with unit_of_work():
        return composed(mail, settings)


def _hand_over(message: EmailMessage, settings: Settings) -> None:
    secure = ssl.create_default_context() if settings.mail_security != "none" else None
    kind = smtplib.SMTP_SSL if settings.mail_security == "tls" else smtplib.SMTP
    more = {"context": secure} if settings.mail_security == "tls" else {}
    with kind(settings.mail_host, settings.mail_port, timeout=_PATIENCE_S, **more) as server:  # type: ignore[arg-type]
        if settings.mail_security == "starttls":
            server.starttls(context=secure)
        if settings.mail_user:
            server.login(settings.mail_user, settings.mail_password.get_secret_value())
        server.send_message(message)


def _codes(error: Exception) -> list[tuple[int, bytes | str]]:
    if isinstance(error, smtplib.SMTPRecipientsRefused):
        return list(error.recipients.values())
    if isinstance(error, smtplib.SMTPResponseException):
        return [(error.smtp_code, error.smtp_error)]
    return []


def _is_final(error: Exception) -> bool:
    """Whether the server has said that it never will; not when it is the sign-in that it refuses."""
    codes = _codes(error)
    refused_us = isinstance(error, (smtplib.SMTPAuthenticationError, smtplib.SMTPHeloError))
    return bool(codes) and not refused_us and all(code in _FOR_GOOD for code, _ in codes)


def _why(error: Exception) -> str:
    for code, said in _codes(error):
        text = said.decode("utf-8", "replace") if isinstance(said, bytes) else said
        return f"the mail server answered {code}: {text}"
    return f"the mail server could not be spoken to: {error}"
