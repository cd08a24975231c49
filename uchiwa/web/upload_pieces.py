"""Uploads in pieces, so that one that broke off goes on when the same file is sent again."""

from __future__ import annotations

import hashlib

from fastapi.responses import JSONResponse

from uchiwa.store import uploads
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import Job, Round

TOTAL_LIMIT_BYTES = 512_000_000


def upload_key(name: str, size: int, changed: str) -> str:
    """What names an upload: the same file, chosen again, gets the same key."""
    return hashlib.sha256(f"{name}|{size}|{changed}".encode()).hexdigest()


def arrived(round_: Round, name: str, size: int, changed: str) -> JSONResponse:
    """How much of a file is here already."""
    return JSONResponse({"received": uploads.received(round_, upload_key(name, size, changed))})


def take_piece(
    job: Job, round_: Round, piece: bytes, name: str, size: int, changed: str, start: int, *, by_customer: bool
) -> JSONResponse:
    """Keep a piece; with the last one the file waits for a worker to import it. Call outside a transaction."""
    if size > TOTAL_LIMIT_BYTES or size < 0:
        said = f"{name} is larger than {TOTAL_LIMIT_BYTES / 1e6:.0f} MB. Record one drive to a file, and send it again."
        return JSONResponse({"said": said}, 413)
    with unit_of_work():
        if by_customer and start == 0 and uploads.too_many(job):
            said = f"More than {uploads.HOURLY} logs came within an hour. Please wait a little, then send the next."
            return JSONResponse({"said": said}, 429)
    log, new = uploads.receive_piece(
        job, round_, upload_key(name, size, changed), name, start, size, piece, by_customer=by_customer
    )
    said = "" if new in (None, True) else f"{name} is the same file as {log.name}, which is already here."
    done = new is not None
    return JSONResponse({"received": size if done else log.size, "done": done, "said": said})
