"""A stand-in for a mail server and everybody's mailbox: takes mails on loopback and keeps them in a folder, to be read."""

from __future__ import annotations

import email.policy
import hashlib
import os
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from datetime import datetime
from email.message import EmailMessage
from email.utils import parsedate_to_datetime
from pathlib import Path
from typing import Any

from aiosmtpd.controller import Controller
from aiosmtpd.smtp import SMTP, Envelope, Session

HOST = "127.0.0.1"
_SIZE_LIMIT = 1_000_000


class _Keeping:
    """Keeps each mail as a file named for its Message-ID, so that one that is sent twice is there once."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    async def handle_DATA(self, _server: SMTP, _session: Session, envelope: Envelope) -> str:  # noqa: N802 - aiosmtpd's name
        """Keep one mail, whole or not at all."""
        data = envelope.original_content or b""
        message = email.message_from_bytes(data, policy=email.policy.default)
        name = hashlib.sha256(str(message["Message-ID"] or data).encode()).hexdigest()[:32]
        unfinished = self.folder / f".{name}.{os.getpid()}"
        unfinished.write_bytes(data)
        unfinished.replace(self.folder / f"{name}.eml")
        return "250 kept"


@contextmanager
def open_mailbox(folder: Path, port: int) -> Iterator[None]:
    """Take mails on a loopback port until the block ends.

    Args:
        folder: made if it is not there.
        port: to listen at.
    """
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    controller: Any = Controller(_Keeping(folder), hostname=HOST, port=port, data_size_limit=_SIZE_LIMIT)
    controller.start()
    try:
        yield
    finally:
        controller.stop()


@dataclass(frozen=True)
class KeptMail:
    """A mail in the mailbox.

    Attributes:
        key: names it.
        to, subject: of its head.
        at: when it was written.
        text, html: its two forms.
        message: all of it, as it came.
    """

    key: str
    to: str
    subject: str
    at: datetime
    text: str
    html: str
    message: EmailMessage


def kept_mails(folder: Path) -> list[KeptMail]:
    """What is in a mailbox, the newest first."""
    found = [(path.stat().st_mtime_ns, path) for path in folder.glob("*.eml")]
    return [_read(path) for _, path in sorted(found, reverse=True)]


def _read(path: Path) -> KeptMail:
    message = email.message_from_bytes(path.read_bytes(), policy=email.policy.default)
    assert isinstance(message, EmailMessage)  # noqa: S101 - for the type checker: the policy makes them so
    text, html = message.get_body(("plain",)), message.get_body(("html",))
    return KeptMail(
        path.stem,
        str(message["To"]),
        str(message["Subject"]),
        parsedate_to_datetime(str(message["Date"])),
        text.get_content() if text is not None else "",
        html.get_content() if html is not None else "",
        message,
    )
