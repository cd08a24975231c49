"""The kit of all pictures: scales from values to places, ticks, labels that do not touch, lines."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np

from uchiwa.core.logs.log import FloatArray
from uchiwa.core.viewing.ticks import nice_ticks, number_text


class Tick(NamedTuple):
    """A mark on an axis: where, and what stands there."""

    at: float
    text: str


_NOTHING = 1e-12
"""A range that no quantity here has; drawn as that of one value."""


@dataclass(frozen=True)
class Scale:
    """A linear scale: `low` stands at the place `start`, `high` at `end`, in px.

    Up an axis, `start` is the bottom and thus the larger of the two.
    """

    low: float
    high: float
    start: float
    end: float

    @classmethod
    def around(cls, values: FloatArray, start: float, end: float, *, spare: float = 0.0, least: float = 0.0) -> Scale:
        """The scale of some values with a share of their range to spare at both ends, at least so wide."""
        known = values[np.isfinite(values)]
        low, high = (float(known.min()), float(known.max())) if known.size else (0.0, 1.0)
        span = max(high - low, least)
        span = max(span if span > _NOTHING else 1.0, 1e-6 * max(abs(low), abs(high)))
        middle = (low + high) / 2
        half = span * (0.5 + spare)
        return cls(middle - half, middle + half, start, end)

    def at(self, value: float) -> float:
        """Where a value stands, to a tenth of a px."""
        return round(self.start + (value - self.low) / self._span * (self.end - self.start), 1)

    def places(self, values: FloatArray) -> FloatArray:
        """Where values stand; NaN stays NaN."""
        return np.asarray(self.start + (values - self.low) / self._span * (self.end - self.start))

    def held(self, value: float) -> float:
        """Where a value stands, or the end beyond which it lies."""
        return self.at(min(max(value, self.low), self.high))

    def ticks(self, about: int, *, signed: bool = False, unit: str = "") -> tuple[Tick, ...]:
        """Round numbers along the scale, about so many."""
        plus = "+" if signed else ""
        return tuple(
            Tick(self.at(value), (plus if value > 0 else "") + number_text(value) + unit)
            for value in nice_ticks(self.low, self.high, about)
        )

    @property
    def _span(self) -> float:
        return (self.high - self.low) or 1.0


def spread_out(places: FloatArray, texts: Sequence[str], least: float) -> tuple[Tick, ...]:
    """Numbers that do not touch: each at least `least` px from the one before, others left out; with a true minus."""
    shown: list[Tick] = []
    for place, text in zip(places.tolist(), texts, strict=True):
        if not shown or place - shown[-1].at >= least:
            shown.append(Tick(round(place, 1), text.replace("-", "−")))
    return tuple(shown)


def moved_apart(places: Sequence[float], least: float) -> tuple[float, ...]:
    """Places of labels moved on so that each is at least `least` px from the one before; in the order given."""
    moved = [0.0] * len(places)
    last = -np.inf
    for number in sorted(range(len(places)), key=places.__getitem__):
        last = max(places[number], last + least)
        moved[number] = last
    return tuple(moved)


def polyline(x: FloatArray, y: FloatArray) -> str:
    """Points of an SVG polyline; points without a reading are left out."""
    known = np.isfinite(x) & np.isfinite(y)
    return " ".join(f"{a:.1f},{b:.1f}" for a, b in zip(x[known].tolist(), y[known].tolist(), strict=True))


def broken_path(x: FloatArray, y: FloatArray) -> str:
    """An SVG path that breaks where there is no reading."""
    parts: list[str] = []
    down = False
    known = (np.isfinite(x) & np.isfinite(y)).tolist()
    for a, b, here in zip(x.tolist(), y.tolist(), known, strict=True):
        if here:
            parts.append(f"{'L' if down else 'M'}{a:.1f} {b:.1f}")
        down = here
    return "".join(parts)
