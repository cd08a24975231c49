"""A stand-in driver who goes where the phone says, on the road of an ordinary drive."""

from __future__ import annotations

from dataclasses import dataclass, replace

from uchiwa.standin.driver import Driver
from uchiwa.standin.drives import Leg

_LOWEST, _HIGHEST = 2, 5
_REACH_RPM = 320.0
_CLOSE_RPM = 110.0
_DRAW_RPM = 2200.0
_SHIFT_AFTER_S = 2.5
_THROTTLE_RATE = 9.0
_REACTS_S = 1.2
_MOST_THROTTLE = 70.0


@dataclass(frozen=True)
class Goal:
    """Where the driver is to go.

    Attributes:
        speed: of the engine, rpm; None for idle.
        load: intake pressure over the air outside.
    """

    speed: float | None
    load: float


@dataclass
class AdvisedDriver(Driver):
    """Keeps to the slopes and the time of the drive, and chooses gear and throttle by what was said.

    A speed that cannot be held at the load that was said is driven through: pulled from below, or coasted down from above.
    After each step `throttle`, `gear`, `slope` and `brake` say what is done.

    Attributes:
        goal: what was said last; None: as the drive has it.
        load: where the engine is, as the driver's gauge shows it.
    """

    goal: Goal | None = None
    load: float = 0.4
    _heard: Goal | None = None
    _in_goal: float = 0.0
    _chosen: int = 0
    _off_s: float = 0.0

    @property
    def leg(self) -> Leg:
        """The leg as it is driven: the road's slope, and what was said."""
        road = super().leg
        if self._heard is None:
            return road
        if self._heard.speed is None:
            return replace(road, gear=0, throttle=0.0, engine_speed=None, until_speed=None)
        return replace(road, gear=self._chosen, engine_speed=self._heard.speed, until_speed=None, throttle=None)

    def _first_gear(self, goal: Goal) -> int:
        """Higher for more load, lower for little, as far as the speed allows."""
        load, speed = goal.load, goal.speed or 0.0
        wished = 2 if load < 0.38 else 3 if load < 0.52 else 4 if load < 0.7 else 5
        if speed > 3400:
            wished = min(wished, 4)
        if speed < 1500:
            wished = max(2, min(wished, 4))
        return wished

    def step(self, engine_speed: float, geared_speed: float, road_speed: float, dt: float) -> None:
        """Advance by dt seconds."""
        if self.goal != self._heard:
            self._in_goal += dt
            if self._in_goal >= _REACTS_S or self._heard is None:
                self._heard, self._in_goal = self.goal, 0.0
                if self._heard is not None and self._heard.speed is not None:
                    self._choose(self._heard)
        super().step(engine_speed, geared_speed, road_speed, dt)

    def _choose(self, goal: Goal) -> None:
        """The gear that is in, if it is near the one that suits."""
        suits = self._first_gear(goal)
        now = self.gear if self.gear else suits
        self._chosen = now if abs(now - suits) <= 1 and now >= _LOWEST else suits
        self._off_s = 0.0

    def _shift_if_stuck(self, off: float, goal: Goal, dt: float) -> None:
        """The load is right and the speed is not, and stays so: another gear."""
        stuck = abs(off) > _CLOSE_RPM and abs(self.load - goal.load) < 0.12
        self._off_s = self._off_s + dt if stuck else max(0.0, self._off_s - dt)
        if self._off_s > _SHIFT_AFTER_S:
            self._off_s = 0.0
            self._chosen = min(max(self._chosen + (1 if off > 0 else -1), _LOWEST), _HIGHEST)

    def _hold_speed(self, leg: Leg, wanted: float, geared_speed: float, dt: float) -> None:
        goal = self._heard
        if goal is None or goal.speed is None:
            super()._hold_speed(leg, wanted, geared_speed, dt)
            return
        off = geared_speed - wanted
        if abs(off) > _REACH_RPM:
            quick = replace(leg, throttle_rate=max(leg.throttle_rate, _THROTTLE_RATE))
            super()._hold_speed(quick, wanted, geared_speed, dt)
            return
        self._shift_if_stuck(off, goal, dt)
        drawn = 0.0 if abs(off) < _CLOSE_RPM else -off / _DRAW_RPM
        more = (goal.load + drawn - self.load) * 40.0
        self._move(min(max(self.throttle + more * dt * 4.0, 0.0), _MOST_THROTTLE), _THROTTLE_RATE, dt)
        self._wish = self.throttle
