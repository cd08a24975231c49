"""Mixture delay: which combustion a mixture reading belongs to."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from uchiwa.core.log import FloatArray, IntArray

_LEAST_AIRFLOW = 0.5


@dataclass(frozen=True)
class Delay:
    """Delay of the mixture reading: d = d0 + k / airflow, in s, with d0 in s, k in g and airflow in g/s."""

    d0: float
    k: float

    def seconds(self, airflow: FloatArray | None, shape: tuple[int, ...]) -> FloatArray:
        """The delay at each sample; where the airflow is not known, d0."""
        if airflow is None:
            return np.full(shape, self.d0)
        flow = np.maximum(np.nan_to_num(airflow, nan=np.inf), _LEAST_AIRFLOW)
        return self.d0 + self.k / flow


def undelayed(time: FloatArray, reading: FloatArray, delay: FloatArray) -> FloatArray:
    """The reading moved to the moment of its combustion: read at t, burned at t − d.

    Args:
        time: seconds, rising; shape (n,).
        reading: shape (n,); NaN is a gap.
        delay: seconds at the time of reading; shape (n,).

    Returns:
        The reading at each `time` of combustion; NaN before the first and after the last.
    """
    burned = np.maximum.accumulate(time - delay)
    rising = np.concatenate(([True], np.diff(burned) > 0))
    moved: FloatArray = np.interp(time, burned[rising], reading[rising], left=np.nan, right=np.nan)
    return moved


@dataclass(frozen=True, eq=False)
class DelaySamples:
    """What the estimate needs of one log; arrays of shape (n,).

    Attributes:
        time: s, rising.
        reading: λ measured.
        rest: what the reading is multiplied with to give the error factor, (1 + s)(1 + l)/λt.
        airflow: g/s or None.
        cell: index of the cell of each sample, or −1 where it must not count.
        ahead: signal of the wall film (see `proposals.transients`), whose share in the error is not counted, or None.
    """

    time: FloatArray
    reading: FloatArray
    rest: FloatArray
    airflow: FloatArray | None
    cell: IntArray
    ahead: FloatArray | None = None


def inconsistency(parts: list[DelaySamples], delay: Delay, cells: int) -> float:
    """Variance of the logarithm of the error factor within cells, over all samples that count.

    What the wall film explains of it is taken out, for otherwise film and delay would be taken for each other.
    """
    values: list[FloatArray] = []
    where: list[IntArray] = []
    films: list[FloatArray] = []
    for part in parts:
        moved = undelayed(part.time, part.reading, delay.seconds(part.airflow, part.time.shape))
        error = moved * part.rest
        use = (part.cell >= 0) & np.isfinite(error) & (error > 0)
        values.append(np.log(error[use]))
        where.append(part.cell[use])
        films.append(part.ahead[use] if part.ahead is not None else np.zeros(int(use.sum())))
    value, cell, film = np.concatenate(values), np.concatenate(where), np.concatenate(films)
    if value.size == 0:
        return float("inf")
    counts = np.maximum(np.bincount(cell, minlength=cells), 1)
    value = value - (np.bincount(cell, weights=value, minlength=cells) / counts)[cell]
    film = film - (np.bincount(cell, weights=film, minlength=cells) / counts)[cell]
    squares = float(film @ film)
    explained = float(film @ value) ** 2 / squares if squares > 0 else 0.0
    return (float(value @ value) - explained) / value.size


def estimate_delay(parts: list[DelaySamples], cells: int) -> Delay:
    """The delay under which the error is most consistent within cells: a coarse grid, then two finer ones.

    d0 is sought in 0 … 0.4 s and k in 0 … 6 g. With no usable samples the delay is (0, 0).
    """
    usable = [part for part in parts if (part.cell >= 0).any()]
    if not usable:
        return Delay(0.0, 0.0)
    flow_known = any(part.airflow is not None for part in usable)
    best = Delay(0.0, 0.0)
    least = inconsistency(usable, best, cells)
    centre, width = Delay(0.2, 3.0), Delay(0.2, 3.0)
    for _ in range(3):
        d0s = np.linspace(max(0.0, centre.d0 - width.d0), centre.d0 + width.d0, 7)
        ks = np.linspace(max(0.0, centre.k - width.k), centre.k + width.k, 7) if flow_known else np.zeros(1)
        for d0 in d0s:
            for k in ks:
                tried = Delay(float(d0), float(k))
                score = inconsistency(usable, tried, cells)
                if score < least:
                    best, least = tried, score
        centre, width = best, Delay(width.d0 / 3, width.k / 3)
    return Delay(round(best.d0, 4), round(best.k, 4))
