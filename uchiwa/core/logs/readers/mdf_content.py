"""ASAM MDF 3 and 4 by asammdf: groups of channels with their time base, as plain arrays."""

from __future__ import annotations

import io
import logging
import warnings
from dataclasses import dataclass
from typing import TYPE_CHECKING

import numpy as np

from uchiwa.core.logs.log import FloatArray
from uchiwa.core.quantities.states import state_of

if TYPE_CHECKING:
    from asammdf import MDF

_MOST_CODES = 64


@dataclass(frozen=True, eq=False)
class Group:
    """Channels with one time base, each as (name, unit, values)."""

    time: FloatArray
    channels: list[tuple[str, str, FloatArray]]


@dataclass(frozen=True, eq=False)
class Content:
    """What a file holds and says of itself."""

    groups: list[Group]
    notes: dict[str, str]


def mdf_content(data: bytes) -> Content:
    """Read a file with its conversions applied. Anything may be raised for a damaged file."""
    from asammdf import MDF  # it takes longer to import than all else together, and only a child process needs it

    logging.disable(logging.CRITICAL)
    warnings.simplefilter("ignore")
    groups: list[Group] = []
    with MDF(io.BytesIO(data)) as mdf:
        notes = {"recorded": mdf.header.start_time.isoformat(sep=" ", timespec="seconds")} if mdf.header else {}
        comment = (mdf.header.comment or "") if mdf.header else ""
        for line in comment.splitlines():
            key, mark, value = line.partition(":")
            if mark and "<" not in line and len(key) < 60:
                notes[key.strip().lower()] = value.strip()[:300]
        for number in range(len(mdf.groups)):
            group = _group(mdf, number)
            if group is not None:
                groups.append(group)
    return Content(groups, notes)


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
