"""Which samples of which logs lie behind a value: shares, moments, and a thinned picture of them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from uchiwa.core.logs.log import BoolArray, FloatArray, IntArray

_MOMENT_GAP_S = 1.0


@dataclass(frozen=True)
class LogShare:
    """What one log gave: its number and name, how many samples, and in how many stretches."""

    number: int
    name: str
    samples: int
    visits: int


@dataclass(frozen=True)
class Moment:
    """A stretch of a log, s, by the log's number."""

    log: int
    start: float
    end: float


@dataclass(frozen=True)
class Step:
    """One line of the arithmetic: words, and a value in the table's unit; `change` tells a difference from a value."""

    words: str
    value: float
    change: bool = True


def moments(log: IntArray, time: FloatArray, inside: BoolArray) -> tuple[Moment, ...]:
    """Stretches in which samples are inside; those less than a second apart are one.

    Args:
        log, time: of each sample; shape (n,).
        inside: shape (n,).
    """
    at = np.flatnonzero(inside)
    if at.size == 0:
        return ()
    of, when = log[at], time[at]
    apart = (np.diff(of) != 0) | (np.diff(when) > _MOMENT_GAP_S)
    first = np.concatenate(([0], np.flatnonzero(apart) + 1))
    last = np.concatenate((np.flatnonzero(apart), [at.size - 1]))
    return tuple(Moment(int(of[a]), float(when[a]), float(when[b])) for a, b in zip(first, last, strict=True))


def shares(names: tuple[str, ...], log: IntArray, found: tuple[Moment, ...], inside: BoolArray) -> tuple[LogShare, ...]:
    """What each log gave, those that gave nothing left out.

    Args:
        names: of the logs.
        log: number of each sample's log; shape (n,).
        found: the moments of the samples that are inside.
        inside: shape (n,).
    """
    counts = np.bincount(log[inside], minlength=len(names))
    visits = (
        np.bincount([moment.log for moment in found], minlength=len(names))
        if found
        else np.zeros(len(names), dtype=int)
    )
    return tuple(
        LogShare(number, name, int(counts[number]), int(visits[number]))
        for number, name in enumerate(names)
        if counts[number]
    )


def thinned(inside: BoolArray, most: int) -> IntArray:
    """Places of samples that are inside, evenly thinned to at most so many."""
    at = np.flatnonzero(inside)
    if at.size <= most:
        return at.astype(np.int64)
    return at[np.linspace(0, at.size - 1, most).round().astype(np.int64)].astype(np.int64)
