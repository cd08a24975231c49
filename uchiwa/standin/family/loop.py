"""The engine, its sensor and its controller, step by step; compiled."""

from __future__ import annotations

import math

import numpy as np
from numba import njit

COLUMNS = (
    "speed",
    "pressure",
    "airflow",
    "mixture",
    "target",
    "short",
    "long",
    "closed",
    "charge",
    "mixture_2",
    "exhaust",
    "unknown",
)
"""What `run` tells of each step."""
LOWEST_FLOW, FLOW_STEP = math.log(0.3), 0.002
METERED = np.exp(LOWEST_FLOW + FLOW_STEP * np.arange(3600))
"""Flows at which a meter's curve is told to `run`, g/s."""


@njit(cache=True, nogil=True)
def _grid(values, low, step, at):  # type: ignore[no-untyped-def]  # pragma: no cover
    place = min(max((at - low) / step, 0.0), values - 1.000001)
    return int(place), place - int(place)


@njit(cache=True, nogil=True)
def _over(table, x0, dx, y0, dy, x, y):  # type: ignore[no-untyped-def]  # pragma: no cover
    i, fx = _grid(table.shape[1], x0, dx, x)
    j, fy = _grid(table.shape[0], y0, dy, y)
    low = table[j, i] * (1 - fx) + table[j, i + 1] * fx
    high = table[j + 1, i] * (1 - fx) + table[j + 1, i + 1] * fx
    return low * (1 - fy) + high * fy


@njit(cache=True, nogil=True)
def _life(film_s, speed, airflow, by_speed, by_flow):  # type: ignore[no-untyped-def]  # pragma: no cover
    """How long a film takes to evaporate, s."""
    return max(film_s * (2000.0 / max(speed, 500.0)) ** by_speed * (15.0 / max(airflow, 1.0)) ** by_flow, 0.03)


@njit(cache=True, nogil=True)
def _sprayed(fuel, own, film, made_up, lives, dt):  # type: ignore[no-untyped-def]  # pragma: no cover
    """What is injected so that the films the controller believes in, `own`, are made up for; they go on by a step."""
    injected = fuel
    for one in range(2):
        mine = made_up * film[one]
        give = own[one] / lives[one]
        injected = max((injected - give) / max(1.0 - mine, 0.2), 0.0) if fuel > 0 and film[one] > 0 else injected
        own[one] = max(own[one] + (mine * injected - give) * dt, 0.0)
    return injected


@njit(cache=True, nogil=True)
def _burned(injected, store, film, lives, dt):  # type: ignore[no-untyped-def]  # pragma: no cover
    """What burns of the fuel injected and of that which the films give back; they go on by a step."""
    rest, burned = injected, 0.0
    for one in range(2):
        gives = store[one] / lives[one]
        store[one] = max(store[one] + (film[one] * rest - gives) * dt, 0.0)
        burned += gives
        rest *= 1.0 - film[one]
    return burned + rest


