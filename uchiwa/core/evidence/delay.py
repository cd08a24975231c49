"""Mixture delay: which combustion a mixture reading belongs to."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from uchiwa.core.logs.log import FloatArray
from uchiwa.core.logs.timebase import at_times, own_period

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


NO_DELAY = Delay(0.0, 0.0)


def read_at(time: FloatArray, delay: FloatArray) -> FloatArray:
    """When what burns at `time` is read: t + d, never before what burned earlier; shape (n,)."""
    later: FloatArray = np.maximum.accumulate(time + delay)
    return later


def undelayed(time: FloatArray, reading: FloatArray, delay: FloatArray) -> FloatArray:
    """The reading moved to the moment of its combustion: what burns at t is read at t + d.

    Args:
        time: seconds, rising; shape (n,).
        reading: shape (n,); NaN is a gap, which is bridged no further than `timebase.bridgeable` allows.
        delay: seconds at the time of combustion; shape (n,).

    Returns:
        The reading that belongs to each combustion; NaN where there is none.
    """
    finite = np.isfinite(reading)
    known_time = time[finite]
    return at_times(read_at(time, delay), known_time, reading[finite], own_period(known_time), states=False)
