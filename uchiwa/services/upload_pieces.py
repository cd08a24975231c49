"""Uploads in pieces, so that one that broke off goes on when the same file is sent again."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from dataclasses import dataclass

from uchiwa.core.words.sentence import Sentence
from uchiwa.store import uploads
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import Job, Round

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


def upload_key(name: str, size: int, changed: str) -> str:
    """What names an upload: the same file, chosen again, gets the same key."""
    return hashlib.sha256(f"{name}|{size}|{changed}".encode()).hexdigest()


def arrived(round_: Round, name: str, size: int, changed: str) -> int:
    """How many bytes of a file are here already."""
    return uploads.received(round_, upload_key(name, size, changed))


def take_piece(
    job: Job, round_: Round, piece: bytes, name: str, size: int, changed: str, start: int, *, by_customer: bool
) -> Receipt:
    """Keep a piece; with the last one the file waits for a worker to import it. Call outside a transaction."""
    if size > TOTAL_LIMIT_BYTES or size < 0:
        said = Sentence(
            "{name} is larger than {most:.0f} MB. Record one drive to a file, and send it again.",
            name=name, most=TOTAL_LIMIT_BYTES / 1e6,
        )  # fmt: skip
        return Receipt(said=said, refused=TOO_LARGE)
    with unit_of_work():
        if by_customer and start == 0 and uploads.too_many(job):
            return Receipt(said=too_many(), refused=TOO_MANY)
    log, new = uploads.receive_piece(
        job, round_, upload_key(name, size, changed), name, start, size, piece, by_customer=by_customer
    )
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
