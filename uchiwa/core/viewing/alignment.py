"""Laying several logs over each other: by time, by a marker, by the start of a pull, or against engine speed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from uchiwa.core.logs.drives import Drive, DriveKind
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.viewing.window import MOST_POINTS, Line


class Alignment(StrEnum):
    """What lies above what."""

    TIME = "time"
    MARKER = "marker"
    PULL = "pull"
    SPEED = "speed"


WORDS = {
    Alignment.TIME: "recording time",
    Alignment.MARKER: "a marker",
    Alignment.PULL: "the start of a pull",
    Alignment.SPEED: "engine speed",
}


@dataclass(frozen=True)
class Place:
    """A moment or stretch of a log by which it can be aligned.

    Attributes:
        start, end: s of the log's own time.
        words: what it is.
    """

    start: float
    end: float
    words: str


def places(
    alignment: Alignment, drives: Sequence[Drive], markers: Sequence[float], duration: float
) -> tuple[Place, ...]:
    """The places of a log for an alignment, in order of time; by time there is one, its beginning."""
    if alignment is Alignment.TIME:
        return (Place(0.0, duration, "the whole log"),)
    if alignment is Alignment.MARKER:
        return tuple(Place(at, at, f"marker {number}") for number, at in enumerate(markers, start=1))
    pulls = [drive for drive in drives if drive.kind in (DriveKind.PULL, DriveKind.ROLL_ON)]
    only = [drive for drive in pulls if drive.kind is DriveKind.PULL] or pulls
    return tuple(
        Place(drive.start, drive.end, f"{'pull' if drive.kind is DriveKind.PULL else 'roll-on'} {number}: {drive.note}")
        for number, drive in enumerate(only, start=1)
    )


def usual_place(found: Sequence[Place]) -> int:
    """The place to begin with: the longest, the first of equals."""
    return max(range(len(found)), key=lambda number: (found[number].end - found[number].start, -number)) if found else 0


def marker_times(time: FloatArray, marker: FloatArray) -> tuple[float, ...]:
    """Moments at which the driver pressed the marker: where it rises above one half; s."""
    pressed = np.nan_to_num(marker) > 0.5
    rises = np.flatnonzero(pressed & ~np.concatenate(([False], pressed[:-1])))
    return tuple(float(one) for one in time[rises])


def against_speed(speed: FloatArray, values: FloatArray, points: int = MOST_POINTS) -> Line:
    """A stretch of a trace drawn against engine speed; its `time` holds rpm.

    The curve follows the samples in their order, so that a shift or a lift shows as what it is.

    Args:
        speed: rpm; shape (n,).
        values: shape (n,).
        points: at most so many are kept: of equal parts the lowest and the highest reading.
    """
    if speed.size <= points:
        return Line(speed, values, whole=True)
    edges = np.unique(np.linspace(0, speed.size, points // 2 + 1).astype(np.int64))[:-1]
    stops = np.append(edges[1:], speed.size)
    keep: set[int] = set()
    for first, last in zip(edges, stops, strict=True):
        part = values[first:last]
        known = np.isfinite(part)
        if known.any():
            keep.update((int(first + np.nanargmin(part)), int(first + np.nanargmax(part))))
        else:
            keep.add(int(first))
    chosen = sorted(keep)
    return Line(speed[chosen], values[chosen], whole=False)


def at_speed(speed: FloatArray, values: FloatArray, wanted: float) -> float | None:
    """A trace's value where a pull passes an engine speed, interpolated at the first crossing; None if it never does.

    Args:
        speed: rpm along the pull; shape (n,).
        values: shape (n,).
        wanted: rpm.
    """
    below = speed < wanted
    crossings = np.flatnonzero(below[:-1] & ~below[1:])
    if not crossings.size:
        exact = np.flatnonzero(speed == wanted)
        return float(values[exact[0]]) if exact.size and np.isfinite(values[exact[0]]) else None
    first = int(crossings[0])
    rise = speed[first + 1] - speed[first]
    share = (wanted - speed[first]) / rise if rise else 0.0
    value = values[first] * (1 - share) + values[first + 1] * share
    return float(value) if np.isfinite(value) else None
