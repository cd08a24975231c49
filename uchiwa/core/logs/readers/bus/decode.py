"""Frames and a DBC to groups of signals with their time bases; replies of OBD beside them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import BoolArray, FloatArray
from uchiwa.core.logs.readers.bus.bits import raw_numbers
from uchiwa.core.logs.readers.bus.database import BusDatabase, Message, Signal, read_database
from uchiwa.core.logs.readers.bus.frames import BusKind, Frames, read_frames
from uchiwa.core.logs.readers.bus.obd import as_arrays, obd_values
from uchiwa.core.logs.readers.groups import Content, Group
from uchiwa.core.words.sentence import N_, Sentence

_LEAST_SHARE = 0.02
_ADVICE = N_("the DBC of this car’s bus has to be on the shop’s shelf; then have the log read again")


@dataclass(frozen=True)
class BusDescription:
    """A DBC as it is kept: name and text."""

    name: str
    text: str


def bus_content(described: Sequence[BusDescription], kind: BusKind, data: bytes) -> Content:
    """What a bus recording holds, by the description that fits it best. Anything may be raised for a damaged file.

    Raises:
        BadInput: it holds no frames, or nothing says what they mean.
    """
    return decoded(read_frames(kind, data), described)


def decoded(frames: Frames, described: Sequence[BusDescription]) -> Content:
    """Groups of signals with a time base each.

    Raises:
        BadInput: there are no frames, or nothing says what they mean.
    """
    if not frames.time.size:
        raise BadInput(N_("it holds no frame with data"), advice=N_("record again: nothing was heard on the bus"))
    best, share = _fitting(frames, described)
    groups: list[Group] = []
    notes: dict[str, str] = {}
    if best is not None and share >= _LEAST_SHARE:
        groups = _groups(frames, best)
        notes["bus description"] = f"{best.name}, which knows {share:.0%} of the frames"
    told = obd_values(frames)
    groups += [Group(*_pair(name, unit, times, values)) for (name, unit), (times, values) in told.items()]
    if told:
        notes["replies"] = f"{len(told)} values of on-board diagnostics"
    if not groups:
        raise BadInput(_why(frames, described, best, share), advice=_ADVICE)
    return Content(groups, notes)


def _pair(
    name: str, unit: str, times: list[float], values: list[float]
) -> tuple[FloatArray, list[tuple[str, str, FloatArray]]]:
    time, numbers = as_arrays(times, values)
    return time, [(name, unit, numbers)]


def _why(frames: Frames, described: Sequence[BusDescription], best: BusDatabase | None, share: float) -> str:
    number = int(np.unique(frames.identifier).size)
    count = int(frames.time.size)
    if not described:
        return Sentence(
            "it holds {count} frames of {number} identifiers, and no description (DBC) says what they mean",
            count=count, number=number,
        )  # fmt: skip
    if best is None or share == 0:
        return Sentence(
            "it holds {count} frames of {number} identifiers, and no description (DBC) knows any of them",
            count=count, number=number,
        )  # fmt: skip
    return Sentence(
        "it holds {count} frames of {number} identifiers, of which {name} knows {share:.1%}: that is another bus or another car",
        count=count, number=number, name=best.name, share=share,
    )  # fmt: skip


def _fitting(frames: Frames, described: Sequence[BusDescription]) -> tuple[BusDatabase | None, float]:
    """The description that knows the largest share of the frames; faulty ones are passed over if another can be read."""
    best: BusDatabase | None = None
    most, fault = -1.0, None
    keys = frames.identifier * 2 + frames.extended
    distinct, counts = np.unique(keys, return_counts=True)
    longest = {int(key): int(frames.length[keys == key].max()) for key in distinct.tolist()}
    for description in described:
        try:
            database = read_database(description.text, description.name)
        except BadInput as error:
            fault = BadInput(f"{description.name}: {error.what}", advice=error.advice)
            continue
        known = [
            (message := database.messages.get((key // 2, bool(key % 2)))) is not None and message.length <= longest[key]
            for key in distinct.tolist()
        ]
        share = float(counts[np.array(known, dtype=np.bool_)].sum() / counts.sum())
        if share > most:
            best, most = database, share
    if best is None and fault is not None:
        raise fault
    return best, max(most, 0.0)


def _groups(frames: Frames, database: BusDatabase) -> list[Group]:
    found: list[Group] = []
    names = _doubled(database)
    for (identifier, extended), message in database.messages.items():
        chosen = (frames.identifier == identifier) & (frames.extended == extended) & (frames.length >= message.length)
        if chosen.any():
            found += _of_message(frames.of(chosen), message, names)
    return found


def _doubled(database: BusDatabase) -> frozenset[str]:
    """Names of signals that several messages have."""
    seen: set[str] = set()
    twice: set[str] = set()
    for message in database.messages.values():
        for signal in message.signals:
            (twice if signal.name in seen else seen).add(signal.name)
    return frozenset(twice)


def _of_message(frames: Frames, message: Message, doubled: frozenset[str]) -> list[Group]:
    """The signals of one message: those that are in the same frames share a time base."""
    raw: dict[str, FloatArray] = {}
    for signal in message.signals:
        try:
            raw[signal.name] = raw_numbers(
                frames.data, signal.start, signal.length, little=signal.little, signed=signal.signed, floating=signal.floating
            )  # fmt: skip
        except ValueError:
            continue
    by_name = {signal.name: signal for signal in message.signals}
    together: dict[tuple[tuple[str, tuple[int, ...]], ...], list[Signal]] = {}
    for signal in message.signals:
        if signal.name in raw:
            together.setdefault(_road(signal, by_name), []).append(signal)
    groups = []
    for road, signals in together.items():
        there = _there(road, raw, frames.time.size)
        if not there.any():
            continue
        groups.append(
            Group(
                frames.time[there],
                [
                    (
                        f"{message.name}.{one.name}" if one.name in doubled else one.name,
                        one.unit,
                        raw[one.name][there] * one.scale + one.offset,
                    )
                    for one in signals
                ],
            )
        )
    return groups


def _road(signal: Signal, by_name: Mapping[str, Signal]) -> tuple[tuple[str, tuple[int, ...]], ...]:
    """The selectors that must have certain numbers for a signal to be in a frame; a circle ends where it began."""
    road: list[tuple[str, tuple[int, ...]]] = []
    here: Signal | None = signal
    while here is not None and here.selector and all(here.selector != name for name, _ in road):
        road.append((here.selector, here.selected_by))
        here = by_name.get(here.selector)
    return tuple(road)


def _there(road: tuple[tuple[str, tuple[int, ...]], ...], raw: Mapping[str, FloatArray], size: int) -> BoolArray:
    found = np.ones(size, dtype=np.bool_)
    for name, numbers in road:
        found &= np.isin(raw[name], numbers) if name in raw else False
    return found
