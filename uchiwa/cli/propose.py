"""`uchiwa propose`: what follows from logs for a table."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import click

from uchiwa.cli.files import dbc_option, read_calibration_file, read_json, read_one, read_policy, write_text
from uchiwa.cli.root import uchiwa
from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.formulas.evaluation import Scope
from uchiwa.core.logs.log import Log
from uchiwa.core.proposals.clamp.policy import ClampPolicy
from uchiwa.core.proposals.clamp.proposal import clamp_proposal
from uchiwa.core.proposals.clamp.report import report as clamp_report
from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.core.proposals.fuel.proposal import fuel_proposal
from uchiwa.core.proposals.fuel.report import report as fuel_report
from uchiwa.core.proposals.idle_air.policy import IdleAirPolicy
from uchiwa.core.proposals.idle_air.proposal import idle_air_proposal
from uchiwa.core.proposals.idle_air.report import report as idle_air_report
from uchiwa.core.proposals.knock.policy import KnockPolicy
from uchiwa.core.proposals.knock.proposal import knock_proposal
from uchiwa.core.proposals.knock.report import report as knock_report
from uchiwa.core.proposals.knock_limit.policy import ThresholdPolicy
from uchiwa.core.proposals.knock_limit.proposal import threshold_proposal
from uchiwa.core.proposals.knock_limit.report import report as threshold_report
from uchiwa.core.proposals.torque.policy import TorquePolicy
from uchiwa.core.proposals.torque.proposal import torque_proposal
from uchiwa.core.proposals.torque.report import report as torque_report
from uchiwa.core.proposals.warm_up.policy import WarmUpPolicy
from uchiwa.core.proposals.warm_up.proposal import warm_up_proposal
from uchiwa.core.proposals.warm_up.report import report as warm_up_report
from uchiwa.core.tables.difference import difference
from uchiwa.core.tables.interchange import calibration_json
from uchiwa.core.tables.table import Calibration, Table


@dataclass(frozen=True)
class _Asked:
    """What the command was given."""

    logs: list[Log]
    safe: list[Log]
    calibration: Calibration
    table: str
    policy: str | None
    where: tuple[str, ...]
    car: CarFile | None
    slope: float


_Answer = tuple[Table, dict[str, Any], list[str]]


@uchiwa.command()
@click.argument("kind", type=click.Choice(["fuel", "knock", "torque", "knock-threshold", "idle", "warmup", "clamp"]))
@click.argument("files", nargs=-1, required=True)
@click.option("--calibration", "calibration_path", required=True, help="Calibration JSON under work.")
@click.option("--table", "table_id", required=True, help="Id of the table to correct.")
@click.option("--policy", "policy_path", help="Policy JSON; see docs/formats.md.")
@click.option("--where", multiple=True, help="Condition that samples must meet; may be repeated (fuel, idle, warmup).")
@click.option(
    "--safe",
    multiple=True,
    help="Log with clearly less spark, to tell knock from noise; may be repeated (knock, torque, knock-threshold).",
)
@click.option("--car", "car_path", help="Car file (JSON): mass and drag for road logs (torque), gearbox (idle).")
@click.option("--slope", default=0.0, help="Of the road, rise over run (torque).")
@click.option(
    "--read-as", multiple=True, help="Unit of a channel that is in doubt, as MAP=psi; may be repeated, for all logs."
)
@dbc_option
@click.option("--out", required=True, help="Where the corrected calibration goes.")
@click.option("--report", "report_path", help="Where the report goes.")
def propose(
    kind: str,
    files: tuple[str, ...],
    calibration_path: str,
    table_id: str,
    policy_path: str | None,
    where: tuple[str, ...],
    safe: tuple[str, ...],
    car_path: str | None,
    slope: float,
    read_as: tuple[str, ...],
    dbc: tuple[str, ...],
    out: str,
    report_path: str | None,
) -> None:
    """Compute a proposal of a KIND from logs and write the corrected calibration.

    For knock-threshold, FILES are logs with real knock and --safe those without any; FILES may be the safe logs alone.
    """
    calibration = read_calibration_file(calibration_path)
    car = CarFile.read(read_json(car_path)) if car_path else None
    asked = _Asked(
        [read_one(path, read_as, dbc) for path in files],
        [read_one(path, read_as, dbc) for path in safe],
        calibration,
        table_id,
        policy_path,
        where,
        car,
        slope,
    )
    corrected, data, told = _KINDS[kind](asked)
    after = calibration.with_table(corrected)
    write_text(out, calibration_json.dumps(after))
    if report_path:
        write_text(report_path, json.dumps(data, ensure_ascii=False, indent=1, allow_nan=False) + "\n")
    change = difference(calibration, after)
    nothing = "other breakpoints" if change.other_axes else "nothing to change"
    said = change.tables[0].sentence if change.tables else f"{corrected.title}: {nothing}"
    click.echo(f"{kind}: {said}")
    for line in told:
        click.echo(line)


def _by_fuel(asked: _Asked) -> _Answer:
    policy = read_policy(asked.policy, Policy)
    proposal = fuel_proposal(asked.logs, asked.calibration, asked.table, policy, asked.where)
    data = fuel_report(proposal)
    return proposal.corrected, data, [_accounts(data)]


def _by_knock(asked: _Asked) -> _Answer:
    policy = read_policy(asked.policy, KnockPolicy)
    proposal = knock_proposal(asked.logs, asked.calibration, asked.table, policy, asked.safe)
    told = []
    for cluster in proposal.clusters:
        why = "; ".join(reason.words for reason in cluster.reasons) or "nothing speaks for or against it"
        told.append(
            f"  {cluster.number}. {len(cluster.events)} events, worst {cluster.worst:.1f}°: {cluster.verdict.value} ({why})"
        )
    return proposal.corrected, knock_report(proposal), told


def _by_torque(asked: _Asked) -> _Answer:
    policy = read_policy(asked.policy, TorquePolicy)
    load = (asked.car or CarFile()).road_load(asked.slope)
    proposal = torque_proposal(asked.logs, asked.calibration, asked.table, policy, load, asked.safe)
    told = []
    for decision in proposal.decisions:
        change = (
            f"{decision.spark:.1f}° → {decision.after:.1f}°"
            if abs(decision.after - decision.spark) >= 0.05
            else f"{decision.spark:.1f}°"
        )
        told.append(f"  {decision.speed:.0f} rpm: {decision.advice.value}, {change} ({'; '.join(decision.reasons)})")
    return proposal.corrected, torque_report(proposal), told


def _by_threshold(asked: _Asked) -> _Answer:
    policy = read_policy(asked.policy, ThresholdPolicy)
    safe = asked.safe or asked.logs
    knocking = asked.logs if asked.safe else []
    proposal = threshold_proposal(safe, asked.calibration, asked.table, policy, knocking)
    told = [
        f"  in {proposal.safe.seconds:.0f} s of safe running it flags {proposal.safe.then} times, now {proposal.safe.now}"
    ]
    if proposal.caught.events:
        caught = proposal.caught
        told.append(f"  of {caught.events} real events it catches {caught.then}, now {caught.now}")
    return proposal.corrected, threshold_report(proposal), told


def _by_idle(asked: _Asked) -> _Answer:
    policy = read_policy(asked.policy, IdleAirPolicy)
    policy = policy.model_copy(update={"where": (*policy.where, *asked.where)})
    automatic = asked.car.automatic if asked.car is not None else None
    proposal = idle_air_proposal(asked.logs, Scope(asked.calibration), asked.table, policy, automatic=automatic)
    data = idle_air_report(proposal)
    return proposal.corrected, data, [_accounts(data), *(f"  {note}" for note in proposal.notes)]


def _by_warm_up(asked: _Asked) -> _Answer:
    policy = read_policy(asked.policy, WarmUpPolicy)
    policy = policy.model_copy(update={"where": (*policy.where, *asked.where)})
    proposal = warm_up_proposal(asked.logs, asked.calibration, asked.table, policy)
    data = warm_up_report(proposal)
    return proposal.corrected, data, [_accounts(data), *(f"  {note}" for note in proposal.notes)]


def _by_clamp(asked: _Asked) -> _Answer:
    proposal = clamp_proposal(asked.logs, asked.calibration, asked.table, read_policy(asked.policy, ClampPolicy))
    data = clamp_report(proposal)
    told = [
        f"  {one['speed']:.0f} rpm: {one['reached']:.2f} {data['signal']['unit']} reached, {one['limit']:.2f} let out"
        for one in data["speeds"]
    ]
    return proposal.corrected, data, [*told, *(f"  {note}" for note in proposal.notes)]


def _accounts(data: dict[str, Any]) -> str:
    """What became of the samples."""
    parts = [f"{reason} {number}" for reason, number in data["samples_left_out"].items() if number]
    return f"{data['samples_used']} of {data['samples']} samples used; left out: {', '.join(parts) or 'none'}"


_KINDS: dict[str, Callable[[_Asked], _Answer]] = {
    "fuel": _by_fuel,
    "knock": _by_knock,
    "torque": _by_torque,
    "knock-threshold": _by_threshold,
    "idle": _by_idle,
    "warmup": _by_warm_up,
    "clamp": _by_clamp,
}
