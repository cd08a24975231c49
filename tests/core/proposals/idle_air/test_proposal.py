"""Idle airflow over coolant, from logs of idling."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest

from tests.conftest import make_log
from uchiwa.core.errors import BadInput
from uchiwa.core.formulas.evaluation import Scope
from uchiwa.core.idle.moments import Gear
from uchiwa.core.logs.log import Log, Raster
from uchiwa.core.proposals.idle_air.explanation import explain
from uchiwa.core.proposals.idle_air.policy import IdleAirPolicy
from uchiwa.core.proposals.idle_air.proposal import idle_air_proposal
from uchiwa.core.proposals.idle_air.report import report
from uchiwa.core.tables.table import Axis, Calibration, Table, frozen

POINTS = [0.0, 20, 40, 60, 80]
ROW = [8.0, 7, 5, 4, 3]


def calibration(*, geared: bool = True, unit: str = "g/s") -> Calibration:
    scale = 3.6 if unit == "kg/h" else 1.0
    rows = np.array([ROW, [one + 1.0 for one in ROW]]) * scale
    table = Table(
        "idle_air", "Idle airflow", "idle_airflow", unit, Axis("coolant_temperature", "degC", frozen(POINTS)),
        Axis("in_gear", "1", frozen([0, 1])) if geared else None, frozen(rows if geared else rows[0]), 0, 200, 2,
    )  # fmt: skip
    return Calibration("c", "C", (), (table,))


def idling(more: float = 0.5, *, size: int = 6000, **changes: object) -> Log:
    """Ten minutes at 10 Hz from 20 to 85 °C, needing so much more than neutral's row."""
    coolant = np.linspace(20, 85, size)
    usual = {
        "engine_speed": 900.0, "target_idle_speed": 900.0, "coolant_temperature": coolant, "throttle_position": 0.4,
        "vehicle_speed": 0.0, "after_start_active": 0.0,
        "idle_airflow_target": np.interp(coolant, POINTS, ROW) + more + 0.05 * np.sin(np.arange(size) / 7),
    }  # fmt: skip
    changes.setdefault("in_gear", 0.0)
    told = {key: value for key, value in (usual | changes).items() if value is not None}
    return make_log(10.0, **told)


def test_neutral_takes_what_was_measured_and_gear_stays_the_offset_above_it():
    proposal = idle_air_proposal([idling()], Scope(calibration()), "idle_air", IdleAirPolicy())
    neutral, geared = proposal.after
    assert neutral[1:] == pytest.approx(np.array(ROW[1:]) + 0.5, abs=0.08)
    assert neutral[0] == pytest.approx(8.5, abs=0.08)
    assert geared == pytest.approx(neutral + 2.0, abs=0.02)
    assert [str(one) for one in proposal.state[0]] == ["filled", "changed", "changed", "changed", "changed"]
    assert {str(one) for one in proposal.state[1]} == {"filled"}
    assert any("never measured" in note for note in proposal.notes)


def test_once_measured_gear_is_its_own_and_what_lies_between_carries_on():
    size = 6000
    coolant = np.linspace(20, 85, size)
    geared = (coolant > 50).astype(float)
    asked = np.interp(coolant, POINTS, ROW) + 0.5 + 1.4 * geared
    again = idling(in_gear=geared, idle_airflow_target=asked)
    proposal = idle_air_proposal([idling(), again], Scope(calibration()), "idle_air", IdleAirPolicy())
    assert proposal.after[1, 3:] == pytest.approx(np.array(ROW[3:]) + 1.9, abs=0.1)
    assert proposal.after[1, 0] == pytest.approx(8.0 + 1.9, abs=0.15)
    assert proposal.curve(1).gear is Gear.IN_GEAR
    assert str(proposal.state[1, 3]) == "changed"
    assert str(proposal.state[1, 0]) == "filled"


@pytest.mark.parametrize(("way", "moved"), [("shift", 0.5), ("leave", 0.0)])
def test_gear_may_move_with_neutral_or_stay_until_it_is_measured(way, moved):
    proposal = idle_air_proposal([idling()], Scope(calibration()), "idle_air", IdleAirPolicy(unmeasured_gear=way))
    assert proposal.after[1, 1:] == pytest.approx(np.array(ROW[1:]) + 1.0 + moved, abs=0.08)


def test_units_of_the_table_are_its_own():
    plain = idle_air_proposal([idling()], Scope(calibration()), "idle_air", IdleAirPolicy())
    other = idle_air_proposal([idling()], Scope(calibration(unit="kg/h")), "idle_air", IdleAirPolicy())
    assert other.after / 3.6 == pytest.approx(plain.after, abs=0.02)


def test_of_two_curves_the_second_is_in_gear():
    first = calibration(geared=False).tables[0]
    two = Calibration("c", "C", (), (first, replace(first, id="idle_air_drive")))
    both = [idling(), idling(1.9, in_gear=1.0)]
    assert idle_air_proposal(both, Scope(two), "idle_air", IdleAirPolicy()).after[0, 2] == pytest.approx(5.5, abs=0.08)
    assert idle_air_proposal(both, Scope(two), "idle_air_drive", IdleAirPolicy()).after[0, 2] == pytest.approx(
        6.9, abs=0.08
    )