@njit(cache=True, nogil=True)
def run(  # type: ignore[no-untyped-def]  # pragma: no cover
    asked, wanted, throttle, cut, coolant, noise, true_air, model_air, x0, dx, y0, dy, barometer, ambient, film, film_s,
    by_speed, by_flow, made_up, d0, k, turns, lags, dead_band, charge_off, backpressure, closed, gain, reset_s, learns_s,
    zones, banks, offset, metered, dt,
):  # fmt: skip
    """Every `dt` seconds what `COLUMNS` names; shape (n, 12); `unknown` is the air that the model
    errs by beside its table.

    `true_air` and `model_air` are volumetric efficiencies on a fine grid of speed and pressure, as the engine breathes and as
    the controller believes. `noise` are standard normal numbers, (n, 3). `metered` is what a meter's curve tells of the
    airflow, as a share of it, at `METERED` flows; empty where the controller goes by speed density.
    """
    n = asked.size
    out = np.zeros((n, 12))
    left, when = np.ones(n), np.zeros(n)
    speed, pressure, air_temp = 850.0, 34.0, ambient + 10.0
    exhaust = 0.2
    store = np.zeros(2)
    own, lives = np.zeros(2), np.zeros(2)
    learned = np.zeros(9)
    integral, short = 0.0, 0.0
    gas, first, second, shown = 1.0, 1.0, 1.0, 1.0
    reached = 0
    for at in range(n):
        speed += (asked[at] - speed) * min(dt / 0.15, 1.0) + 2.0 * noise[at, 0] * math.sqrt(dt)
        pressure += (wanted[at] - pressure) * min(dt / 0.12, 1.0)
        flow_guess = max(out[at - 1, 2], 0.5) if at else 2.0
        air_temp += (ambient + 12.0 / (1.0 + flow_guess / 8.0) - air_temp) * dt / 25.0
        known = 0.06 + 0.34 / (1.0 + flow_guess / 12.0)
        modelled = air_temp + (coolant[at] - air_temp) * known + 273.15
        really = air_temp + (coolant[at] - air_temp) * min(max(known + charge_off, 0.0), 0.9) + 273.15
        exhaust += (min(flow_guess / 80.0, 1.5) - exhaust) * dt / 20.0
        lost = 1.0 - backpressure * (exhaust - min(flow_guess / 80.0, 1.5))
        breath = _over(true_air, x0, dx, y0, dy, speed, pressure) * lost * offset
        airflow = breath * pressure * speed / really / 1722.3
        believed = _over(model_air, x0, dx, y0, dy, speed, pressure) * pressure * speed / modelled / 1722.3
        if metered.size:
            at_flow, part = _grid(metered.size, LOWEST_FLOW, FLOW_STEP, math.log(max(airflow, 0.3)))
            believed = airflow * (metered[at_flow] * (1 - part) + metered[at_flow + 1] * part)
        load = pressure / barometer
        target = 1.0 if load < 0.9 else max(1.0 - (load - 0.9) * 0.35, 0.82)
        loop = closed and target > 0.985 and not cut[at] and throttle[at] < 80.0
        zone = 0
        if zones:
            zone = (0 if speed < 1800 else 1 if speed < 3000 else 2) + 3 * (
                0 if load < 0.45 else 1 if load < 0.75 else 2
            )
        if loop:
            wrong = min(max(shown / target - 1.0, -0.2), 0.2)
            integral = min(max(integral + gain * wrong * dt / reset_s * 10.0, -0.25), 0.25)
            if learns_s > 0:
                step = integral * dt / learns_s
                learned[zone] += step
                integral -= step
            short = integral + gain * wrong
        else:
            integral *= 1.0 - dt / 0.5
            short = 0.0
        fuel = 0.0 if cut[at] else believed * (1.0 + short) * (1.0 + learned[zone]) / target
        for one in range(2):
            lives[one] = _life(film_s[one], speed, airflow, by_speed, by_flow)
        burned = _burned(_sprayed(fuel, own, film, made_up, lives, dt), store, film, lives, dt)
        mixture = min(airflow / burned, 1.9) if burned > 1e-6 else 1.9
        time = at * dt
        left[at] = mixture
        when[at] = time + d0 + k / max(airflow, 0.5) + turns * 60.0 / max(speed, 400.0)
        while reached + 1 <= at and when[reached + 1] <= time:
            reached += 1
        gas = left[reached]
        first = first + (gas - first) * (1.0 - math.exp(-dt / lags[0])) if lags[0] > 0 else gas
        second = second + (first - second) * (1.0 - math.exp(-dt / lags[1])) if lags[1] > 0 else first
        if abs(second - shown) > dead_band:
            shown = second - dead_band if second > shown else second + dead_band
        out[at, 0], out[at, 1], out[at, 2] = speed, pressure, airflow
        out[at, 3] = min(max(shown * (1.0 + banks), 0.65), 1.45)
        out[at, 9] = min(max(shown * (1.0 - banks), 0.65), 1.45)
        out[at, 4], out[at, 5], out[at, 6] = target, short, learned[zone]
        out[at, 11] = lost * modelled / really
        out[at, 7], out[at, 8], out[at, 10] = 1.0 if loop else 0.0, air_temp, exhaust
    return out
