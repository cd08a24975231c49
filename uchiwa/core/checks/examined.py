"""What every check looks at: a log on one time base with what is known of car, brief and calibration."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from uchiwa.core.briefs.brief import Brief
from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.checks.finding import Spans
from uchiwa.core.checks.thresholds import Thresholds
from uchiwa.core.evidence.regions import full_load
from uchiwa.core.formulas.computed import SHIPPED, Book
from uchiwa.core.logs.drives import Drive, DriveKind, recognise_drives
from uchiwa.core.logs.log import BoolArray, FloatArray, Log
from uchiwa.core.logs.signal import held, rate, spans, within
from uchiwa.core.logs.timebase import on_one_base
from uchiwa.core.tables.table import Calibration, Table

_RUNNING = 400.0


@dataclass(frozen=True, eq=False)
class ExaminedLog:
    """A log under examination.

    Attributes:
        log: recognised.
        car: its car.
        brief: what was asked for, if anything was.
        calibration: the one the log should have been recorded with, if there is one.
        revision: its number.
        table: under work.
        limits: of the checks.
        book: computed channels that checks of a shop's own may name.
    """

    log: Log
    car: CarFile = field(default_factory=CarFile)
    brief: Brief | None = None
    calibration: Calibration | None = None
    revision: int | None = None
    table: Table | None = None
    limits: Thresholds = field(default_factory=Thresholds)
    book: Book = SHIPPED

    @cached_property
    def _base(self) -> tuple[FloatArray, dict[str, FloatArray]]:
        return on_one_base(self.log)

    @property
    def time(self) -> FloatArray:
        """Seconds; shape (n,)."""
        return self._base[0]

    @property
    def signals(self) -> dict[str, FloatArray]:
        """Canonical readings by quantity, each of shape (n,)."""
        return self._base[1]

    def get(self, quantity: str) -> FloatArray | None:
        """Readings of a quantity; None if it was not recorded or never read."""
        values = self.signals.get(quantity)
        return values if values is not None and np.isfinite(values).any() else None

    @cached_property
    def drives(self) -> tuple[Drive, ...]:
        """The drives in it."""
        return recognise_drives(self.time, self.signals)

    def during(self, kind: DriveKind) -> BoolArray:
        """Which samples lie in drives of a kind."""
        return within(self.time, [(drive.start, drive.end) for drive in self.drives if drive.kind is kind])

    @cached_property
    def running(self) -> BoolArray:
        """Where the engine runs."""
        return self.signals["engine_speed"] > _RUNNING

    @cached_property
    def warm(self) -> BoolArray:
        """Where the coolant is warm; everywhere if it was not recorded."""
        coolant = self.get("coolant_temperature")
        return np.ones(self.time.shape, dtype=np.bool_) if coolant is None else coolant >= self.limits.warm_coolant

    @cached_property
    def closed_loop(self) -> BoolArray:
        """Where the controller trims: by its own word, else where a short-term trim moves."""
        loop = self.get("loop_state")
        if loop is not None:
            return loop > 0.5
        trim = self.get("short_term_trim")
        if trim is None:
            target = self.get("lambda_target")
            steady = np.ones(self.time.shape, dtype=np.bool_) if target is None else np.abs(target - 1.0) < 0.01
            return steady & self.running
        return held(self.time, np.abs(rate(self.time, trim, 0.5)) > 0.02, 2.0) & self.running

    @cached_property
    def overrun(self) -> BoolArray:
        """Overrun fuel cut, and three seconds after it: by its flag, else by closed injectors, else by coasting."""
        flag, pulse = self.get("overrun_cut_active"), self.get("injector_pulse")
        duty, throttle = self.get("injector_duty"), self.get("throttle_position")
        if flag is not None:
            cut = flag > 0.5
        elif pulse is not None:
            cut = (pulse < 0.05) & self.running
        elif duty is not None:
            cut = (duty < 0.05) & self.running
        elif throttle is not None:
            cut = (throttle < np.nanquantile(throttle, 0.02) + 1.5) & (self.signals["engine_speed"] > 1250)
        else:
            cut = np.zeros(self.time.shape, dtype=np.bool_)
        return held(self.time, cut, 3.0)

    @cached_property
    def load(self) -> BoolArray:
        """Full load, by whatever shows it: throttle in any unit, pressure, airflow, or the controller's own load."""
        return full_load(self.signals, self.displacement)

    @cached_property
    def displacement(self) -> float | None:
        """The engine's, L, by the car file or the calibration; None if neither says."""
        if self.car.displacement is not None:
            return float(self.car.displacement)
        return self.calibration.constant("displacement") if self.calibration is not None else None

    def stretches(self, mask: BoolArray, shortest: float = 0.0, bridge: float = 0.3) -> Spans:
        """Stretches of the log where a mask holds; at most forty."""
        return tuple(spans(self.time, mask, shortest, bridge))[:40]
