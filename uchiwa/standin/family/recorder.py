"""A logger of the family: mixed and jittering rates, gaps, and coarse times."""

from __future__ import annotations

import numpy as np

from uchiwa.core.logs.log import Channel, FloatArray, Log, Raster
from uchiwa.core.logs.readers import read_log
from uchiwa.core.logs.writers.delimited import Dialect, write_text
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.standin.family.physics import Recorder
from uchiwa.standin.family.road import STEP_S

MIXTURE = frozenset({"lambda_measured", "lambda_measured_2", "lambda_target"})
_LONGEST_GAP_S = 2.0


def _times(seconds: float, rate: float, recorder: Recorder, rng: np.random.Generator) -> FloatArray:
    steps = 1.0 / rate * (1.0 + recorder.jitter * rng.uniform(-1, 1, int(seconds * rate * 1.3) + 2))
    time = np.concatenate(([0.0], np.cumsum(steps)))
    return time[time < seconds - STEP_S]


def _raster(time: FloatArray, signals: dict[str, FloatArray]) -> Raster:
    at = np.minimum((time / STEP_S).astype(int), next(iter(signals.values())).size - 1)
    return Raster(time, tuple(Channel(one, QUANTITIES[one].unit, values[at], one) for one, values in signals.items()))


def recorded(
    name: str, signals: dict[str, FloatArray], recorder: Recorder, rate: float, rng: np.random.Generator
) -> Log:
    """A log of signals that were told every 0.02 s, as the logger keeps them."""
    seconds = next(iter(signals.values())).size * STEP_S
    quick = {one: values for one, values in signals.items() if one not in MIXTURE}
    slow = {one: values for one, values in signals.items() if one in MIXTURE}
    parts = (
        [(quick, rate), (slow, recorder.mixture_rate)]
        if recorder.mixture_rate != recorder.rate and slow
        else [(signals, rate)]
    )
    gaps = [
        (start, start + float(rng.uniform(0.3, _LONGEST_GAP_S)))
        for start in rng.uniform(0, seconds, rng.poisson(recorder.dropouts * seconds / 60.0))
    ]
    rasters = []
    for part, at_rate in parts:
        time = _times(seconds, at_rate, recorder, rng)
        for first, last in gaps:
            time = time[(time < first) | (time > last)]
        rasters.append(_raster(time, part))
    log = Log(name, tuple(rasters))
    return _read_back(log) if recorder.whole_seconds else log


def _read_back(log: Log) -> Log:
    """The log as it is read from a file whose times have no fractions."""
    (raster,) = log.rasters
    coarse = Log(log.name, (Raster(np.floor(raster.time), raster.channels),))
    return read_log(write_text(coarse, Dialect()), log.name)
