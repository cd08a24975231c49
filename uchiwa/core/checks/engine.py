"""The checks of the engine's health and of how it was driven, in the order in which they are told."""

from __future__ import annotations

from uchiwa.core.checks.airflow_ceiling import airflow_ceiling
from uchiwa.core.checks.battery import battery_jitter
from uchiwa.core.checks.cold_engine import cold_engine
from uchiwa.core.checks.exhaust_temperature import exhaust_hot
from uchiwa.core.checks.fuel_pressure import fuel_pressure
from uchiwa.core.checks.heat_soak import heat_soaked
from uchiwa.core.checks.injector_duty import injector_duty
from uchiwa.core.checks.knocking import knock, learned_retard, low_octane
from uchiwa.core.checks.stalling import stalled
from uchiwa.core.checks.trims import banks_differ, trim_beyond, trims_not_reset

CHECKS = (
    cold_engine, heat_soaked, exhaust_hot, airflow_ceiling, injector_duty, knock, learned_retard, low_octane,
    trim_beyond, banks_differ, battery_jitter, fuel_pressure, trims_not_reset, stalled,
)  # fmt: skip
