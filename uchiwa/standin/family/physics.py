"""What may be true of an engine of the family, and how it is drawn."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np


@dataclass(frozen=True)
class Physics:
    """Everything that is true of an engine, its sensor and its controller, and hidden from its calibration.

    Attributes:
        bumps: how far true breathing strays from a smooth engine's, as a fraction.
        miss: how far the calibration's table is off the truth, as a fraction.
        film: shares of the injected fuel that two films take.
        film_s: times in which they evaporate at 2000 rpm, s.
        film_by_speed, film_by_flow: powers by which those times fall with speed and with airflow.
        made_up: share of the films that the controller makes up for.
        delay_s, delay_g, delay_turns: of the mixture: fixed, by airflow, and by engine turns.
        lags_s: time constants of the sensor, one after the other; 0 for none.
        dead_band: change of λ that the sensor does not follow.
        noise: of the sensor at idle, cruise and load, as fractions.
        quantum: the steps in which λ is logged; 0 for none.
        pressure_noise: of the intake pressure, kPa.
        charge: how far the true share of wall heat in the charge is from the controller's.
        backpressure: air lost for each unit of exhaust heat that the model does not know of.
        closed: whether the controller trims at all.
        gain, reset_s: of the short-term trim.
        learns_s: time of the long-term trim; 0 for none.
        zones: whether it learns by zones.
        banks: how far the banks lie apart; 0 for one bank.
        apart: how far a second log lies off the first as a whole: fuel or weather; 0 for one log.
        meter: whether the controller goes by an airflow meter.
        wideband: whether there is a wideband sensor; else only trims tell.
    """

    bumps: float = 0.03
    miss: float = 0.07
    film: tuple[float, float] = (0.2, 0.0)
    film_s: tuple[float, float] = (0.3, 1.0)
    film_by_speed: float = 0.0
    film_by_flow: float = 0.0
    made_up: float = 0.6
    delay_s: float = 0.05
    delay_g: float = 1.5
    delay_turns: float = 0.0
    lags_s: tuple[float, float] = (0.06, 0.0)
    dead_band: float = 0.0
    noise: tuple[float, float, float] = (0.004, 0.004, 0.004)
    quantum: float = 0.001
    pressure_noise: float = 0.25
    charge: float = 0.0
    backpressure: float = 0.0
    closed: bool = True
    gain: float = 0.1
    reset_s: float = 3.0
    learns_s: float = 12.0
    zones: bool = True
    banks: float = 0.0
    apart: float = 0.0
    meter: bool = False
    wideband: bool = True


@dataclass(frozen=True)
class Recorder:
    """How the log is written.

    Attributes:
        rate: samples a second of speed, pressure and throttle.
        mixture_rate: of the mixture; the same as `rate` for one table of all.
        jitter: of the steps, as a share of them.
        dropouts: gaps in a minute, each of up to two seconds.
        whole_seconds: whether times are written without fractions.
        second_rate: of a second log, for two recordings of different rate; 0 for one log.
    """

    rate: float = 20.0
    mixture_rate: float = 20.0
    jitter: float = 0.0
    dropouts: float = 0.0
    whole_seconds: bool = False
    second_rate: float = 0.0


@dataclass(frozen=True)
class Variant:
    """A kind of engine: what differs in it, in words, and how."""

    name: str
    physics: Physics
    recorder: Recorder = Recorder()


_PLAIN = Physics()

VARIANTS: tuple[Variant, ...] = (
    Variant("no film, fixed delay", replace(_PLAIN, film=(0.0, 0.0), delay_s=0.18, delay_g=0.0)),
    Variant(
        "two films, by speed",
        replace(_PLAIN, film=(0.15, 0.12), film_s=(0.15, 1.6), film_by_speed=0.8, made_up=0.4),
    ),
    Variant("film by flow", replace(_PLAIN, film=(0.35, 0.0), film_s=(0.7, 1.0), film_by_flow=0.6, made_up=0.7)),
    Variant(
        "delay by turns, slow sensor",
        replace(_PLAIN, delay_s=0.0, delay_g=0.0, delay_turns=3.0, lags_s=(0.12, 0.12), dead_band=0.004),
    ),
    Variant(
        "heat and backpressure unknown",
        replace(_PLAIN, charge=0.12, backpressure=0.02, film=(0.1, 0.0)),
        Recorder(rate=10.0, mixture_rate=10.0),
    ),
    Variant(
        "trims only, slow zones",
        replace(_PLAIN, wideband=False, gain=0.06, reset_s=6.0, learns_s=40.0),
    ),
    Variant(
        "trims only, quick",
        replace(_PLAIN, wideband=False, gain=0.15, reset_s=1.2, learns_s=8.0, zones=False, quantum=0.0078),
    ),
    Variant(
        "mixed rates, gaps",
        replace(_PLAIN, film=(0.12, 0.0)),
        Recorder(rate=25.0, mixture_rate=8.0, jitter=0.25, dropouts=1.5),
    ),
    Variant(
        "coarse and noisy",
        replace(_PLAIN, noise=(0.02, 0.01, 0.006), quantum=0.01, pressure_noise=3.0, delay_g=4.0),
        Recorder(rate=50.0, mixture_rate=50.0),
    ),
    Variant("airflow meter", replace(_PLAIN, meter=True, film=(0.05, 0.03), film_s=(0.2, 0.9))),
    Variant("two banks", replace(_PLAIN, banks=0.03, closed=False), Recorder(dropouts=0.5)),
    Variant(
        "two logs, two fuels",
        replace(_PLAIN, apart=0.012),
        Recorder(rate=100.0, mixture_rate=100.0, second_rate=10.0),
    ),
    Variant(
        "whole seconds",
        replace(_PLAIN, film=(0.08, 0.0), delay_g=1.0),
        Recorder(rate=8.0, mixture_rate=8.0, whole_seconds=True),
    ),
)
"""The kinds of engines in the family; none of them is assumed by any estimator."""


def drawn(variant: Variant, rng: np.random.Generator) -> Physics:
    """A variant's physics with its numbers drawn about those it is named for."""
    physics = variant.physics

    def about(value: float, spread: float = 0.4) -> float:
        return float(value * np.exp(rng.normal(0, spread)))

    return replace(
        physics,
        bumps=float(rng.uniform(0.01, 0.035)),
        miss=float(rng.uniform(0.03, 0.09)),
        film=(min(about(physics.film[0], 0.25), 0.6), min(about(physics.film[1], 0.25), 0.4)),
        film_s=(about(physics.film_s[0]), about(physics.film_s[1])),
        made_up=float(np.clip(physics.made_up + rng.normal(0, 0.2), 0.0, 1.1)),
        delay_s=about(physics.delay_s),
        delay_g=about(physics.delay_g),
        delay_turns=about(physics.delay_turns),
        lags_s=(about(physics.lags_s[0]), about(physics.lags_s[1])),
        charge=physics.charge * float(rng.choice([-1.0, 1.0])),
        apart=physics.apart * float(rng.choice([-1.0, 1.0])),
    )
