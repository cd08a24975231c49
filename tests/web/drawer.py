"""What the drawer shows, read from its answer."""

from __future__ import annotations

import re
from dataclasses import dataclass


@dataclass(frozen=True)
class Drawn:
    """The drawer: its title, where the log is read, the traces, windows and bands, and the points of all lines."""

    title: str
    read: str
    traces: list[str]
    windows: int
    bands: int
    points: list[int]

    @property
    def seconds(self) -> float:
        """What all moments last."""
        return float(re.search(r", ([\d.]+) s(; \d+ of them not drawn)?$", self.title)[1])

    @property
    def moments(self) -> int:
        """How many there are."""
        return int(self.title.split(" ")[0])


def drawer_of(answer) -> Drawn:
    """Of an answer of a `moments` or `left-out` address."""
    assert answer.status_code == 200, answer.text[:500]
    html = answer.text
    return Drawn(
        re.search('data-title="([^"]*)"', html)[1],
        re.search('data-read="([^"]*)"', html)[1],
        re.findall('class="trace-title"[^>]*>([^<]*)<', html),
        html.count('class="window"'),
        html.count('class="band"'),
        [len(points.split()) for points in re.findall('<polyline[^>]*points="([^"]*)"', html)],
    )
