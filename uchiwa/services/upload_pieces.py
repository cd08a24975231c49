"""Uploads in pieces, so that one that broke off goes on when the same file is sent again."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from dataclasses import dataclass

from uchiwa.core.words.sentence import Sentence
from uchiwa.store import uploads
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import Round

TOTAL_LIMIT_BYTES = 512_000_000
TOO_LARGE, TOO_MANY = 413, 429


@dataclass(frozen=True)
class Receipt:
    """What became of a piece.

    Attributes:
        received: bytes of the file that are here.
        done: whether all of them are.
        said: a sentence for the person who sends it, if there is something to say.
        refused: HTTP's number of why it was not taken, or 0.
    """

    received: int = 0
    done: bool = False
    said: str = ""
    refused: int = 0

    def answer(self, say: Callable[[str], str] = str) -> dict[str, object]:
        """As the sending script reads it, in the language in which `say` says it."""
        said = say(self.said) if self.said else ""
        return {"said": said} if self.refused else {"received": self.received, "done": self.done, "said": said}


@dataclass(frozen=True)
class SentFile:
    """A file as the sender's browser tells of it: `changed` is when it was, in its own way of writing it."""

    name: str
    size: int
    changed: str = ""

    @property
    def key(self) -> str:
        """What names the upload: the same file, chosen again, gets the same key."""
        return hashlib.sha256(f"{self.name}|{self.size}|{self.changed}".encode()).hexdigest()


def arrived(round_: Round, file: SentFile) -> int:
    """How many bytes of a file are here already."""
    return uploads.received(round_, file.key)


def take_piece(round_: Round, file: SentFile, start: int, piece: bytes, *, by_customer: bool) -> Receipt:
    """Keep a piece, whose first byte is the `start`-th; with the last one the file waits for a worker to import it.

    Call outside a transaction.
    """
    name, size = file.name, file.size
    if size > TOTAL_LIMIT_BYTES or size < 0:
        said = Sentence(
            "{name} is larger than {most:.0f} MB. Record one drive to a file, and send it again.",
            name=name, most=TOTAL_LIMIT_BYTES / 1e6,
        )  # fmt: skip
        return Receipt(said=said, refused=TOO_LARGE)
    with unit_of_work():
        if by_customer and start == 0 and uploads.too_many(round_.job):
            return Receipt(said=too_many(), refused=TOO_MANY)
    log, new = uploads.receive_piece(round_, uploads.Upload(file.key, name, size, by_customer), start, piece)
    done = new is not None
    return Receipt(size if done else int(log.size), done, "" if new in (None, True) else same_file(name, log.name))


def too_many() -> Sentence:
    """Said to whoever sends more than an hour may bring."""
    return Sentence(
        "More than {most} logs came within an hour. Please wait a little, then send the next.", most=uploads.HOURLY
    )


def same_file(name: str, kept: str) -> Sentence:
    """Said of a file that the job has already."""
    return Sentence("{name} is the same file as {kept}, which is already here.", name=name, kept=kept)
