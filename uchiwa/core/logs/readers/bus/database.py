"""Descriptions of a bus (DBC), by cantools: which messages there are and which signals each holds."""

from __future__ import annotations

import logging
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from uchiwa.core.errors import BadInput

LARGEST = 8 * 2**20
MOST_SIGNALS = 20_000
_ADVICE = "choose a DBC file of this car's bus"


@dataclass(frozen=True)
class Signal:
    """A signal of a message.

    Attributes:
        name, unit: as the file has them.
        start, length, little, signed, floating: where and how its number stands.
        scale, offset: value = raw · scale + offset.
        selector: name of the signal whose raw number says whether this one is in a frame; empty if it always is.
        selected_by: those numbers.
    """

    name: str
    unit: str
    start: int
    length: int
    little: bool
    signed: bool
    floating: bool
    scale: float
    offset: float
    selector: str = ""
    selected_by: tuple[int, ...] = ()


@dataclass(frozen=True)
class Message:
    """A message: identifier, bytes, signals."""

    name: str
    identifier: int
    extended: bool
    length: int
    signals: tuple[Signal, ...]


@dataclass(frozen=True)
class BusDatabase:
    """A DBC, read.

    Attributes:
        name: of the file.
        messages: by identifier and whether it is extended.
    """

    name: str
    messages: Mapping[tuple[int, bool], Message]


def read_database(text: str, name: str) -> BusDatabase:
    """A DBC file.

    Raises:
        BadInput: it is too large, or cannot be read; says what is wrong.
    """
    import cantools

    # It tells of each of thousands of faults; what matters of them is said in one sentence.
    logging.getLogger("cantools").setLevel(logging.CRITICAL)
    from cantools.database.errors import Error

    if len(text) > LARGEST:
        raise BadInput(f"a DBC file may have up to {LARGEST // 2**20} MiB", where=name, advice=_ADVICE)
    try:
        found = cantools.database.load_string(text, database_format="dbc", strict=False, sort_signals=None)
    except (Error, cantools.database.UnsupportedDatabaseFormatError) as error:
        said = " ".join(str(error).removeprefix("DBC: ").split())[:160].strip('"')
        raise BadInput(f"this DBC file cannot be read ({said})", where=name, advice=_ADVICE) from None
    except (ValueError, KeyError, IndexError, TypeError, AttributeError, RecursionError, OverflowError):
        raise BadInput("this DBC file cannot be read", where=name, advice=_ADVICE) from None
    messages: dict[tuple[int, bool], Message] = {}
    count = 0
    for message in found.messages:
        signals = tuple(_signal(signal) for signal in message.signals)
        count += len(signals)
        if count > MOST_SIGNALS:
            raise BadInput(f"it describes more than {MOST_SIGNALS:,} signals", where=name, advice=_ADVICE)
        key = (int(message.frame_id), bool(message.is_extended_frame))
        messages.setdefault(key, Message(message.name, *key, int(message.length), signals))
    if not count:
        raise BadInput("this DBC file describes no signal", where=name, advice=_ADVICE)
    return BusDatabase(name, messages)


def _signal(signal: object) -> Signal:
    read = signal.__getattribute__
    ids: Sequence[int] = read("multiplexer_ids") or ()
    return Signal(
        str(read("name")), str(read("unit") or ""), int(read("start")), int(read("length")),
        read("byte_order") == "little_endian", bool(read("is_signed")), bool(read("is_float")), float(read("scale")),
        float(read("offset")), str(read("multiplexer_signal") or "") if ids else "", tuple(int(id_) for id_ in ids),
    )  # fmt: skip
