"""`uchiwa log`, `bin` and `propose`: what logs say, and what follows from it."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import click
import numpy as np

from uchiwa.cli.files import (
    read_bytes,
    read_calibration_file,
    read_json,
    read_one,
    read_policy,
    say_json,
    write_bytes,
    write_text,
)
from uchiwa.cli.root import uchiwa
from uchiwa.core.car import CarFile
from uchiwa.core.checks import Examined, examine
from uchiwa.core.drives import TITLES, DriveKind
from uchiwa.core.formulas.computed import SHIPPED, read_channels
from uchiwa.core.gather import gather_formula
from uchiwa.core.interchange import calibration_json
from uchiwa.core.log import Log
from uchiwa.core.proposals.fuel import find_table, fuel_proposal
from uchiwa.core.proposals.knock import KnockPolicy, knock_proposal
from uchiwa.core.proposals.knock import report as knock_report
from uchiwa.core.proposals.report import report as report_of
from uchiwa.core.readers import read_log
from uchiwa.core.review import difference
from uchiwa.core.table import Calibration, Table
from uchiwa.core.writers import write_log


@uchiwa.command()
@click.argument("file")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable output.")
@click.option("--car", "car_path", help="Car file (JSON): fuel, sensors, banks.")
@click.option("--calibration", "calibration_path", help="Calibration JSON it should have been recorded with.")
@click.option("--export", "export_path", help="Write it with canonical units, as .csv, .parquet or .mf4.")
def log(file: str, as_json: bool, car_path: str | None, calibration_path: str | None, export_path: str | None) -> None:
    """Channels, quantities, units, rates, drives and findings of a log."""
    car = CarFile.read(read_json(car_path)) if car_path else CarFile()
    recording = read_log(read_bytes(file), Path(file).name, car.knowledge())
    if export_path:
        _export(recording, export_path)
    expected = read_calibration_file(calibration_path) if calibration_path else None
    examined = Examined(recording, car, calibration=expected)
    found = examine(examined)
    rows = [
        {
            "name": channel.name,
            "quantity": channel.quantity,
            "unit": channel.unit,
            "source_unit": channel.source_unit,
            "rate_hz": round(raster.rate, 3),
            "minimum": _finite(float(np.fmin.reduce(channel.values, initial=np.nan))),
            "maximum": _finite(float(np.fmax.reduce(channel.values, initial=np.nan))),
            "confidence": channel.confidence,
            "reason": channel.reason,
        }
        for raster in recording.rasters
        for channel in raster.channels
    ]
    if as_json:
        say_json(
            {
                "name": recording.name,
                "duration_s": round(recording.duration, 3),
                "notes": dict(recording.notes),
                "channels": rows,
                "repairs": [repair.said for repair in recording.repairs],
                "drives": [
                    {"kind": one.kind.value, "start": one.start, "end": one.end, "note": one.note}
                    for one in examined.drives
                ],
                "findings": [
                    {"rule": one.rule, "severity": one.severity.value, "customer": one.customer, "tuner": one.tuner}
                    for one in found
                ],
            }
        )
        return
    click.echo(f"{recording.name}: {recording.duration:.1f} s, {len(rows)} channels")
    for key, value in recording.notes.items():
        click.echo(f"  {key}: {value}")
    for row in rows:
        quantity = row["quantity"] or "—"
        click.echo(f"  {row['name']:<26} {quantity:<24} {row['unit']:<6} {row['rate_hz']:>6g} Hz  {row['reason']}")
    for repair in recording.repairs:
        click.echo(f"  read: {repair.said}")
    main = [one for one in examined.drives if one.kind not in (DriveKind.GEAR_SHIFT, DriveKind.COAST_DOWN)]
    for one in main:
        click.echo(f"  {TITLES[one.kind]:<16} {one.start:8.1f} to {one.end:8.1f} s  {one.note}")
    for finding in found:
        click.echo(f"  {finding.severity.value}: {finding.tuner}")
    if not found:
        click.echo("  Nothing wrong was found.")


def _export(recording: Log, path: str) -> None:
    write_bytes(path, write_log(recording, Path(path).suffix.removeprefix(".")))


def _finite(value: float | None) -> float | None:
    return None if value is None or value != value else float(value)


@uchiwa.command(name="bin")
@click.argument("files", nargs=-1, required=True)
@click.option("--calibration", "calibration_path", required=True, help="Calibration JSON whose table gives the axes.")
@click.option("--table", "table_id", required=True, help="Id of the table.")
@click.option("--value", required=True, help="Formula of what is gathered.")
@click.option("--where", multiple=True, help="Condition that samples must meet; may be repeated.")
@click.option(
    "--estimator", type=click.Choice(["nearest", "weighted", "surface"]), default="weighted", show_default=True
)
@click.option("--car", "car_path", help="Car file (JSON): its fuel and constants.")
@click.option("--channels", "channels_path", help="Computed channels (JSON): id, title, formula, unit of each.")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable output.")
def bin_(
    files: tuple[str, ...],
    calibration_path: str,
    table_id: str,
    value: str,
    where: tuple[str, ...],
    estimator: Any,
    car_path: str | None,
    channels_path: str | None,
    as_json: bool,
) -> None:
    """Gather any formula over logs on the axes of a table; computed channels count as channels."""
    calibration = read_calibration_file(calibration_path)
    table = find_table(calibration, table_id)
    car = CarFile.read(read_json(car_path)) if car_path else None
    book = read_channels(read_json(channels_path)) if channels_path else SHIPPED
    bins, used, total = gather_formula(
        [read_one(path) for path in files], calibration, table, value, where, estimator, car, book
    )
    cells = [
        {
            "i": i,
            "j": j,
            "x": float(table.x.breakpoints[i]),
            "y": float(table.y.breakpoints[j]) if table.y is not None else None,
            "mean": _finite(bins.mean.item(j, i)),
            "samples": round(bins.samples.item(j, i), 3),
            "dwell_s": round(bins.dwell.item(j, i), 3),
            "visits": int(bins.visits.item(j, i)),
            "spread": _finite(bins.spread.item(j, i)),
            "standard_error": _finite(bins.standard_error.item(j, i)),
        }
        for j in range(table.shape[0])
        for i in range(table.shape[1])
    ]
    if as_json:
        say_json({"table": table.id, "value": value, "samples": total, "samples_used": used, "cells": cells})
        return
    click.echo(f"{value} on {table.title}: {used} of {total} samples")
    click.echo(" " * 8 + "".join(f"{x:>9g}" for x in table.x.breakpoints))
    for j in range(table.shape[0]):
        head = f"{table.y.breakpoints[j]:>8g}" if table.y is not None else " " * 8
        means = (bins.mean.item(j, i) for i in range(table.shape[1]))
        click.echo(head + "".join(f"{'·' if mean != mean else f'{mean:.3g}':>9}" for mean in means))


@uchiwa.command()
@click.argument("kind", type=click.Choice(["fuel", "knock"]))
@click.argument("files", nargs=-1, required=True)
@click.option("--calibration", "calibration_path", required=True, help="Calibration JSON under work.")
@click.option("--table", "table_id", required=True, help="Id of the table to correct.")
@click.option("--policy", "policy_path", help="Policy JSON; see docs/formats.md.")
@click.option("--where", multiple=True, help="Condition that samples must meet; may be repeated (fuel).")
@click.option(
    "--safe", multiple=True, help="Log with clearly less spark, to tell knock from noise; may be repeated (knock)."
)
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
    out: str,
    report_path: str | None,
) -> None:
    """Compute a proposal of a KIND from logs and write the corrected calibration."""
    calibration = read_calibration_file(calibration_path)
    logs = [read_one(path) for path in files]
    corrected: Table
    if kind == "knock":
        corrected, data, told = _by_knock(logs, [read_one(path) for path in safe], calibration, table_id, policy_path)
    else:
        corrected, data, told = _by_fuel(logs, calibration, table_id, policy_path, where)
    after = calibration.with_table(corrected)
    write_text(out, calibration_json.dumps(after))
    if report_path:
        write_text(report_path, json.dumps(data, ensure_ascii=False, indent=1, allow_nan=False) + "\n")
    change = difference(calibration, after)
    said = change.tables[0].sentence if change.tables else f"{corrected.title}: nothing to change"
    click.echo(f"{kind}: {said}")
    for line in told:
        click.echo(line)


def _by_fuel(
    logs: list[Log], calibration: Calibration, table_id: str, policy_path: str | None, where: tuple[str, ...]
) -> tuple[Table, dict[str, Any], list[str]]:
    proposal = fuel_proposal(logs, calibration, table_id, read_policy(policy_path), where)
    data = report_of(proposal)
    told = f"{data['samples_used']} of {data['samples']} samples used; left out: {_left_out(data)}"
    return proposal.corrected, data, [told]


def _by_knock(
    logs: list[Log], safe: list[Log], calibration: Calibration, table_id: str, policy_path: str | None
) -> tuple[Table, dict[str, Any], list[str]]:
    policy = KnockPolicy()
    if policy_path is not None:
        policy = KnockPolicy.loads(read_bytes(policy_path).decode("utf-8", "replace"), Path(policy_path).name)
    proposal = knock_proposal(logs, calibration, table_id, policy, safe)
    told = []
    for one in proposal.clusters:
        why = "; ".join(reason.words for reason in one.reasons) or "nothing speaks for or against it"
        told.append(f"  {one.number}. {len(one.events)} events, worst {one.worst:.1f}°: {one.verdict.value} ({why})")
    return proposal.corrected, knock_report(proposal), told


def _left_out(data: dict[str, Any]) -> str:
    parts = [f"{reason} {number}" for reason, number in data["samples_left_out"].items() if number]
    return ", ".join(parts) or "none"
