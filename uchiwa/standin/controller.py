"""The engine controller: runs the flashed calibration, injects fuel and trims it."""

from __future__ import annotations

from bisect import bisect_left
from dataclasses import dataclass, field

from uchiwa.core.airflow.speed_density import GAS_CONSTANT, ZERO_CELSIUS
from uchiwa.core.cars.fuels import stoichiometric_of
from uchiwa.core.errors import BadInput
from uchiwa.core.tables.table import Calibration
from uchiwa.standin.engine import charge_share
from uchiwa.standin.lookup import Lookup

_LEARN_SPEEDS = (1800.0, 3000.0)
_LEARN_PRESSURES = (45.0, 75.0)
_LEARN_TIME = 12.0
_FILM_SHARE = 0.13
_FILM_TIME = 0.28


@dataclass
class Command:
    """What the controller decided in a step; `fuel_flow` of all injectors in g/s, `pulse` in ms."""

    target: float = 1.0
    fuel_flow: float = 0.0
    pulse: float = 0.0
    spark: float = 10.0
    closed_loop: bool = False
    overrun: bool = False
    after_start: bool = False
    short_trim: float = 0.0
    long_trim: float = 0.0


@dataclass
class Controller:
    """A controller that goes by an airflow meter if its calibration has a curve for one, else by speed density.

    The controller's model of air is its own: the meter's curve, or VE from its table and the same charge temperature
    model as the engine's, so that a wrong steady mixture always means a wrong curve or a wrong VE. It makes up for part of the wall film only, so that opening
    the throttle still runs lean for a moment and closing it rich.
    """

    calibration: Calibration
    ve: Lookup | None = field(init=False, default=None)
    meter: Lookup | None = field(init=False, default=None)
    over_ratio: bool = field(init=False, default=False)
    target: Lookup = field(init=False)
    spark: Lookup = field(init=False)
    warmup: Lookup | None = field(init=False)
    overlay: Lookup | None = None
    overlaid: float = 1.0
    cold: Lookup | None = field(init=False, default=None)
    integral: float = 0.0
    learned: list[float] = field(default_factory=lambda: [0.0] * 9)
    running: float = 0.0
    overrun: bool = False
    film: float = 0.0
    command: Command = field(default_factory=Command)
    ethanol_percent: float | None = None
    _constants: dict[str, float] = field(default_factory=dict)
    _volume: float = field(init=False, default=0.0)

    def __post_init__(self) -> None:
        lookups: dict[str, Lookup] = {}
        curves = self.calibration.by_role("maf_curve")
        air = "maf_curve" if curves else "volumetric_efficiency"
        for role in (air, "lambda_target", "spark_advance"):
            tables = self.calibration.by_role(role)
            if not tables:
                raise BadInput(f"the calibration has no {role} table, and the stand-in's controller needs one")
            lookups[role] = Lookup.of(tables[0])
        if curves:
            self.meter = lookups["maf_curve"]
        else:
            axis = self.calibration.by_role("volumetric_efficiency")[0].y
            self.over_ratio = axis is not None and axis.quantity == "pressure_ratio"
            self.ve = lookups["volumetric_efficiency"]
        self.target = lookups["lambda_target"]
        self.spark = lookups["spark_advance"]
        warm = self.calibration.by_role("warmup_factor")
        self.warmup = Lookup.of(warm[0]) if warm else None
        cold = self.calibration.by_role("cold_lambda_offset")
        self.cold = Lookup.of(cold[0]) if cold else None
        for role in ("displacement", "cylinders", "stoichiometric_ratio", "injector_flow", "injector_dead_time"):
            value = self.calibration.constant(role)
            if value is None:
                raise BadInput(f"the calibration has no constant {role}, and the stand-in's controller needs it")
            self._constants[role] = value
        self._volume = self._constants["displacement"] / self._constants["cylinders"] / 1000.0
        for role in ("overrun_cut_enabled", "closed_loop_enabled"):
            setting = self.calibration.constant(role)
            self._constants[role] = 1.0 if setting is None else setting

    @property
    def stoichiometric(self) -> float:
        """Air-fuel ratio of the fuel the controller believes in: of the ethanol content it reads, if it reads one."""
        if self.ethanol_percent is not None:
            return stoichiometric_of(self.ethanol_percent)
        return self._constants["stoichiometric_ratio"]

    def step(
        self,
        speed: float,
        pressure: float,
        throttle: float,
        coolant: float,
        intake_air: float,
        airflow: float,
        sensed: float,
        dt: float,
        barometer: float = 100.0,
        frequency: float = 0.0,
    ) -> Command:
        """One step of dt seconds from the sensors' readings."""
        constants, command = self._constants, self.command
        self.running += dt
        loaded = pressure / barometer if self.over_ratio else pressure
        if self.meter is not None:
            air = self.meter(frequency) * 120.0 / (max(speed, 60.0) * constants["cylinders"])
        elif self.ve is not None:
            k = charge_share(airflow)
            kelvin = intake_air + (coolant - intake_air) * k + ZERO_CELSIUS
            air = self.ve(speed, loaded) / 100.0 * pressure * 1000.0 * self._volume / (GAS_CONSTANT * kelvin) * 1000.0
        self.overlaid = 1.0
        if self.overlay is not None:
            self.overlaid = self.overlay(frequency) if self.meter is not None else self.overlay(speed, loaded)
        air *= self.overlaid
        command.target = self.target(speed, loaded)
        if self.cold is not None:
            command.target += self.cold(coolant)
        command.after_start = self.running < 12.0 and coolant < 70.0
        enrich = self.warmup(coolant) / 100.0 if self.warmup is not None else 1.0
        if command.after_start:
            enrich *= 1.0 + 0.15 * (1.0 - self.running / 12.0)
        if self.overrun:
            self.overrun = throttle < 2.0 and speed > 1350.0
        else:
            self.overrun = throttle < 0.8 and speed > 1800.0
        self.overrun = self.overrun and constants["overrun_cut_enabled"] > 0.5
        command.overrun = self.overrun
        command.closed_loop = (
            constants["closed_loop_enabled"] > 0.5
            and coolant > 65.0
            and self.running > 15.0
            and not self.overrun
            and command.target > 0.985
            and throttle < 80.0
        )
        zone = _zone(speed, pressure)
        if command.closed_loop:
            error = min(max(sensed / command.target - 1.0, -0.2), 0.2)
            self.integral = min(max(self.integral + 0.33 * error * dt, -0.25), 0.25)
            learn = self.integral * dt / _LEARN_TIME
            self.learned[zone] = min(max(self.learned[zone] + learn, -0.2), 0.2)
            self.integral -= learn
            command.short_trim = min(max(self.integral + 0.10 * error, -0.25), 0.25)
        else:
            self.integral *= 1.0 - dt / 0.4
            command.short_trim = 0.0
        command.long_trim = self.learned[zone]
        trims = (1.0 + command.short_trim) * (1.0 + command.long_trim)
        fuel = 0.0 if self.overrun else air * trims * enrich / (command.target * self.stoichiometric)
        cycles = speed / 120.0 * constants["cylinders"]
        evaporated = self.film / _FILM_TIME
        flow = max(0.0, (fuel * cycles - evaporated) / (1.0 - _FILM_SHARE)) if fuel else 0.0
        self.film += (_FILM_SHARE * flow - evaporated) * dt
        command.fuel_flow = flow
        injected = flow / max(cycles, 1.0)
        command.pulse = (
            injected / constants["injector_flow"] * 1000.0 + constants["injector_dead_time"] if flow else 0.0
        )
        command.spark = self.spark(speed, loaded)
        return command


def _zone(speed: float, pressure: float) -> int:
    column = bisect_left(_LEARN_SPEEDS, speed)
    return 3 * bisect_left(_LEARN_PRESSURES, pressure) + column
