"""A pull: one run through the speeds at full load, whatever recorded it."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum

import numpy as np

from uchiwa.core.logs.log import BoolArray, FloatArray


class Source(StrEnum):
    """Where a pull's torque comes from."""

    DYNO = "dyno"
    ROAD = "road"
    UNKNOWN = "unknown"


@dataclass(frozen=True)
class Flaw:
    """Something that spoils part of a pull.

    Attributes:
        kind: `spin`, `shift`, `lift`, `disagree` or `gap`.
        words: what, as a sentence without its full stop.
        low, high: engine speeds between which it does, rpm.
    """

    kind: str
    words: str
    low: float
    high: float


@dataclass(frozen=True, eq=False)
class Pull:
    """A run; arrays of shape (n,), in the order in which they were recorded.

    Attributes:
        log: name of the log or file it is from.
        number: in that log, from 1.
        source: where the torque comes from.
        start, end: seconds in the log.
        time: s in the log.
        speed: rpm.
        torque: Nm at the wheels divided by the gear, so that torque and engine speed make power; NaN where unknown.
        good: which samples count: those that no flaw spoils.
        signals: canonical readings by quantity.
        gear: number of the gear, or of the ratio told from the speeds; NaN if unknown.
        factor: weather correction (SAE J1349); NaN where the air was not recorded.
        flaws: what spoils parts of it.
        notes: what could not be told and what would tell it, as sentences without their full stops.
    """

    log: str
    number: int
    source: Source
    start: float
    end: float
    time: FloatArray
    speed: FloatArray
    torque: FloatArray
    good: BoolArray
    signals: Mapping[str, FloatArray]
    gear: float = float("nan")
    factor: float = float("nan")
    flaws: tuple[Flaw, ...] = ()
    notes: tuple[str, ...] = ()

    @property
    def measured(self) -> str:
        """How torque was measured, and in which gear on the road: only pulls of one kind can be compared."""
        if self.source is Source.ROAD and math.isfinite(self.gear):
            return f"{self.source.value}, gear {self.gear:.0f}"
        return self.source.value

    @property
    def power(self) -> FloatArray:
        """kW: torque · speed."""
        power: FloatArray = self.torque * self.speed * (2.0 * math.pi / 60e3)
        return power

    @property
    def known(self) -> BoolArray:
        """Samples with a torque that count."""
        known: BoolArray = self.good & np.isfinite(self.torque)
        return known

    def get(self, quantity: str) -> FloatArray | None:
        """Readings of a quantity; of speed, torque and power the pull's own."""
        match quantity:
            case "engine_speed":
                return self.speed
            case "wheel_torque":
                return self.torque
            case "wheel_power":
                return self.power
        return self.signals.get(quantity)
