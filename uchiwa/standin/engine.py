"""The engine as it really is: breathing, intake manifold, turbocharger, fuel film, torque."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field

from uchiwa.core.airflow.speed_density import GAS_CONSTANT, ZERO_CELSIUS
from uchiwa.standin.burning import SparkTruth
from uchiwa.standin.knocking import KnockTruth

_GAMMA = 1.4
_CHOKED = 0.5283
_LINEAR_ABOVE = 0.97
_OF_FLOW, _HIGH, _LOW = 2 * _GAMMA / (_GAMMA - 1), 2 / _GAMMA, (_GAMMA + 1) / _GAMMA
_WARM, _WARM_FUEL = 80.0, math.exp(-80.0 / 30.0)
INDICATED = 92.0
"""Nm for each gram of air that all cylinders burn in a cycle, at the best spark."""


@dataclass(frozen=True)
class EngineTruth:
    """What is true of an engine and hidden from its calibration.

    Attributes:
        displacement: L.
        cylinders: number of them.
        volumetric_efficiency: % from engine speed (rpm) and intake pressure (kPa).
        manifold_volume: L.
        throttle_area: wide open, mm².
        wastegate_boost: kPa above ambient that the turbocharger is held to; 0 for none.
        spool_airflow: airflow at which that boost is reached, g/s.
        blower: whether boost comes from a supercharger, which follows engine speed and throttle, and not from exhaust.
        over_ratio: whether `volumetric_efficiency` is over the pressure ratio (in %) in place of the pressure.
        bank_spread: how much more air bank 2 gets than the mean, as a fraction; bank 1 gets as much less.
        film_share: share of the injected fuel that lands on the walls when warm.
        film_time: time in which the wall film evaporates when warm, s.
        cold_friction: how much more friction there is at 0 °C, as a share.
        cold_fuel: how much more fuel it takes at 0 °C for the same mixture, as a share: what does not evaporate.
        gear_load: what an automatic gearbox takes at idle in gear, Nm; 0 for a clutch.
        limiter: engine speed of the limiter, rpm.
        knock: the spark up to which it does not knock.
        spark: what spark does to torque, exhaust and evenness.
    """

    displacement: float
    cylinders: int
    volumetric_efficiency: Callable[[float, float], float]
    manifold_volume: float = 4.0
    throttle_area: float = 2300.0
    wastegate_boost: float = 72.0
    spool_airflow: float = 70.0
    blower: bool = False
    over_ratio: bool = False
    bank_spread: float = 0.0
    film_share: float = 0.22
    film_time: float = 0.28
    cold_friction: float = 0.0
    cold_fuel: float = 0.0
    gear_load: float = 0.0
    limiter: float = 6600.0
    knock: KnockTruth = field(default_factory=KnockTruth)
    spark: SparkTruth = field(default_factory=SparkTruth)

    def needed_fuel(self, coolant: float) -> float:
        """How much fuel it takes for the mixture that is wanted, as a factor: 1 from 80 °C on."""
        if self.cold_fuel == 0.0 or coolant >= _WARM:
            return 1.0
        return 1.0 + self.cold_fuel * (math.exp(-coolant / 30.0) - _WARM_FUEL) / (1.0 - _WARM_FUEL)

    def stiffness(self, coolant: float) -> float:
        """Friction against that of the warm engine."""
        return 1.0 + self.cold_friction * math.exp(-coolant / 35.0) if self.cold_friction else 1.0


def charge_share(airflow: float) -> float:
    """k of the charge temperature IAT + (ECT − IAT)·k, falling with airflow (g/s): the walls' share of the heat."""
    return 0.06 + 0.34 / (1.0 + airflow / 12.0)


def _through(ratio: float) -> float:
    """What an opening lets through at a ratio of pressures, from choked, 0.685, to none."""
    if ratio <= _CHOKED:
        return _THROUGH_CHOKED
    if ratio >= 1.0:
        return 0.0
    if ratio > _LINEAR_ABOVE:
        return _THROUGH_LAST * ((1.0 - ratio) / (1.0 - _LINEAR_ABOVE))
    return math.sqrt(_OF_FLOW * (ratio**_HIGH - ratio**_LOW))


_THROUGH_CHOKED, _THROUGH_LAST = (
    math.sqrt(_OF_FLOW * (ratio**_HIGH - ratio**_LOW)) for ratio in (_CHOKED, _LINEAR_ABOVE)
)


def orifice_flow(area: float, upstream: float, downstream: float, temperature: float) -> float:
    """Airflow in g/s through an opening (compressible orifice; e.g. Heywood, *ICE Fundamentals*, appendix C).

    Args:
        area: effective, mm².
        upstream, downstream: absolute pressures, kPa.
        temperature: upstream, degC.
    """
    return _most_flow(area, upstream, temperature) * _through(downstream / upstream) * 1000.0


def _most_flow(area: float, upstream: float, temperature: float) -> float:
    """What `orifice_flow` is proportional to, whatever the pressure downstream; kg/s."""
    return area * 1e-6 * upstream * 1000.0 / math.sqrt(GAS_CONSTANT * (temperature + ZERO_CELSIUS))


@dataclass
class EngineState:
    """What changes while the engine runs."""

    speed: float = 0.0
    pressure: float = 100.0
    boost: float = 0.0
    airflow: float = 1.0
    film: float = 0.0
    coolant: float = 20.0
    intake_air: float = 20.0
    air_per_cylinder: float = 0.0
    mixture: float = 1.0
    exhaust: float = 1.0


