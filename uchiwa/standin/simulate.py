"""One simulated drive: driver, controller, engine, sensors and logger, step by step."""

from __future__ import annotations

import math
from collections.abc import Callable, Collection, Sequence
from dataclasses import replace
from types import MappingProxyType

import numpy as np

from uchiwa.core.airflow.speed_density import GAS_CONSTANT, ZERO_CELSIUS
from uchiwa.core.logs.log import Channel, Log, Raster
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.core.tables.table import Calibration
from uchiwa.standin.cars import StandInCar
from uchiwa.standin.chassis import DRIVELINE
from uchiwa.standin.clamp import Clamp
from uchiwa.standin.controller import Controller
from uchiwa.standin.driver import Driver
from uchiwa.standin.drives import Drive, make_drive
from uchiwa.standin.engine import Engine
from uchiwa.standin.idling import IdleControl
from uchiwa.standin.knocking import KnockControl, KnockSensor
from uchiwa.standin.wideband import Wideband

STEP_S = 0.02
LOG_EVERY = 2
_INERTIA = 0.19
_IDLE_SPEED = 850.0

CRANKED_S = 2.6
_STALLS_BELOW, _RESTARTS_S, _CAUGHT_RPM = 260.0, 4.5, 700.0
_IDLE_SPARK_BELOW = 1700.0
LOGGED = (
    ("Engine speed", "engine_speed", 0),
    ("Vehicle speed", "vehicle_speed", 1),
    ("Throttle", "throttle_position", 1),
    ("Intake pressure", "manifold_pressure", 1),
    ("Barometric pressure", "barometric_pressure", 1),
    ("Coolant temperature", "coolant_temperature", 0),
    ("Intake air temperature", "intake_air_temperature", 1),
    ("Lambda measured", "lambda_measured", 3),
    ("Lambda target", "lambda_target", 3),
    ("Short term trim", "short_term_trim", 2),
    ("Long term trim", "long_term_trim", 2),
    ("Loop state", "loop_state", 0),
    ("Injector pulse", "injector_pulse", 3),
    ("Injector duty", "injector_duty", 1),
    ("Spark advance", "spark_advance", 1),
    ("Battery voltage", "battery_voltage", 2),
    ("Overrun cut active", "overrun_cut_active", 0),
    ("After start active", "after_start_active", 0),
    ("Gear", "gear", 0),
    ("Knock retard", "knock_retard", 1),
    ("Fuel pressure", "fuel_pressure", 0),
    ("Airflow", "airflow", 2),
    ("Airflow frequency", "airflow_frequency", 0),
    ("Ethanol", "ethanol_content", 1),
    ("Short term trim bank 2", "short_term_trim_2", 2),
    ("Long term trim bank 2", "long_term_trim_2", 2),
    ("Knock level", "knock_level", 3),
    ("Knock limit", "knock_limit", 3),
    ("Knock count", "knock_count", 0),
    ("Wheel torque", "wheel_torque", 2),
    ("Target idle speed", "target_idle_speed", 0),
    ("Desired idle airflow", "idle_airflow_target", 2),
    ("Idle valve", "idle_actuator_position", 1),
    ("In gear", "in_gear", 0),
    ("Airflow signal", "airflow_voltage", 3),
    ("Fuel overlay", "fuel_overlay", 3),
)


def simulate(
    car: StandInCar,
    calibration: Calibration,
    drive_name: str,
    seed: int,
    *,
    revision: str | None = None,
    sensor: Wideband | None = None,
    ethanol_to: float | None = None,
    tell_torque: bool = False,
) -> Log:
    """Drive a stand-in car; the same arguments give the same log.

    Args:
        car: the car.
        calibration: what its controller runs.
        drive_name: see `drives.DRIVES`.
        seed: of the road, the driver's choices and the sensors' noise.
        revision: mark written into the log, by default the calibration's id.
        sensor: another wideband sensor than the usual one.
        ethanol_to: the ethanol content (%) that the fuel reaches some two thirds into the drive, for a car that senses it.
        tell_torque: whether to add what a dyno would measure, which a car cannot know of itself.

    Returns:
        A log at 25 Hz of what the car's sensors and controller report, in canonical units.
    """
    run = Run(car, calibration, drive_name, seed, sensor, ethanol_to)
    rows: list[tuple[float, ...]] = []
    while not run.driver.done:
        run.step()
        if run.number % LOG_EVERY == 0:
            rows.append(run.row())
        run.time += STEP_S
        run.number += 1
    return recorded(car, rows, drive_name, revision or calibration.id, {"wheel_torque"} if tell_torque else set())


