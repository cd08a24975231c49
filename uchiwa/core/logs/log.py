"""A recording: Log > Raster (one time base) > Channel."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from types import MappingProxyType
from typing import TypeAlias

import numpy as np
from numpy.typing import NDArray

FloatArray: TypeAlias = NDArray[np.float64]
BoolArray: TypeAlias = NDArray[np.bool_]
IntArray: TypeAlias = NDArray[np.int64]


@dataclass(frozen=True, eq=False)
class Channel:
    """One recorded channel.

    Attributes:
        name: as the logger wrote it, without the unit.
        unit: the unit of `values`: canonical once a quantity is recognised, else as the logger wrote it.
        values: one per time of the raster; NaN where nothing was recorded.
        quantity: the id of what it measures, or None if that is not known.
        source_unit: the unit as the logger wrote it.
        reason: why it was taken for this quantity, or why not.
        confidence: how sure that is, 0 to 1; see `recognise`.
        doubt: what does not fit between its name, its unit and its values; empty if nothing. A proposal asks before it uses
            a channel in doubt.
        read_as: the unit that its readings were taken in.
        second: the unit that fits next best, where that is too near to be sure; else empty.
    """

    name: str
    unit: str
    values: FloatArray
    quantity: str | None = None
    source_unit: str = ""
    reason: str = ""
    confidence: float = 0.0
    doubt: str = ""
    read_as: str = ""
    second: str = ""


@dataclass(frozen=True, eq=False)
class Raster:
    """Channels that share a time base.

    Attributes:
        time: seconds from the start of the recording, rising; shape (n,).
        channels: each with values of shape (n,).
    """

    time: FloatArray
    channels: tuple[Channel, ...]

    @property
    def rate(self) -> float:
        """Samples a second, by the median step; 0 for fewer than two samples."""
        if self.time.size < 2:
            return 0.0
        step = float(np.median(np.diff(self.time)))
        return 1.0 / step if step > 0 else 0.0


@dataclass(frozen=True)
class Repair:
    """Something that a reader had to put right.

    Attributes:
        kind: `time` (rows whose time is missing or does not advance), `truncated`, `ragged`, `text` or `guess`.
        count: rows concerned, 0 where it does not apply.
        said: what was done, as a sentence without its full stop.
        at: where it happened, seconds from the start of the recording; the first twenty.
    """

    kind: str
    count: int
    said: str
    at: tuple[float, ...] = ()


@dataclass(frozen=True, eq=False)
class Log:
    """A recording.

    Attributes:
        name: what the file was called.
        rasters: one or more time bases.
        notes: what the file says of itself, such as the revision it was recorded with.
        repairs: what had to be put right when it was read.
    """

    name: str
    rasters: tuple[Raster, ...]
    notes: Mapping[str, str] = field(default_factory=lambda: MappingProxyType({}))
    repairs: tuple[Repair, ...] = ()

    @property
    def duration(self) -> float:
        """Seconds from the first sample to the last, over all rasters."""
        ends = [(raster.time[0], raster.time[-1]) for raster in self.rasters if raster.time.size]
        return float(max(last for _, last in ends) - min(first for first, _ in ends)) if ends else 0.0

    @property
    def quantities(self) -> dict[str, Channel]:
        """The recognised channels by quantity id; the first channel of a quantity counts."""
        found: dict[str, Channel] = {}
        for raster in self.rasters:
            for channel in raster.channels:
                if channel.quantity is not None:
                    found.setdefault(channel.quantity, channel)
        return found