@dataclass
class Engine:
    """A running engine."""

    truth: EngineTruth
    ambient: float
    barometer: float
    state: EngineState = field(default_factory=EngineState)

    def breathe(self, throttle_percent: float, bypass_area: float, dt: float) -> None:
        """Advance intake pressure, boost, temperatures and cylinder air by dt seconds."""
        state, truth = self.state, self.truth
        speed, pressure, airflow, intake_air = state.speed, state.pressure, state.airflow, state.intake_air
        upstream = self.barometer + state.boost
        opening = truth.throttle_area * (1.0 - math.cos(throttle_percent / 100.0 * math.pi / 2)) * 0.8
        charge = intake_air + (state.coolant - intake_air) * charge_share(airflow)
        kelvin = charge + ZERO_CELSIUS
        filled = pressure / self.barometer * 100.0 if truth.over_ratio else pressure
        ve = truth.volumetric_efficiency(speed, filled)
        per_kpa = ve / 100.0 * truth.displacement * speed / 120.0 / (GAS_CONSTANT * kelvin) * 1000.0
        most = _most_flow(opening + bypass_area, upstream, intake_air)
        flow_in = most * _through(pressure / upstream) * 1000.0
        flow_less = most * _through((pressure + 0.5) / upstream) * 1000.0
        slope = (flow_less - flow_in) / 0.5 - per_kpa
        gain = GAS_CONSTANT * kelvin / truth.manifold_volume / 1000.0
        change = gain * (flow_in - per_kpa * pressure) * dt / (1.0 - gain * slope * dt)
        state.pressure = pressure = min(max(pressure + change, 12.0), upstream)
        state.airflow = airflow = max(per_kpa * pressure, 0.05)
        volume = truth.displacement / truth.cylinders / 1000.0
        state.air_per_cylinder = ve / 100.0 * pressure * 1e3 * volume / (GAS_CONSTANT * kelvin) * 1e3
        if truth.blower:
            opened = min(max((throttle_percent - 25.0) / 35.0, 0.0), 1.0)
            reachable = truth.wastegate_boost * min(1.0, speed / 5500.0) * opened
        else:
            reachable = truth.wastegate_boost * min(1.0, (airflow / truth.spool_airflow) ** 2) * state.exhaust
        state.boost += (reachable - state.boost) * dt / (0.55 if reachable > state.boost else 0.35)
        warm_air = self.ambient + 0.10 * state.boost + 14.0 / (1.0 + airflow / 8.0)
        state.intake_air += (warm_air - intake_air) * dt / 25.0
        if state.coolant < 90.0:
            state.coolant += ((0.010 + 0.0011 * airflow) * (95.0 - state.coolant) * 0.30) * dt

    def fill(self) -> None:
        """Airflow and cylinder air of the present speed, pressure and temperatures, at rest."""
        state, truth = self.state, self.truth
        filled = state.pressure / self.barometer * 100.0 if truth.over_ratio else state.pressure
        ve = truth.volumetric_efficiency(state.speed, filled)
        volume = truth.displacement / truth.cylinders / 1000.0
        for _ in range(4):
            share = charge_share(state.airflow)
            kelvin = state.intake_air + (state.coolant - state.intake_air) * share + ZERO_CELSIUS
            state.air_per_cylinder = ve / 100.0 * state.pressure * 1e3 * volume / (GAS_CONSTANT * kelvin) * 1e3
            state.airflow = state.air_per_cylinder * truth.cylinders * state.speed / 120.0

    def burn(self, injected: float, stoichiometric: float, dt: float) -> None:
        """Fuel from injector and wall film meets the air: sets the mixture (λ) that leaves the cylinders.

        The film follows Aquino's X-τ model (SAE 810494): a share X of the injected fuel lands on the walls, and the
        film there evaporates with the time τ.

        Args:
            injected: fuel flow of all injectors, g/s.
            stoichiometric: air-fuel ratio of the fuel.
            dt: s.
        """
        state, truth = self.state, self.truth
        cold = max(0.0, min(1.0, (80.0 - state.coolant) / 80.0)) if state.coolant < 80.0 else 0.0
        share = truth.film_share * (1.0 + cold)
        lifetime = truth.film_time * (1.0 + 2.0 * cold)
        evaporated = state.film / lifetime
        state.film = max(0.0, state.film + (share * injected - evaporated) * dt)
        burned = ((1.0 - share) * injected + evaporated) / truth.needed_fuel(state.coolant)
        state.mixture = min(state.airflow / (stoichiometric * burned), 9.0) if burned > 1e-6 else 9.0

    def torque(self, spark: float, chance: float = 0.0) -> float:
        """Brake torque in Nm: indicated by air, spark and mixture, less friction and pumping.

        Args:
            spark: fired, degrees before top dead centre.
            chance: a standard normal number, which scatters the torque where the burning is uneven.
        """
        state, truth = self.state, self.truth
        per_cycle = state.air_per_cylinder * truth.cylinders
        best = truth.spark.best(state.speed, state.pressure)
        timing = truth.spark.efficiency(spark, best)
        state.exhaust = truth.spark.exhaust(spark, best)
        lean = max(0.0, 1.0 - max(0.0, state.mixture - 1.0) * 1.2) if state.mixture < 1.8 else 0.0
        friction = (14.0 + 0.0028 * state.speed) * truth.displacement / 2.0 * truth.stiffness(state.coolant)
        pumping = (self.barometer - min(state.pressure, self.barometer)) * truth.displacement / (4 * math.pi)
        even = 1.0 + truth.spark.unevenness(spark, best) * chance
        return INDICATED * per_cycle * timing * lean * even - friction - pumping