_ON_REQUEST = frozenset({"wheel_torque", "fuel_overlay"})


def recorded(
    car: StandInCar, rows: Sequence[tuple[float, ...]], drive_name: str, revision: str, also: Collection[str] = ()
) -> Log:
    """Rows of a run as a log of what the car's sensors and controller report, in canonical units.

    Args:
        car: the car.
        rows: as `Run.row` gives them.
        drive_name: what was driven.
        revision: mark written into the log.
        also: of the quantities that no log has by itself, those that this one has.
    """
    data = np.array(rows)
    channels = tuple(
        Channel(name, QUANTITIES[quantity].unit, np.round(data[:, column + 1], decimals) + 0.0, quantity)
        for column, (name, quantity, decimals) in enumerate(LOGGED)
        if not _absent(car, quantity) and (quantity in also or quantity not in _ON_REQUEST)
    )
    if car.trim_step:
        channels = tuple(_stepped(channel, car.trim_step) for channel in channels)
    notes = MappingProxyType({"revision": revision, "drive": drive_name})
    return Log(f"{drive_name}.csv", (Raster(np.round(data[:, 0], 3), channels),), notes)


class Run:
    """A drive under way: everything that changes from step to step."""

    def __init__(
        self,
        car: StandInCar,
        calibration: Calibration,
        drive_name: str,
        seed: int,
        sensor: Wideband | None = None,
        ethanol_to: float | None = None,
        driver: Callable[[Drive], Driver] = Driver,
    ) -> None:
        rng = np.random.default_rng(seed)
        self.car, self.sensor, self.drive = car, sensor or Wideband(), make_drive(drive_name, rng)
        ambient, self.barometer = float(rng.uniform(*self.drive.ambient)), float(rng.uniform(96.5, 101.0))
        self.clamp = Clamp.of(calibration)
        self.blown = not car.blown_once_clamped or (self.clamp is not None and self.clamp.clamps)
        truth = car.truth if self.blown else replace(car.truth, wastegate_boost=0.0)
        self.engine = Engine(truth, ambient, self.barometer)
        self.idle = IdleControl.of(calibration, car.actuator)
        self.stalled_at: float | None = None
        self.density = self.barometer * 1000.0 / (GAS_CONSTANT * (ambient + ZERO_CELSIUS))
        state = self.engine.state
        state.speed, state.coolant = self.drive.engine_speed, self.drive.coolant
        state.intake_air, state.pressure = ambient + 12, 38.0
        if self.drive.cranked:
            state.coolant, state.intake_air, state.pressure = ambient, ambient, self.barometer
        self.ethanol = car.ethanol(seed) if car.ethanol is not None else 0.0
        self.controller = Controller(calibration, ethanol_percent=self.ethanol if car.ethanol is not None else None)
        self.ethanol_at_start, self.ethanol_to = self.ethanol, ethanol_to
        self.blending_s = 0.7 * sum(leg.seconds for leg in self.drive.legs)
        self.driver = driver(self.drive)
        self.listening = KnockControl(
            car.truth.knock,
            car.knock_sensor,
            np.random.default_rng([seed, 77]),
            unheard=not car.knock_channels and car.knock_sensor == KnockSensor(),
        )
        self.noise: list[list[float]] = rng.normal(size=(4096, 4)).tolist()
        self.uneven: list[float] = np.random.default_rng([seed, 78]).normal(size=4096).tolist()
        self.road_speed, self.bypass, self.sensed, self.time, self.number = 0.0, 22.0, 1.0, 0.0, 0
        self.speed_read = self.pressure_read = self.frequency = self.fired = self.torque = self.geared = 0.0
        self.cranking = False
        self.command = self.controller.command

    def step(self) -> None:
        """Advance everything by one step."""
        jitter = self.noise[self.number % 4096]
        if self.ethanol_to is not None and self.controller.ethanol_percent is not None:
            done = min(self.time / self.blending_s, 1.0)
            self.ethanol = self.ethanol_at_start + (self.ethanol_to - self.ethanol_at_start) * done
            self.controller.ethanol_percent = self.ethanol
        self._drive()
        self._read(jitter)
        self._burn(jitter)
        self._move()

    def _drive(self) -> None:
        """The driver's foot and gear, and the air that comes in."""
        state, driver, chassis = self.engine.state, self.driver, self.car.chassis
        wished = driver.leg.gear
        driver.step(
            state.speed, chassis.engine_speed(wished, self.road_speed) if wished else 0.0, self.road_speed, STEP_S
        )
        self.geared = chassis.engine_speed(driver.gear, self.road_speed) if driver.gear else 0.0
        self.limited = state.speed > self.car.truth.limiter
        if self.idle is not None:
            at = (self.barometer, state.intake_air, driver.throttle < 1.0)
            area = self.idle.area(state.speed, state.coolant, driver.in_gear, STEP_S, at)
            self.engine.breathe(driver.throttle, area, STEP_S)
            return
        target_idle = _IDLE_SPEED + 4.0 * max(0.0, 75.0 - state.coolant)
        if driver.throttle < 1.0 and state.speed < 1500.0:
            self.bypass = min(max(self.bypass + (target_idle - state.speed) * 0.035 * STEP_S, 8.0), 70.0)
        steadied = self.bypass + min(max((target_idle - state.speed) * 0.03, -10.0), 12.0)
        dashpot = max(1.0, state.speed / 1100.0)
        self.engine.breathe(driver.throttle, max(steadied, 4.0) * dashpot, STEP_S)

    def _read(self, jitter: list[float]) -> None:
        """What sensors tell the controller, and what it commands."""
        state, car = self.engine.state, self.car
        self.speed_read = state.speed + 3.0 * jitter[0]
        self.pressure_read = state.pressure + 0.25 * jitter[1]
        self.frequency = car.meter(state.airflow) + car.meter_noise * jitter[3] if car.meter is not None else 0.0
        self.cranking = (self.drive.cranked and self.time < CRANKED_S) or self._stalled()
        if self.cranking:
            state.speed = 210.0 if self.time >= 1.2 and self._starter_turns() else 0.0
            self.speed_read = max(state.speed + 3.0 * jitter[0] * (state.speed > 0), 0.0)
            self.controller.running = 0.0
            state.airflow = 0.05
        self.command = self.controller.step(
            self.speed_read,
            self.pressure_read,
            self.driver.throttle,
            state.coolant,
            state.intake_air,
            state.airflow,
            self.sensed,
            STEP_S,
            self.barometer,
            self.frequency if self.clamp is None else self.clamp(self.speed_read, self.frequency),
        )
        if self.idle is not None and self.driver.throttle < 1.0 and state.speed < _IDLE_SPARK_BELOW:
            self.command.spark = self.idle.spark(self.speed_read, state.coolant)

    def _stalled(self) -> bool:
        """Whether the engine stands or is being started again after it stalled; then it has run up by itself."""
        if self.stalled_at is None:
            return False
        if self.time - self.stalled_at < _RESTARTS_S:
            return True
        self.stalled_at = None
        self.engine.state.speed = _CAUGHT_RPM
        return False

    def _starter_turns(self) -> bool:
        return self.stalled_at is None or self.time - self.stalled_at > _RESTARTS_S - 1.4

    def _burn(self, jitter: list[float]) -> None:
        """Fuel, mixture, spark and torque."""
        state, engine, sensor, driver = self.engine.state, self.engine, self.sensor, self.driver
        fuel = 0.0 if self.limited else self.command.fuel_flow
        if self.car.blown_once_clamped:
            # A regulator that raises the fuel pressure with boost adds what the controller does not know of.
            fuel *= max(1.0, state.pressure / self.barometer)
        engine.burn(fuel, self.controller.stoichiometric, STEP_S)
        sensed = sensor.step(self.time, state.mixture, state.airflow, STEP_S) * (1.0 + 0.0035 * jitter[2])
        self.sensed = min(max(sensed, sensor.rich_rail), sensor.lean_rail)
        self.fired = self.listening.step(
            self.command.spark,
            state.speed,
            state.pressure,
            state.mixture,
            state.intake_air,
            driver.throttle,
            driver.gear,
            STEP_S,
        )
        chance = self.uneven[self.number % 4096]
        self.torque = engine.torque(self.fired, chance) if fuel > 0 else -(12.0 + 0.006 * state.speed)
        if driver.in_gear:
            self.torque -= self.car.truth.gear_load

    def _move(self) -> None:
        """Engine and car gather speed, together or apart."""
        state, driver, chassis, torque = self.engine.state, self.driver, self.car.chassis, self.torque
        slipping = self.geared < 1000.0
        if self.cranking:
            acceleration = 0.0
        elif driver.clutch_open or (slipping and driver.throttle < 1.0):
            least = _STALLS_BELOW if self.idle is not None else 500.0
            state.speed = max(state.speed + torque / _INERTIA * STEP_S * 60 / (2 * math.pi), least)
            if self.idle is not None and state.speed <= _STALLS_BELOW:
                self.stalled_at = self.time
            acceleration = chassis.acceleration(0, 0.0, self.road_speed, driver.slope, driver.brake, self.density)
        else:
            through = max(torque, 35.0) if slipping else torque
            acceleration = chassis.acceleration(
                driver.gear, through, self.road_speed, driver.slope, driver.brake, self.density
            )
            wanted = max(self.geared, 1250.0) if slipping else self.geared
            state.speed += (wanted - state.speed) * min(1.0, STEP_S / 0.12)
        self.road_speed = max(0.0, self.road_speed + acceleration * STEP_S)

    def row(self) -> tuple[float, ...]:
        """Time and what `LOGGED` names, as they are now."""
        state, command, listening = self.engine.state, self.command, self.listening
        jitter = self.noise[self.number % 4096]
        spread = command.closed_loop * self.car.truth.bank_spread
        return (
            self.time,
            self.speed_read,
            self.road_speed * 3.6,
            self.driver.throttle,
            self.pressure_read,
            self.barometer,
            state.coolant,
            state.intake_air,
            self.sensed,
            command.target,
            (command.short_trim - spread) * 100.0,
            command.long_trim * 100.0,
            float(command.closed_loop),
            command.pulse,
            command.pulse * state.speed / 1200.0,
            self.fired,
            10.4 if self.cranking and state.speed > 0 else 13.9 + 0.03 * jitter[3],
            float(command.overrun),
            float(command.after_start),
            float(self.driver.gear),
            listening.retard,
            300.0 + 1.5 * jitter[3] + (self.pressure_read - self.barometer),
            state.airflow,
            self.frequency,
            self.ethanol,
            (command.short_trim + spread) * 100.0,
            command.long_trim * 100.0,
            listening.level,
            listening.limit,
            float(listening.count),
            self.torque * DRIVELINE if self.driver.gear else 0.0,
            self.idle.target(state.coolant) if self.idle is not None else 0.0,
            self.idle.desired if self.idle is not None else 0.0,
            self.idle.position if self.idle is not None else 0.0,
            float(self.driver.in_gear),
            self.frequency,
            (self.controller.overlaid - 1.0) * 100.0,
        )


_OF_IDLE = frozenset({"target_idle_speed", "idle_airflow_target", "idle_actuator_position"})


def _stepped(channel: Channel, step: float) -> Channel:
    """A trim in the steps in which the controller reports it; other channels as they are."""
    if channel.quantity is None or "_term_trim" not in channel.quantity:
        return channel
    return replace(channel, values=np.round(channel.values / step) * step + 0.0)


def _absent(car: StandInCar, quantity: str) -> bool:
    """Whether a car has no sensor for a quantity."""
    return (
        (quantity == "lambda_measured" and not car.wideband)
        or (quantity in ("airflow", "airflow_frequency", "airflow_voltage") and car.meter is None)
        or (quantity in ("airflow_frequency", "airflow_voltage") and quantity != car.meter_quantity)
        or (quantity in _OF_IDLE and not car.base().by_role("idle_airflow"))
        or (quantity == "in_gear" and car.truth.gear_load == 0.0)
        or (quantity == "ethanol_content" and car.ethanol is None)
        or (quantity.endswith("_trim_2") and car.truth.bank_spread == 0.0)
        or (quantity in ("knock_level", "knock_limit", "knock_count") and not car.knock_channels)
    )
