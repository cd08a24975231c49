"""Quick logs for idle work: a cold start that warms up, and pulls before boost."""

from __future__ import annotations

import numpy as np

from tests.conftest import make_log
from uchiwa.standin.logger import write_delimited


def warming_text(
    *, geared: bool = False, air: float = 1.0, lean: float = 0.05, size: int = 4200, begin: float = 8.0
) -> str:
    """Seven minutes at 10 Hz from before cranking; needs so much of the automatic's air, and is so much too lean cold."""
    time = np.arange(size) / 10.0
    coolant = 90.0 - (90.0 - begin) * np.exp(-np.maximum(time - 3.0, 0.0) / 110.0)
    target = 850.0 + 5.0 * np.maximum(70.0 - coolant, 0.0)
    speed = np.where(time < 1.5, 0.0, np.where(time < 3.0, 210.0, target + 6.0 * np.sin(time)))
    needed = 2.6 + 3.4 * np.exp(-coolant / 32.0) + (0.6 if geared else 0.0)
    error = np.interp(coolant, [20.0, 70.0], [lean, 0.0])
    cold = np.interp(
        coolant, [-20, 0, 10, 20, 30, 40, 50, 60, 70], [-0.08, -0.06, -0.05, -0.04, -0.03, -0.02, -0.01, 0, 0]
    )
    noise = np.random.default_rng(int(size + 10 * begin)).normal(0, 0.003, size)
    return write_delimited(
        make_log(
            10.0, engine_speed=speed, target_idle_speed=target, coolant_temperature=coolant, throttle_position=0.4,
            vehicle_speed=0.0, in_gear=float(geared), idle_airflow_target=np.round(needed * air, 3),
            manifold_pressure=np.where(speed > 400, 34.0, 99.0), intake_air_temperature=18.0,
            lambda_target=1.0 + cold, lambda_measured=(1.0 + cold) * (1.0 + error) + noise,
            short_term_trim=0.0, long_term_trim=0.0, loop_state=0.0,
            after_start_active=((time >= 3.0) & (time < 15.0)).astype(float), spark_advance=15.0 + np.sin(time),
        )
    )  # fmt: skip


def pull_text(seed: int = 1, boost: float = 0.0) -> str:
    """Idle, then a pull from 1500 to 6400 rpm with the airflow signal, at 20 Hz."""
    rng = np.random.default_rng(seed)
    size = 400
    wide = np.arange(size) >= 120
    speed = np.where(wide, 1500 + 4900 * np.clip((np.arange(size) - 120) / 279, 0, 1), 850.0)
    signal = np.where(wide, 1.6 + 2.2 * np.sqrt(speed / 6500.0), 1.1) + 0.01 * rng.normal(size=size)
    return write_delimited(
        make_log(
            20.0, engine_speed=speed, airflow_voltage=signal, throttle_position=np.where(wide, 99.0, 2.0),
            manifold_pressure=np.where(wide, 98.0 + boost, 35.0), barometric_pressure=99.0, coolant_temperature=88.0,
            short_term_trim=0.0, long_term_trim=0.0, loop_state=np.where(wide, 0.0, 1.0), lambda_target=1.0,
        )
    )  # fmt: skip
