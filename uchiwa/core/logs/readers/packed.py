"""Files packed by gzip or zip, unpacked within limits."""

from __future__ import annotations

import io
import zipfile
import zlib

from uchiwa.core.errors import BadInput
from uchiwa.core.words.sentence import N_, Sentence

MOST_MEMBERS = 50
_PIECE = 1 << 18
_EXPORT = N_("unpack it and send the log itself")


def gunzip(data: bytes, limit: int, where: str) -> bytes:
    """What a gzip file holds, all its members one after another, up to `limit` bytes.

    Raises:
        BadInput: it is damaged, or holds more than the limit.
    """
    result = bytearray()
    rest: bytes = data
    try:
        while rest:
            stream = zlib.decompressobj(31)
            pending = rest
            while pending and not stream.eof:
                result += stream.decompress(pending[:_PIECE], limit + 1 - len(result))
                pending = stream.unconsumed_tail + pending[_PIECE:]
                if len(result) > limit:
                    raise too_large(limit, where)
            if not stream.eof:
                raise BadInput(N_("the gzip file breaks off"), where=where, advice=N_("send it again"))
            rest = (stream.unused_data + pending[len(pending) :]).lstrip(b"\0")
            rest = rest if rest.startswith(b"\x1f\x8b") else b""
    except zlib.error as error:
        raise BadInput(N_("the gzip file is damaged"), where=where, advice=N_("send it again")) from error
    return bytes(result)


def unzip(data: bytes, limit: int, where: str) -> list[tuple[str, bytes]]:
    """The files in a zip archive by name, up to `limit` bytes together.

    Raises:
        BadInput: it is damaged, locked, empty, has more than 50 files, or holds more than the limit.
    """
    found: list[tuple[str, bytes]] = []
    room = limit
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            members = [
                info for info in archive.infolist() if not info.is_dir() and not info.filename.startswith("__MACOSX")
            ]
            if len(members) > MOST_MEMBERS:
                raise BadInput(
                    Sentence("the archive has {count} files", count=len(members)),
                    where=where,
                    advice=Sentence("send at most {most} at once", most=MOST_MEMBERS),
                )
            for member in members:
                if member.flag_bits & 1:
                    raise BadInput(N_("the archive is locked by a password"), where=where, advice=_EXPORT)
                with archive.open(member) as stream:
                    content = stream.read(room + 1)
                room -= len(content)
                if room < 0:
                    raise too_large(limit, where)
                found.append((member.filename.rsplit("/", 1)[-1] or member.filename, content))
    except (zipfile.BadZipFile, zlib.error, NotImplementedError, EOFError, OSError, ValueError, RuntimeError) as error:
        if isinstance(error, BadInput):
            raise
        raise BadInput(N_("the archive is damaged"), where=where, advice=_EXPORT) from error
    if not found:
        raise BadInput(N_("the archive is empty"), where=where, advice=_EXPORT)
    return found


class TooMuchError(BadInput):
    """A file unpacks to more than is read: then none of it is."""


def too_large(limit: int, where: str) -> TooMuchError:
    """Said of what would not fit into memory."""
    return TooMuchError(
        Sentence("unpacked it has more than {most:.0f} MB", most=limit / 1e6),
        where=where,
        advice=N_("send one drive at a time"),
    )
