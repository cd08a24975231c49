"""How a car idles, as a table of coolant bands by rounds, with a bar for each scatter."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

from uchiwa.core.idle.quality import BandQuality
from uchiwa.services.idle import RoundQuality

STEPS = 20


@dataclass(frozen=True)
class QualityCell:
    """A band in a round: its figures, and how long its bar is, 0 … 20."""

    band: BandQuality
    length: int


@dataclass(frozen=True)
class QualityRow:
    """A band over the rounds; None where the car did not idle in it."""

    words: str
    cells: tuple[QualityCell | None, ...]


@dataclass(frozen=True)
class QualityTable:
    """All of it.

    Attributes:
        rounds: as columns, oldest first.
        rows: bands, coldest first.
        full: scatter at which a bar is full, rpm.
        stalls: by round.
        dips: by round.
        sentence: what became of the scatter, in plain words; empty for one round.
    """

    rounds: tuple[RoundQuality, ...]
    rows: tuple[QualityRow, ...]
    full: float
    stalls: tuple[int, ...]
    dips: tuple[int, ...]
    sentence: str


def quality_table(rounds: Sequence[RoundQuality]) -> QualityTable:
    """Bands by rounds."""
    every = [band for round_ in rounds for band in round_.quality.bands]
    worst = max((quality.scatter for quality in every if math.isfinite(quality.scatter)), default=1.0)
    full = max(math.ceil(worst / 10.0) * 10.0, 20.0)
    lows = sorted({quality.low for quality in every})
    rows = []
    for low in lows:
        cells: list[QualityCell | None] = []
        words = ""
        for round_ in rounds:
            band = next((band for band in round_.quality.bands if band.low == low), None)
            if band is None:
                cells.append(None)
                continue
            words = band.words
            share = band.scatter / full if math.isfinite(band.scatter) else 0.0
            cells.append(QualityCell(band, max(1, round(share * STEPS)) if share > 0 else 0))
        rows.append(QualityRow(words, tuple(cells)))
    return QualityTable(
        tuple(rounds),
        tuple(rows),
        full,
        tuple(len(round_.quality.stalls) for round_ in rounds),
        tuple(sum(band.dips for band in round_.quality.bands) for round_ in rounds),
        _sentence(rounds),
    )


def _sentence(rounds: Sequence[RoundQuality]) -> str:
    """How the scatter went from the first round to the last, over the bands that both have."""
    if len(rounds) < 2:
        return ""
    first = {band.low: band for band in rounds[0].quality.bands}
    last = {band.low: band for band in rounds[-1].quality.bands}
    both = [low for low in first if low in last]
    if not both:
        return "The first round and the last have no coolant band in common."
    before, after = (_mean([bands[low] for low in both]) for bands in (first, last))
    way = "steadier" if after < before else "less steady"
    return (
        f"From round {rounds[0].number} to round {rounds[-1].number} the scatter of its speed went from {before:.0f} to "
        f"{after:.0f} rpm: the idle is {way}."
    )


def _mean(bands: Sequence[BandQuality]) -> float:
    total = sum(band.seconds for band in bands)
    return math.sqrt(sum(band.scatter**2 * band.seconds for band in bands) / total) if total else 0.0
