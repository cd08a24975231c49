"""`python -m bench.held_out`: accuracy on cars that no test uses, drawn anew from wide ranges.

Their true tables have bumps a table can only just follow, their walls hold more or less fuel, and their sensors answer
sooner or later than those of the cars that ship.
"""

from __future__ import annotations

import sys
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace

import numpy as np

from bench.accuracy import DRIVE, Accuracy, measure, table_of
from uchiwa.standin.cars import StandInCar
from uchiwa.standin.fleet import car_named
from uchiwa.standin.lookup import Lookup
from uchiwa.standin.simulate import simulate
from uchiwa.standin.wideband import Wideband

_WAVES = 60


def held_out(seed: int) -> tuple[StandInCar, Wideband]:
    """A car and its sensor."""
    rng = np.random.default_rng(7000 + seed)
    car = car_named("corvid-pike" if seed % 2 == 0 else "bramble-wren")
    speeds, loads = np.arange(0.0, 7401.0, 50.0), np.arange(8.0, 242.0, 2.0)
    along, across = rng.uniform(700, 1300), rng.uniform(18, 35)
    bumps = np.zeros((loads.size, speeds.size))
    for _ in range(_WAVES):
        kx, ky = rng.normal() / along, rng.normal() / across
        bumps += np.cos(kx * speeds[None, :] + ky * loads[:, None] + rng.uniform(0, 2 * np.pi))
    bumps = 1 + rng.uniform(0.02, 0.045) * bumps * np.sqrt(2 / _WAVES)
    known = np.array([[car.truth.volumetric_efficiency(float(x), float(y)) for x in speeds] for y in loads])
    truth = replace(
        car.truth,
        volumetric_efficiency=Lookup(speeds.tolist(), loads.tolist(), (known * bumps).tolist()),
        film_share=float(rng.uniform(0.15, 0.30)),
        film_time=float(rng.uniform(0.20, 0.40)),
    )
    sensor = Wideband(d0=rng.uniform(0.03, 0.12), k=rng.uniform(0.8, 2.5), lag=rng.uniform(0.04, 0.10))
    return replace(car, truth=truth), sensor


def run(seed: int) -> tuple[str, Accuracy]:
    """One car, driven once."""
    car, sensor = held_out(seed)
    base = car.base()
    log = simulate(car, base, DRIVE, 500 + seed, sensor=replace(sensor))
    return f"car {seed}", measure(car, base, log, sensor)


if __name__ == "__main__":
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 10
    with ProcessPoolExecutor(2) as pool:
        print(table_of(pool.map(run, range(count))))
