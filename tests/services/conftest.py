"""A scene with a mailbox that takes its mails."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest

from tests.ports import own
from tests.store.conftest import Scene, scene  # noqa: F401
from uchiwa.services.mail.sending import send_next
from uchiwa.settings import read_settings
from uchiwa.standin.mailbox import KeptMail, kept_mails, open_mailbox
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import Customer
from uchiwa.store.place import free_port


@dataclass
class Mailbox:
    """What was sent."""

    folder: Path

    def all(self) -> list[KeptMail]:
        """Send all that is due; what the mailbox has, the newest first."""
        while send_next(read_settings()):
            pass
        return kept_mails(self.folder)

    def to(self, address: str) -> list[KeptMail]:
        """Only those to somebody."""
        return [one for one in self.all() if one.to == address]


@pytest.fixture
def mailbox(scene: Scene, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Mailbox]:  # noqa: F811
    """A mail server on loopback, and the scene's customer with an address."""
    port = free_port(own(8700))
    for name, value in (
        ("HOST", "127.0.0.1"),
        ("PORT", str(port)),
        ("SECURITY", "none"),
        ("FROM", "shop@uchiwa.example"),
    ):
        monkeypatch.setenv(f"UCHIWA_MAIL_{name}", value)
    with unit_of_work():
        Customer.update(email="driver@example.org").where(Customer.name == "Customer").execute()
    with open_mailbox(tmp_path / "mailbox", port):
        yield Mailbox(tmp_path / "mailbox")
