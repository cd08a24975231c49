"""ASAM MDF 3 and 4 by asammdf: groups of channels with their time base, as plain arrays."""

from __future__ import annotations

import io
import logging
import warnings
from typing import TYPE_CHECKING

import numpy as np

from uchiwa.core.logs.log import FloatArray
from uchiwa.core.logs.readers.bus.decode import BusDescription, decoded
from uchiwa.core.logs.readers.bus.frames import LONGEST, Frames, in_order
from uchiwa.core.logs.readers.groups import Content, Group
from uchiwa.core.quantities.states import state_of

if TYPE_CHECKING:
    from asammdf import MDF

_MOST_CODES = 64
_FRAME, _EXTENDED = "CAN_DataFrame", 1 << 31


def mdf_content(buses: tuple[BusDescription, ...], data: bytes) -> Content:
    """Read a file with its conversions applied. Anything may be raised for a damaged file.

    Args:
        buses: descriptions (DBC) of which one may say what the frames of a bus mean, if the file logs one.
    """
    from asammdf import MDF  # it takes longer to import than all else together, and only a child process needs it

    logging.disable(logging.CRITICAL)
    warnings.simplefilter("ignore")
    groups: list[Group] = []
    frames: list[Frames] = []
    with MDF(io.BytesIO(data)) as mdf:
        notes = {"recorded": mdf.header.start_time.isoformat(sep=" ", timespec="seconds")} if mdf.header else {}
        comment = (mdf.header.comment or "") if mdf.header else ""
        for line in comment.splitlines():
            key, mark, value = line.partition(":")
            if mark and "<" not in line and len(key) < 60:
                notes[key.strip().lower()] = value.strip()[:300]
        for number in range(len(mdf.groups)):
            if any(channel.name == _FRAME for channel in mdf.groups[number].channels):
                frames.append(_frames(mdf, number))
                continue
            group = _group(mdf, number)
            if group is not None:
                groups.append(group)
    if frames:
        found = decoded(_joined(frames), buses)
        groups, notes = groups + found.groups, notes | found.notes
    return Content(groups, notes)


def _frames(mdf: MDF, number: int) -> Frames:
    """The frames of a group of bus logging (ASAM MDF 4 bus logging)."""
    signal = mdf.get(_FRAME, group=number)
    fields = signal.samples
    data = np.asarray(fields[f"{_FRAME}.DataBytes"], dtype=np.uint8)
    identifier = np.asarray(fields[f"{_FRAME}.ID"], dtype=np.int64)
    names = fields.dtype.names or ()
    extended = (identifier & _EXTENDED) != 0
    if f"{_FRAME}.IDE" in names:
        extended |= np.asarray(fields[f"{_FRAME}.IDE"]).astype(bool)
    length = (
        fields[f"{_FRAME}.DataLength"] if f"{_FRAME}.DataLength" in names else np.full(identifier.size, data.shape[1])
    )
    wide = np.zeros((identifier.size, 8 if data.shape[1] <= 8 else LONGEST), dtype=np.uint8)
    wide[:, : data.shape[1]] = data[:, :LONGEST]
    time = np.asarray(signal.timestamps, dtype=np.float64)
    return Frames(time, identifier & (_EXTENDED - 1), extended, np.asarray(length, dtype=np.int64), wide)


def _joined(frames: list[Frames]) -> Frames:
    """The frames of several groups by time."""
    width = max(frame.data.shape[1] for frame in frames)
    wide = [np.pad(frame.data, ((0, 0), (0, width - frame.data.shape[1]))) for frame in frames]
    return in_order(
        Frames(
            np.concatenate([frame.time for frame in frames]),
            np.concatenate([frame.identifier for frame in frames]),
            np.concatenate([frame.extended for frame in frames]),
            np.concatenate([frame.length for frame in frames]),
            np.concatenate(wide),
        )
    )


def _group(mdf: MDF, number: int) -> Group | None:
    master = mdf.masters_db.get(number)
    channels: list[tuple[str, str, FloatArray]] = []
    time: FloatArray | None = None
    for index, channel in enumerate(mdf.groups[number].channels):
        if index == master:
            continue
        signal = mdf.get(group=number, index=index, ignore_invalidation_bits=False)
        values = _numbers(signal.samples)
        if values is None:
            continue
        if time is None:
            time = np.asarray(signal.timestamps, dtype=np.float64)
        if values.size == time.size:
            channels.append((channel.name, signal.unit or "", values))
    return Group(time, channels) if time is not None and time.size and channels else None


def _numbers(samples: np.ndarray) -> FloatArray | None:
    """Samples as numbers; state words as their numbers; None for anything of several values or of free text."""
    if samples.ndim != 1 or samples.dtype.names:
        return None
    if samples.dtype.kind in "biuf":
        return samples.astype(np.float64)
    if samples.dtype.kind not in "SU":
        return None
    words = [word.decode("utf-8", "replace") if isinstance(word, bytes) else str(word) for word in samples.tolist()]
    distinct = list(dict.fromkeys(words))
    if len(distinct) > _MOST_CODES:
        return None
    codes: dict[str, float] = {}
    for place, word in enumerate(distinct):
        known = state_of(word)
        try:
            codes[word] = known if known is not None else float(word)
        except ValueError:
            codes[word] = float(place)
    return np.array([codes[word] for word in words])
