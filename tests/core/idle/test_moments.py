"""Which samples are idle moments, and why the others are not."""

from __future__ import annotations

import numpy as np
import pytest

from uchiwa.core.idle import moments as idle
from uchiwa.core.idle.moments import IdleRules, idle_moments

TIME = np.arange(1200) / 10


def signals(**changes: object) -> dict[str, np.ndarray]:
    usual = {
        "engine_speed": 900.0, "target_idle_speed": 900.0, "throttle_position": 0.5, "vehicle_speed": 0.0,
        "coolant_temperature": 80.0,
    }  # fmt: skip
    return {
        key: np.broadcast_to(np.asarray(value, dtype=float), TIME.shape).copy()
        for key, value in (usual | changes).items()
    }


def left_out(found: idle.IdleMoments, reason: str) -> np.ndarray:
    return dict(found.reasons)[reason]


def test_a_steady_idle_counts_once_after_start_is_over():
    found = idle_moments(TIME, signals(), IdleRules(after_start_s=20))
    out = np.any([mask for _, mask in found.reasons], axis=0)
    assert out.sum() == 200
    assert found.stillness.min() == pytest.approx(1.0)
    assert found.targeted


def test_pedal_road_and_gear_changes_are_left_out_with_the_time_to_settle():
    pedal = np.where((TIME > 40) & (TIME < 45), 20.0, 0.5)
    found = idle_moments(
        TIME, signals(throttle_position=pedal, vehicle_speed=np.where(TIME > 90, 9.0, 0.0)), IdleRules()
    )
    assert left_out(found, idle.THROTTLE).sum() == 49
    settling = left_out(found, idle.SETTLING)
    assert settling[(TIME > 45.5) & (TIME < 47.5)].all()
    assert not settling[(TIME > 49) & (TIME < 88)].any()
    assert left_out(found, idle.MOVING).sum() == (TIME > 90).sum()
    geared = idle_moments(TIME, signals(in_gear=(TIME > 60).astype(float)), IdleRules(settle_s=5))
    assert TIME[left_out(geared, idle.SETTLING)][[0, -1]] == pytest.approx([60.1, 65.1])
    assert geared.in_gear.sum() == (TIME > 60).sum()


def test_the_controllers_own_throttle_is_not_a_foot_on_the_pedal():
    moving = 3.0 + 2.5 * np.sin(TIME / 9)
    assert left_out(idle_moments(TIME, signals(throttle_position=moving), IdleRules()), idle.THROTTLE).any()
    told = idle_moments(TIME, signals(throttle_position=moving, pedal_position=0.0), IdleRules())
    assert not left_out(told, idle.THROTTLE).any()


def test_a_speed_off_its_target_does_not_say_what_is_needed():
    speed = np.where((TIME > 50) & (TIME < 70), 700.0, 900.0)
    found = idle_moments(TIME, signals(engine_speed=speed), IdleRules(within_rpm=100))
    assert left_out(found, idle.OFF_TARGET).sum() == 199


def test_an_automatic_that_does_not_say_its_gear_says_nothing():
    found = idle_moments(TIME, signals(), IdleRules(automatic=True))
    assert left_out(found, idle.GEAR_UNSAID).all()
    assert not left_out(idle_moments(TIME, signals(), IdleRules(automatic=False)), idle.GEAR_UNSAID).any()


def test_what_was_not_recorded_is_said():
    bare = {key: value for key, value in signals().items() if key in ("engine_speed", "coolant_temperature")}
    found = idle_moments(TIME, bare, IdleRules())
    assert len(found.notes) == 2
    assert not found.targeted
