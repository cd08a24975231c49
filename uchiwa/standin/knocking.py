"""Knock as it really is, the sensor that hears it amid the engine's own noise, and the controller's answer."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

_STEP = 1.0
_RECOVERS = 1.2
_WAITS_S = 0.6
_ACTS_S = 0.1
_MOST = 10.0
_DRAWN, _BLOCK = 16_384, 512


@dataclass(frozen=True)
class KnockTruth:
    """The spark up to which an engine does not knock, and what is hidden from its calibration.

    limit = base − per_kpa·(pressure − 30) + speed/per_rpm − per_degree·(intake air − 30) + per_lambda·(1 − λ) + octane

    Attributes:
        base: degrees at 30 kPa.
        per_kpa, per_rpm, per_degree, per_lambda: what load, speed, hot air and a rich mixture do.
        octane: degrees more or less with the fuel in the tank.
    """

    base: float = 40.0
    per_kpa: float = 0.15
    per_rpm: float = 400.0
    per_degree: float = 0.25
    per_lambda: float = 18.0
    octane: float = 0.0

    def limit(self, speed: float, pressure: float, mixture: float, intake_air: float) -> float:
        """Degrees before top dead centre above which the engine knocks."""
        richer = min(max(1.0 - mixture, -0.1), 0.3)
        return (
            self.base
            - self.per_kpa * (pressure - 30.0)
            + speed / self.per_rpm
            - self.per_degree * (intake_air - 30.0)
            + self.per_lambda * richer
            + self.octane
        )


@dataclass(frozen=True)
class KnockSensor:
    """What the sensor hears without knock.

    Attributes:
        floor: V at 1000 rpm; the level rises with speed to the power 1.3.
        scatter: of the level, as a share.
        snap: how often a snap of the throttle or a change of gear sounds like knock, 0 … 1.
        rattle: engine speed (rpm) at which something loose sounds like knock whatever the load; 0 for nothing.
    """

    floor: float = 0.12
    scatter: float = 0.10
    snap: float = 0.0
    rattle: float = 0.0

    def noise(self, speed: float) -> float:
        """The level that the engine's own noise has at a speed, V."""
        heard: float = 0.30 + self.floor * (speed / 1000.0) ** 1.3
        return heard


@dataclass
class KnockControl:
    """Listens at every step; takes spark out when the level passes the limit, and gives it back slowly.

    Attributes:
        truth, sensor: of the engine.
        rng: of the sensor's scatter and of chance.
        allowed: how many times the noise a level may be before it counts as knock.
        unheard: whether nobody asks for the level, so that it need not be worked out where nothing can happen.
    """

    truth: KnockTruth
    sensor: KnockSensor
    rng: np.random.Generator
    allowed: float = 2.0
    unheard: bool = False
    retard: float = 0.0
    level: float = 0.0
    limit: float = 0.0
    count: int = 0
    knocked: bool = False
    _since: float = field(default=10.0)
    _acted: float = field(default=10.0)
    _snapped: float = field(default=0.0)
    _throttle: float = field(default=0.0)
    _gear: int = field(default=0)
    _number: int = field(default=0)

    def __post_init__(self) -> None:
        self._chances = self.rng.uniform(size=(_DRAWN, 3))
        self._scatter = self.rng.normal(size=_DRAWN)
        self._block, self._chance, self._scattered = -1, [[0.0]], [0.0]

    def _drawn(self) -> tuple[list[float], float]:
        """What chance has for this step; it is made into numbers by the block, for few drives need all of it."""
        block, at = divmod(self._number % _DRAWN, _BLOCK)
        if block != self._block:
            part = slice(block * _BLOCK, (block + 1) * _BLOCK)
            self._block = block
            self._chance, self._scattered = self._chances[part].tolist(), self._scatter[part].tolist()
        self._number += 1
        return self._chance[at], self._scattered[at]

    def step(
        self,
        spark: float,
        speed: float,
        pressure: float,
        mixture: float,
        intake_air: float,
        throttle: float,
        gear: int,
        dt: float,
    ) -> float:
        """The spark that is really fired, of what the table wants; advances the listening by dt seconds."""
        fired = spark - self.retard
        over = fired - self.truth.limit(speed, pressure, mixture, intake_air) if speed > 500.0 else -20.0
        if self.unheard and over < -1.0 and self.retard == 0.0:
            return spark
        noise = self.sensor.noise(speed)
        chance, scatter = self._drawn()
        level = noise * (1.0 + self.sensor.scatter * scatter)
        self.knocked = over > 0.0 and chance[0] < min(1.0, 0.25 + 0.25 * over)
        if self.knocked:
            level += noise * (1.0 + 0.4 * over)
        if abs(throttle - self._throttle) > 60.0 * dt * 3.0 or gear != self._gear:
            self._snapped = 0.25
        if self._snapped > 0.0 and chance[1] < self.sensor.snap * dt / 0.25:
            level += 1.6 * noise
        if self.sensor.rattle and abs(speed - self.sensor.rattle) < 120.0 and chance[2] < 0.02:
            level += 1.5 * noise
        self._snapped, self._throttle, self._gear = self._snapped - dt, throttle, gear
        self.level, self.limit = level, noise * self.allowed
        self._since += dt
        self._acted += dt
        if level > self.limit:
            if self._acted > _ACTS_S:
                self.count += 1
                self.retard = min(self.retard + _STEP, _MOST)
                self._acted = 0.0
            self._since = 0.0
        elif self._since > _WAITS_S:
            self.retard = max(0.0, self.retard - _RECOVERS * dt)
        return spark - self.retard