def test_the_order_of_logs_does_not_matter_and_no_strength_changes_nothing():
    logs = [idling(0.4), idling(0.7), idling(1.9, in_gear=1.0)]
    one = idle_air_proposal(logs, Scope(calibration()), "idle_air", IdleAirPolicy())
    other = idle_air_proposal(logs[::-1], Scope(calibration()), "idle_air", IdleAirPolicy())
    assert (one.after == other.after).all()
    still = idle_air_proposal(logs, Scope(calibration()), "idle_air", IdleAirPolicy(strength=0))
    assert (still.after == still.table.grid).all()


def test_pinned_cells_stay():
    proposal = idle_air_proposal([idling()], Scope(calibration()), "idle_air", IdleAirPolicy(pinned=((2, 0), (4, 1))))
    assert proposal.after[0, 2] == ROW[2]
    assert proposal.after[1, 4] == ROW[4] + 1.0
    assert str(proposal.state[0, 2]) == "pinned"


def test_without_desired_airflow_the_meter_tells_and_that_is_said():
    log = idling(idle_airflow_target=None, airflow=np.interp(np.linspace(20, 85, 6000), POINTS, ROW) + 0.8)
    proposal = idle_air_proposal([log], Scope(calibration()), "idle_air", IdleAirPolicy())
    assert proposal.evidence.source == "meter"
    assert proposal.after[0, 2] == pytest.approx(5.8, abs=0.1)
    assert any("stands for what was desired" in note for note in proposal.notes)


def test_a_desired_airflow_that_is_the_tables_own_is_not_believed():
    coolant = np.linspace(20, 85, 6000)
    own = np.interp(coolant, POINTS, ROW)
    log = idling(idle_airflow_target=own, airflow=own + 0.8)
    proposal = idle_air_proposal([log], Scope(calibration()), "idle_air", IdleAirPolicy())
    assert proposal.evidence.source == "meter"
    assert proposal.after[0, 2] == pytest.approx(5.8, abs=0.1)


def test_a_wrong_mixture_is_said_first():
    log = idling(lambda_measured=1.09, lambda_target=1.0)
    assert any(
        "fuel right first" in note
        for note in idle_air_proposal([log], Scope(calibration()), "idle_air", IdleAirPolicy()).notes
    )


def test_a_cell_explains_itself():
    proposal = idle_air_proposal([idling()], Scope(calibration()), "idle_air", IdleAirPolicy())
    account = explain(proposal, 0, 2)
    assert account.before == 5.0
    assert account.needed == pytest.approx(5.5, abs=0.08)
    assert account.logs[0].samples > 1000
    assert account.moments[0].end > account.moments[0].start
    assert account.steps[-1].value == account.after
    filled = explain(proposal, 1, 2)
    assert [step.words for step in filled.steps][1:3] == ["in neutral, as proposed", "in gear above neutral"]


def test_the_report_accounts_for_every_sample():
    told = report(idle_air_proposal([idling(throttle_position=np.where(np.arange(6000) < 600, 20.0, 0.4))], Scope(calibration()), "idle_air", IdleAirPolicy()))  # fmt: skip
    assert told["samples_used"] + sum(told["samples_left_out"].values()) == told["samples"] == 6000
    assert len(told["cells"]) == 10
    assert told["cells"][2]["needed"] == pytest.approx(5.5, abs=0.1)


def without(log: Log, quantity: str) -> Log:
    return Log(log.name, (Raster(log.rasters[0].time, tuple(channel for channel in log.rasters[0].channels if channel.quantity != quantity)),))  # fmt: skip


@pytest.mark.parametrize(
    ("log", "words"),
    [
        (without(idling(), "coolant_temperature"), "no coolant temperature"),
        (idling(idle_airflow_target=None), "neither desired idle airflow"),
        (idling(engine_speed=210.0), "stalled after its start"),
        (idling(throttle_position=np.linspace(25, 60, 6000)), "no sample tells"),
        (idling(after_start_active=1.0), "after-start enrichment had ended"),
        (idling(engine_speed=1500.0), "never stood on its target"),
    ],
)
def test_what_cannot_be_told_is_one_sentence(log, words):
    with pytest.raises(BadInput, match=words):
        idle_air_proposal([log], Scope(calibration()), "idle_air", IdleAirPolicy())


def test_an_automatic_without_its_gear_is_asked_for():
    with pytest.raises(BadInput, match="gearbox is automatic"):
        idle_air_proposal([idling(in_gear=None)], Scope(calibration()), "idle_air", IdleAirPolicy(), automatic=True)


def test_a_table_with_other_axes_or_another_role_is_refused():
    speed = replace(calibration(geared=False).tables[0], x=Axis("engine_speed", "rpm", frozen(POINTS)))
    with pytest.raises(BadInput, match="coolant"):
        idle_air_proposal([idling()], Scope(Calibration("c", "C", (), (speed,))), "idle_air", IdleAirPolicy())
    with pytest.raises(BadInput, match="not a table of idle airflow"):
        idle_air_proposal([idling()], Scope(calibration()), "other", IdleAirPolicy())
