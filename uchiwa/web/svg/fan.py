"""The fan of a round: its sectors and sticks, large, small, and across the head of a page."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import lru_cache

from uchiwa.core.rounds.progress import Station, StationState


@dataclass(frozen=True)
class Rib:
    """One sector of a fan.

    Attributes:
        station, standing: what it stands for and how.
        path: SVG path of the sector.
        x, y, turn: where its label stands and by how many degrees it is turned.
        rib: SVG path of the stick below it.
    """

    station: Station
    standing: StationState
    path: str
    x: float
    y: float
    turn: float
    rib: str


@dataclass(frozen=True)
class Sheet:
    """Where a fan lies.

    Attributes:
        cx, cy: the pivot.
        inner, outer: radii of the sheet.
        spread: whole angle in degrees.
        stick: radius at which the sticks end below the sheet.
    """

    cx: float
    cy: float
    inner: float
    outer: float
    spread: float
    stick: float


def _sector(sheet: Sheet, start: float, end: float) -> str:
    """A ring sector; angles in degrees from straight up, clockwise."""
    cx, cy, inner, outer = sheet.cx, sheet.cy, sheet.inner, sheet.outer

    def at(radius: float, angle: float) -> str:
        turned = math.radians(angle)
        return f"{cx + radius * math.sin(turned):.2f} {cy - radius * math.cos(turned):.2f}"

    return (
        f"M {at(outer, start)} A {outer} {outer} 0 0 1 {at(outer, end)} "
        f"L {at(inner, end)} A {inner} {inner} 0 0 0 {at(inner, start)} Z"
    )


def fan(standing: dict[Station, StationState], sheet: Sheet, *, along: bool = False) -> list[Rib]:
    """The sectors of a fan.

    Args:
        standing: of each station, in order.
        along: labels run along the radius instead of across it.
    """
    cx, cy, inner, outer, spread = sheet.cx, sheet.cy, sheet.inner, sheet.outer, sheet.spread
    step = spread / len(standing)
    ribs: list[Rib] = []
    for number, (station, how) in enumerate(standing.items()):
        start = -spread / 2 + number * step
        middle = math.radians(start + step / 2)
        label = (inner + outer) / 2
        turn = start + step / 2
        if along:
            turn += -90 if turn > 0 else 90
        edge = math.radians(start)
        line = " ".join(
            f"{cx + radius * math.sin(edge):.2f} {cy - radius * math.cos(edge):.2f}" for radius in (inner, sheet.stick)
        )
        ribs.append(
            Rib(
                station,
                how,
                _sector(sheet, start, start + step),
                round(cx + label * math.sin(middle), 2),
                round(cy - label * math.cos(middle), 2),
                round(turn, 2),
                f"M {line}",
            )
        )
    return ribs


_Stood = tuple[tuple[Station, StationState], ...]


def wide_fan(standing: dict[Station, StationState]) -> list[Rib]:
    """The fan across the head of a page, in a 560 × 92 box."""
    return fan(standing, Sheet(280.0, 1206.0, 1150.0, 1198.0, 26.6, 1112.0))


def small_fan(standing: dict[Station, StationState]) -> list[Rib]:
    """The unlabelled fan of a list, in a 48 × 36 box."""
    return _small_fan(tuple(standing.items()))


@lru_cache(maxsize=1024)
def _small_fan(standing: _Stood) -> list[Rib]:
    return fan(dict(standing), Sheet(24.0, 27.0, 10.5, 24.0, 150.0, 2.0))


def large_fan(standing: dict[Station, StationState]) -> list[Rib]:
    """The fan of a margin, in a 230 × 142 box."""
    return fan(standing, Sheet(115.0, 122.0, 62.0, 116.0, 150.0, 4.0), along=True)
