"""The stand-in driver: works through a drive's legs with throttle, gear and brake."""

from __future__ import annotations

from dataclasses import dataclass

from uchiwa.standin.drives import Drive, Leg

_SHIFT_SECONDS = 0.7
_HIGHEST_AFTER_SHIFT = 5000.0
_NEAR = 0.5
_COMING_OFF = 2.5


@dataclass
class Driver:
    """Foot and hand of the driver. After each step `throttle`, `gear`, `slope` and `brake` say what they do."""

    drive: Drive
    throttle: float = 0.0
    gear: int = 0
    slope: float = 0.0
    brake: float = 0.0
    done: bool = False
    _leg: int = 0
    _in_leg: float = 0.0
    _wish: float = 0.0
    _shifting: float = 0.0

    def __post_init__(self) -> None:
        self.gear = self.drive.gear

    @property
    def leg(self) -> Leg:
        """The leg being driven."""
        return self.drive.legs[self._leg]

    @property
    def in_gear(self) -> bool:
        """Whether an automatic gearbox is held in gear, on the brake."""
        return self.leg.in_gear

    @property
    def clutch_open(self) -> bool:
        """Whether the engine is disconnected from the wheels."""
        return self.gear == 0 or self._shifting > 0

    def step(self, engine_speed: float, geared_speed: float, road_speed: float, dt: float) -> None:
        """Advance by dt seconds.

        Args:
            engine_speed: rpm.
            geared_speed: rpm the engine would have with the clutch closed in the leg's gear.
            road_speed: m/s.
            dt: s.
        """
        leg = self.leg
        self._in_leg += dt
        self.brake = 0.0
        self.slope += (leg.slope - self.slope) * dt / 2.5
        too_fast_to_shift_down = 0 < leg.gear < self.gear and geared_speed > _HIGHEST_AFTER_SHIFT
        if leg.gear != self.gear and not too_fast_to_shift_down:
            self._shifting, self.gear = _SHIFT_SECONDS, leg.gear
        self._shifting = max(0.0, self._shifting - dt)
        if self._shifting > 0:
            self._move(0.0, 200.0, dt)
        elif too_fast_to_shift_down:
            self._move(0.0, 120.0, dt)
            self.brake = 2.0
        elif leg.gear == 0:
            self._move(0.0, 120.0, dt)
            self.brake = 2.2 if road_speed > 0.2 else 0.0
        elif leg.engine_speed is not None:
            self._hold_speed(leg, leg.engine_speed, geared_speed, dt)
        else:
            self._move(leg.throttle or 0.0, leg.throttle_rate, dt)
        reached = leg.until_speed is not None and engine_speed >= leg.until_speed
        too_slow = leg.engine_speed is None and self.gear > 0 and geared_speed < 1050.0
        if self._in_leg >= leg.seconds or reached or too_slow:
            self._next()

    def _hold_speed(self, leg: Leg, wanted: float, geared_speed: float, dt: float) -> None:
        error = (wanted - geared_speed) / 1000.0
        if error < _NEAR:
            self._wish = min(max(self._wish + error * 9.0 * dt, 0.0), 45.0)
        far_below = geared_speed < 1100.0
        throttle = self._wish + 22.0 * error
        most = 48.0
        self._move(min(max(throttle, 0.0), most), leg.throttle_rate * (3.0 if far_below else 1.0), dt)
        if error < -0.35 and self.throttle < 0.5:
            self.brake = min(2.0, -error * 1.5)

    def _move(self, wanted: float, fastest: float, dt: float) -> None:
        """Towards a throttle; a foot comes off the pedal quicker than it goes down."""
        step = fastest * dt
        self.throttle += min(max(wanted - self.throttle, -_COMING_OFF * step), step)

    def _next(self) -> None:
        self._in_leg = 0.0
        self._wish = self.throttle
        if self._leg + 1 < len(self.drive.legs):
            self._leg += 1
        else:
            self.done = True
