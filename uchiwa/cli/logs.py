"""`uchiwa log` and `bin`: what logs say."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click
import numpy as np

from uchiwa.cli.files import (
    bus_descriptions,
    dbc_option,
    read_bytes,
    read_calibration_file,
    read_json,
    read_one,
    say_json,
    write_bytes,
)
from uchiwa.cli.root import uchiwa
from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.checks import ExaminedLog, examine
from uchiwa.core.evidence.gather import bins_of, gather_samples
from uchiwa.core.formulas.computed import SHIPPED, read_channels
from uchiwa.core.formulas.evaluation import Scope
from uchiwa.core.logs.drives import TITLES, DriveKind
from uchiwa.core.logs.log import Log
from uchiwa.core.logs.readers import read_log
from uchiwa.core.logs.writers import write_log
from uchiwa.core.proposals.fuel.proposal import find_table


@uchiwa.command()
@click.argument("file")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable output.")
@click.option("--car", "car_path", help="Car file (JSON): fuel, sensors, banks.")
@click.option("--calibration", "calibration_path", help="Calibration JSON it should have been recorded with.")
@click.option("--export", "export_path", help="Write it with canonical units, as .csv, .parquet or .mf4.")
@dbc_option
def log(
    file: str,
    as_json: bool,
    car_path: str | None,
    calibration_path: str | None,
    export_path: str | None,
    dbc: tuple[str, ...],
) -> None:
    """Channels, quantities, units, rates, drives and findings of a log."""
    car = CarFile.read(read_json(car_path)) if car_path else CarFile()
    recording = read_log(read_bytes(file), Path(file).name, car.knowledge(), bus_descriptions(dbc))
    if export_path:
        _export(recording, export_path)
    expected = read_calibration_file(calibration_path) if calibration_path else None
    examined = ExaminedLog(recording, car, calibration=expected)
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
                    {"kind": drive.kind.value, "start": drive.start, "end": drive.end, "note": drive.note}
                    for drive in examined.drives
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
    main = [drive for drive in examined.drives if drive.kind not in (DriveKind.GEAR_SHIFT, DriveKind.COAST_DOWN)]
    for drive in main:
        click.echo(f"  {TITLES[drive.kind]:<16} {drive.start:8.1f} to {drive.end:8.1f} s  {drive.note}")
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
@dbc_option
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
    dbc: tuple[str, ...],
) -> None:
    """Gather any formula over logs on the axes of a table; computed channels count as channels."""
    calibration = read_calibration_file(calibration_path)
    table = find_table(calibration, table_id)
    car = CarFile.read(read_json(car_path)) if car_path else None
    book = read_channels(read_json(channels_path)) if channels_path else SHIPPED
    samples = gather_samples(
        [read_one(path, dbc=dbc) for path in files], table, value, where, Scope(calibration, car, book)
    )
    bins, used, total = bins_of(samples, table, estimator), samples.value.size, samples.total
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
