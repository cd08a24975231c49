"""From a file's bytes to Logs. `read_recordings` finds out what kind of file it is."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import Log
from uchiwa.core.logs.readers.bus.decode import BusDescription
from uchiwa.core.logs.readers.bus.frames import bus_kind
from uchiwa.core.logs.readers.columnar import read_columnar
from uchiwa.core.logs.readers.delimited import read_delimited
from uchiwa.core.logs.readers.dialect import MOST_COLUMNS
from uchiwa.core.logs.readers.live import is_live, read_live
from uchiwa.core.logs.readers.mdf import read_bus, read_mdf
from uchiwa.core.logs.readers.packed import MOST_MEMBERS, TooMuchError, gunzip, too_large, unzip
from uchiwa.core.logs.readers.sniff import Kind, kind_of
from uchiwa.core.logs.recognition.knowledge import NOTHING_KNOWN, Knowledge
from uchiwa.core.logs.recognition.recognise import recognise
from uchiwa.core.words.sentence import N_, Sentence

READ_LIMIT_BYTES = 160_000_000
MOST_RECORDINGS = 100
_DEPTH = 2


def check_size(size: int, name: str) -> None:
    """Raises BadInput if a file of `size` bytes is larger than logs may be."""
    if size > READ_LIMIT_BYTES:
        raise BadInput(
            Sentence(
                "the file has {size:.0f} MB, and logs are read up to {most:.0f} MB",
                size=size / 1e6,
                most=READ_LIMIT_BYTES / 1e6,
            ),
            where=name,
            advice=N_("record one drive to a file, or export fewer channels or a lower rate"),
        )


@dataclass
class _Room:
    """What a file may still unpack to, all archives in it counted together; and what is known of buses."""

    bytes: int
    members: int = MOST_MEMBERS
    buses: tuple[BusDescription, ...] = ()

    def take(self, members: int, size: int, name: str) -> None:
        """Use some of it up.

        Raises:
            BadInput: there is not so much left.
        """
        self.members -= members
        self.bytes -= size
        if self.members < 0:
            raise TooMuchError(
                Sentence("it holds more than {most} files", most=MOST_MEMBERS),
                where=name,
                advice=N_("send fewer at once"),
            )
        if self.bytes < 0:
            raise too_large(READ_LIMIT_BYTES, name)


def read_unrecognised(data: bytes, name: str, buses: tuple[BusDescription, ...] = ()) -> list[Log]:
    """Every recording of a file as the logger wrote it, without quantities.

    Args:
        buses: descriptions (DBC) of which one may say what the frames of a bus mean.

    Raises:
        BadInput: the file is empty, too large, of no known kind, damaged, holds no usable recording, or too many.
    """
    found = _read(data, name, 0, _Room(READ_LIMIT_BYTES, buses=buses))
    channels = max((sum(len(raster.channels) for raster in log.rasters) for log in found), default=0)
    if len(found) > MOST_RECORDINGS:
        raise BadInput(
            Sentence(
                "it holds {count} recordings, and at most {most} are read from one file",
                count=len(found),
                most=MOST_RECORDINGS,
            ),
            where=name,
            advice=N_("export them one by one"),
        )
    if channels > MOST_COLUMNS:
        raise BadInput(
            Sentence("it has {count} channels, and a log may have {most}", count=channels, most=MOST_COLUMNS),
            where=name,
            advice=N_("export fewer of them"),
        )
    return found


def _read(data: bytes, name: str, depth: int, room: _Room) -> list[Log]:
    check_size(len(data), name)
    if not data or not data[:65536].strip():
        raise BadInput(N_("the file is empty"), where=name, advice=N_("export the log again and send that file"))
    kind = kind_of(data)
    if kind in (Kind.GZIP, Kind.ZIP) and depth >= _DEPTH:
        raise BadInput(N_("it is packed more than twice over"), where=name, advice=N_("send the log itself"))
    bus = bus_kind(data)
    if bus is not None:
        return read_bus(data, bus, name, room.buses)
    match kind:
        case Kind.GZIP:
            return _read(_unpacked(data, name, room), name, depth + 1, room)
        case Kind.ZIP:
            return _read_archive(data, name, depth, room)
        case Kind.MDF:
            return read_mdf(data, name, room.buses)
        case Kind.PARQUET | Kind.ARROW:
            return read_columnar(data, kind, name)
        case Kind.TEXT if is_live(data):
            return read_live(data, name)
        case Kind.TEXT:
            return read_delimited(data, name)
        case _:
            raise BadInput(
                N_("this is not a text file, whatever it is called"),
                where=name,
                advice=N_("export the log as delimited text (CSV) or as MDF from the logger's own program"),
            )


def _unpacked(data: bytes, name: str, room: _Room) -> bytes:
    try:
        content = gunzip(data, room.bytes, name)
    except TooMuchError:
        raise too_large(READ_LIMIT_BYTES, name) from None
    room.take(1, len(content), name)
    return content


def _read_archive(data: bytes, name: str, depth: int, room: _Room) -> list[Log]:
    logs: list[Log] = []
    refusals: list[BadInput] = []
    try:
        members = unzip(data, room.bytes, name)
    except TooMuchError:
        raise too_large(READ_LIMIT_BYTES, name) from None
    room.take(len(members), sum(len(content) for _, content in members), name)
    for member, content in members:
        try:
            found = _read(content, member, depth + 1, room)
        except TooMuchError:
            raise
        except BadInput as error:
            refusals.append(error)
        else:
            logs += found
    if not logs:
        raise BadInput(
            refusals[0].what, where=f"{name}, {refusals[0].where or members[0][0]}", advice=refusals[0].advice
        )
    return logs


def read_recordings(
    data: bytes,
    name: str,
    knowledge: Knowledge | Callable[[Log], Knowledge] = NOTHING_KNOWN,
    buses: tuple[BusDescription, ...] = (),
) -> list[Log]:
    """Read and recognise every recording of a file; recordings without engine speed count only if none has it.

    Args:
        data: the whole file.
        name: what the file is called, for messages.
        knowledge: what is known of the car and its logger, or a function that tells it for an unrecognised recording.
        buses: descriptions (DBC) of which one may say what the frames of a bus mean.

    Raises:
        BadInput: as `read_unrecognised`, or no recording has an engine speed.
    """
    logs: list[Log] = []
    refusal: BadInput | None = None
    for recording in read_unrecognised(data, name, buses):
        try:
            logs.append(recognise(recording, knowledge(recording) if callable(knowledge) else knowledge))
        except BadInput as error:
            refusal = refusal or error
    if not logs:
        raise refusal or BadInput(N_("it holds no recording"), where=name, advice=N_("record again"))
    if len(logs) > 1:
        logs = [_numbered(log, number, len(logs)) for number, log in enumerate(logs, start=1)]
    return logs


def _numbered(log: Log, number: int, of: int) -> Log:
    return replace(log, name=f"{log.name}, {number} of {of}")


def read_log(
    data: bytes,
    name: str,
    knowledge: Knowledge | Callable[[Log], Knowledge] = NOTHING_KNOWN,
    buses: tuple[BusDescription, ...] = (),
) -> Log:
    """The longest recording of a file; see `read_recordings`."""
    recordings = read_recordings(data, name, knowledge, buses)
    longest = max(recordings, key=lambda log: log.duration)
    return longest if len(recordings) > 1 else recordings[0]
