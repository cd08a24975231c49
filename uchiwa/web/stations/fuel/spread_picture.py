"""The spread of a cell's samples, as dots along an axis in %."""

from __future__ import annotations

import math
from dataclasses import dataclass

from uchiwa.core.proposals.fuel.explanation import CellAccount
from uchiwa.core.tables.difference import signed
from uchiwa.core.viewing.ticks import decimals_of, nice_step
from uchiwa.web.svg.scale import Scale


@dataclass(frozen=True)
class DotMark:
    """A sample in the picture of a cell's spread."""

    x: float
    y: float
    log: int


@dataclass(frozen=True)
class SpreadPicture:
    """The spread of a cell's samples along an axis in %."""

    dots: tuple[DotMark, ...]
    ticks: tuple[tuple[float, str], ...]
    mean: float
    zero: float


_DOT_ROWS = 11
_SIDE = 18
_MOST_STEPS = 8


def spread_picture(account: CellAccount, width: float, height: float) -> SpreadPicture | None:
    """Dots over an axis in %, each on a row of its own kind so that they do not hide each other."""
    if not account.dots:
        return None
    values = sorted(dot.percent for dot in account.dots)
    low = min(values[len(values) // 200], (account.mean - 1) * 100, 0.0)
    high = max(values[-1 - len(values) // 200], (account.mean - 1) * 100, 0.0)
    step = nice_step(max((high - low) / _MOST_STEPS, 0.5))
    first, last = math.floor(low / step) * step, math.ceil(high / step) * step
    last = last if last > first else first + step
    along = Scale(first, last, _SIDE, width - _SIDE).held
    dots = tuple(
        DotMark(
            along(dot.percent), round(6 + (height - 12) * ((number * 7) % _DOT_ROWS) / (_DOT_ROWS - 1), 1), dot.log % 3
        )
        for number, dot in enumerate(account.dots)
    )
    count = round((last - first) / step)
    places = decimals_of(step)
    ticks = tuple((along(first + k * step), signed(first + k * step, places)) for k in range(count + 1))
    return SpreadPicture(dots, ticks, along((account.mean - 1) * 100), along(0.0))
