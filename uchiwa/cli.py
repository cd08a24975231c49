"""The `uchiwa` command: what the web does, the command can do."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import Any

import click
import numpy as np

from uchiwa.core.car import CarFile
from uchiwa.core.checks import Examined, examine
from uchiwa.core.drives import TITLES, DriveKind
from uchiwa.core.errors import BadInput
from uchiwa.core.formulas.computed import SHIPPED, read_channels
from uchiwa.core.gather import gather_formula
from uchiwa.core.image import layout_json
from uchiwa.core.image.content import read_calibration, write_calibration
from uchiwa.core.image.files import FORMATS, read_image, write_image
from uchiwa.core.interchange import calibration_json, table_csv
from uchiwa.core.log import Log
from uchiwa.core.proposals.fuel import find_table, fuel_proposal
from uchiwa.core.proposals.policy import Policy
from uchiwa.core.proposals.report import report as report_of
from uchiwa.core.readers import check_size, read_log
from uchiwa.core.review import difference, signed
from uchiwa.core.table import Calibration
from uchiwa.core.writers import write_log

BAD_INPUT = 2
FAILURE = 1


def _bytes(path: str) -> bytes:
    try:
        check_size(Path(path).stat().st_size, Path(path).name)
        return Path(path).read_bytes()
    except OSError as error:
        raise BadInput(f"the file cannot be read ({error.strerror})", where=path, advice="check its name") from error


def _log(path: str) -> Log:
    return read_log(_bytes(path), Path(path).name)


def _calibration(path: str, layout: str | None = None) -> Calibration:
    data, name = _bytes(path), Path(path).name
    if layout is None:
        return calibration_json.loads(data, name)
    described = layout_json.loads(_bytes(layout), Path(layout).name)
    return read_calibration(read_image(data, name, described.base)[0], described, name)


def _write_bytes(path: str, data: bytes) -> None:
    try:
        Path(path).write_bytes(data)
    except OSError as error:
        raise BadInput(
            f"the file cannot be written ({error.strerror})", where=path, advice="check its folder"
        ) from error


def _write(path: str, text: str) -> None:
    try:
        Path(path).write_text(text, encoding="utf-8")
    except OSError as error:
        raise BadInput(
            f"the file cannot be written ({error.strerror})", where=path, advice="check its folder"
        ) from error


def _json(data: Any) -> None:
    click.echo(json.dumps(data, ensure_ascii=False, indent=1, allow_nan=False))


def _policy(path: str | None) -> Policy:
    return Policy.loads(_bytes(path).decode("utf-8", "replace"), Path(path).name) if path else Policy()


@click.group(context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(package_name="uchiwa")
def uchiwa() -> None:
    """Remote engine calibration, round by round."""


@uchiwa.command()
@click.argument("file")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable output.")
@click.option("--car", "car_path", help="Car file (JSON): fuel, sensors, banks.")
@click.option("--calibration", "calibration_path", help="Calibration JSON it should have been recorded with.")
@click.option("--export", "export_path", help="Write it with canonical units, as .csv, .parquet or .mf4.")
def log(file: str, as_json: bool, car_path: str | None, calibration_path: str | None, export_path: str | None) -> None:
    """Channels, quantities, units, rates, drives and findings of a log."""
    car = CarFile.read(_plain(car_path)) if car_path else CarFile()
    recording = read_log(_bytes(file), Path(file).name, car.knowledge())
    if export_path:
        _export(recording, export_path)
    expected = _calibration(calibration_path) if calibration_path else None
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
        _json(
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


def _plain(path: str) -> Any:
    try:
        return json.loads(_bytes(path))
    except ValueError as error:
        raise BadInput("it is not JSON", where=path, advice="check the file") from error


def _export(recording: Log, path: str) -> None:
    _write_bytes(path, write_log(recording, Path(path).suffix.removeprefix(".")))


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
    calibration = _calibration(calibration_path)
    table = find_table(calibration, table_id)
    car = CarFile.read(_plain(car_path)) if car_path else None
    book = read_channels(_plain(channels_path)) if channels_path else SHIPPED
    bins, used, total = gather_formula(
        [_log(path) for path in files], calibration, table, value, where, estimator, car, book
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
        _json({"table": table.id, "value": value, "samples": total, "samples_used": used, "cells": cells})
        return
    click.echo(f"{value} on {table.title}: {used} of {total} samples")
    click.echo(" " * 8 + "".join(f"{x:>9g}" for x in table.x.breakpoints))
    for j in range(table.shape[0]):
        head = f"{table.y.breakpoints[j]:>8g}" if table.y is not None else " " * 8
        means = (bins.mean.item(j, i) for i in range(table.shape[1]))
        click.echo(head + "".join(f"{'·' if mean != mean else f'{mean:.3g}':>9}" for mean in means))


@uchiwa.command()
@click.argument("kind", type=click.Choice(["fuel"]))
@click.argument("files", nargs=-1, required=True)
@click.option("--calibration", "calibration_path", required=True, help="Calibration JSON under work.")
@click.option("--table", "table_id", required=True, help="Id of the table to correct.")
@click.option("--policy", "policy_path", help="Policy JSON; see docs/formats.md.")
@click.option("--where", multiple=True, help="Condition that samples must meet; may be repeated.")
@click.option("--out", required=True, help="Where the corrected calibration goes.")
@click.option("--report", "report_path", help="Where the report goes.")
def propose(
    kind: str,
    files: tuple[str, ...],
    calibration_path: str,
    table_id: str,
    policy_path: str | None,
    where: tuple[str, ...],
    out: str,
    report_path: str | None,
) -> None:
    """Compute a proposal of a KIND from logs and write the corrected calibration."""
    calibration = _calibration(calibration_path)
    logs = [_log(path) for path in files]
    proposal = fuel_proposal(logs, calibration, table_id, _policy(policy_path), where)
    after = calibration.with_table(proposal.corrected)
    data = report_of(proposal)
    _write(out, calibration_json.dumps(after))
    if report_path:
        _write(report_path, json.dumps(data, ensure_ascii=False, indent=1, allow_nan=False) + "\n")
    change = difference(calibration, after)
    said = change.tables[0].sentence if change.tables else f"{proposal.table.title}: nothing to change"
    click.echo(f"{kind}: {said}")
    click.echo(f"{data['samples_used']} of {data['samples']} samples used; left out: " + _left_out(data))


def _left_out(data: dict[str, Any]) -> str:
    parts = [f"{reason} {number}" for reason, number in data["samples_left_out"].items() if number]
    return ", ".join(parts) or "none"


@uchiwa.group()
def calibration() -> None:
    """Compare, convert and check calibrations."""


@calibration.command()
@click.argument("before")
@click.argument("after")
@click.option("--layout", help="Layout JSON, if BEFORE and AFTER are images.")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable output.")
def diff(before: str, after: str, layout: str | None, as_json: bool) -> None:
    """What AFTER has changed from BEFORE."""
    change = difference(_calibration(before, layout), _calibration(after, layout))
    if as_json:
        _json(
            {
                "tables": [
                    {
                        "id": one.table.id,
                        "cells": [
                            {"i": int(i), "j": int(j), "before": one.before.item(j, i), "after": one.after.item(j, i)}
                            for j, i in zip(*one.changed.nonzero(), strict=True)
                        ],
                    }
                    for one in change.tables
                ],
                "constants": [{"id": name, "before": a, "after": b} for name, a, b in change.constants],
                "only_before": list(change.only_before),
                "only_after": list(change.only_after),
                "other_axes": list(change.other_axes),
            }
        )
        return
    if change.empty:
        click.echo("The two are the same.")
    for one in change.tables:
        click.echo(one.sentence)
        for j, i in zip(*one.changed.nonzero(), strict=True):
            at = f"{one.table.x.breakpoints[i]:g} {one.table.x.unit}"
            if one.table.y is not None:
                at += f" × {one.table.y.breakpoints[j]:g} {one.table.y.unit}"
            a, b = one.before.item(j, i), one.after.item(j, i)
            places = one.table.decimals
            click.echo(f"  {at:<22} {a:>8.{places}f} → {b:>8.{places}f}  {signed(b - a, places)}")
    for name, old, new in change.constants:
        click.echo(f"Constant {name}: {old} → {new}")
    for words, ids in (
        ("only before", change.only_before),
        ("only after", change.only_after),
        ("other axes", change.other_axes),
    ):
        if ids:
            click.echo(f"Tables {words}: {', '.join(ids)}")


@calibration.command()
@click.argument("source", metavar="IN")
@click.argument("target", metavar="OUT")
@click.option("--layout", help="Layout JSON of the image that is read or written.")
@click.option("--image", help="Image that the calibration is written into; only bytes that must change are.")
@click.option("--table", help="Id of the table, for .csv.")
@click.option("--into", help="Calibration JSON that a table from .csv goes into.")
def convert(
    source: str, target: str, layout: str | None, image: str | None, table: str | None, into: str | None
) -> None:
    """Turn a calibration into another form, by the ending of OUT: .json, .csv of one table, .bin, .hex or .s19."""
    ending = Path(target).suffix.lower()
    if Path(source).suffix.lower() == ".csv":
        content = _with_csv(source, table, into)
    else:
        json_in = _bytes(source).lstrip()[:1] == b"{"
        if not json_in and layout is None:
            raise BadInput("an image is read through its layout", where=source, advice="give it with --layout")
        content = _calibration(source, None if json_in else layout)
    if ending == ".json":
        _write(target, calibration_json.dumps(content))
    elif ending == ".csv":
        if table is None:
            raise BadInput("a .csv holds one table", advice="say which with --table")
        _write(target, table_csv.dumps(find_table(content, table)))
    else:
        _write_image(content, target, layout, image)
    click.echo(f"{target}: “{content.title}”")


def _with_csv(source: str, table: str | None, into: str | None) -> Calibration:
    if table is None or into is None:
        raise BadInput("a .csv is one table of a calibration", advice="give --table and --into")
    content = _calibration(into)
    text = _bytes(source).decode("utf-8-sig", "replace")
    return content.with_table(table_csv.loads(text, find_table(content, table), Path(source).name))


def _write_image(content: Calibration, target: str, layout: str | None, image: str | None) -> None:
    kinds = {f".{ending}": kind for kind, (ending, _) in FORMATS.items()} | {".srec": "srec", ".mot": "srec"}
    kind = kinds.get(Path(target).suffix.lower())
    if kind is None:
        raise BadInput(f"the ending of {target} is not known", advice=f"use .json, .csv or {', '.join(kinds)}")
    if layout is None or image is None:
        raise BadInput("an image is written into the one the car came with", advice="give --layout and --image")
    described = layout_json.loads(_bytes(layout), Path(layout).name)
    memory, _ = read_image(_bytes(image), Path(image).name, described.base)
    written = write_calibration(memory, described, content, Path(image).name)
    _write_bytes(target, write_image(written.memory, kind))
    for start, stop in written.changed:
        click.echo(f"  0x{start:X} … 0x{stop - 1:X}")
    for one in written.roundings:
        click.echo(f"  {one.table} [{one.i}, {one.j}]: {one.wanted:g} is kept as {one.kept:g}")


@calibration.command()
@click.argument("file")
@click.option("--layout", help="Layout JSON, if FILE is an image.")
def check(file: str, layout: str | None) -> None:
    """Whether FILE is a valid calibration, or an image that its layout describes."""
    read = _calibration(file, layout)
    click.echo(f"{file}: “{read.title}”, {len(read.tables)} tables, {len(read.constants)} constants, in order.")


@calibration.command()
@click.option("--layout", "of_layout", is_flag=True, help="Of the layout format.")
def schema(of_layout: bool) -> None:
    """Print the JSON Schema of the calibration format, or of the layout format."""
    _json(layout_json.schema() if of_layout else calibration_json.schema())


@uchiwa.group()
def standin() -> None:
    """Simulated cars."""


@standin.command()
@click.option("--car", "car_name", default="corvid-pike", show_default=True)
@click.option("--calibration", "calibration_path", help="What the car's controller runs; by default its own.")
@click.option("--image", "image_path", help="Image that the stand-in flasher verifies and the controller runs from.")
@click.option(
    "--drive",
    "drive_name",
    required=True,
    help="cold_start, warm_idle, steady_cruise, roll_on, full_load_pull, mixed_road",
)
@click.option("--seed", type=click.IntRange(0), default=1, show_default=True)
@click.option("--out", required=True, help="Where the log goes.")
def drive(
    car_name: str, calibration_path: str | None, image_path: str | None, drive_name: str, seed: int, out: str
) -> None:
    """Drive a stand-in car and write its log as the car's own logger does."""
    from uchiwa.standin.cars import car_named
    from uchiwa.standin.layouts import flash, layout_of
    from uchiwa.standin.simulate import simulate

    car = car_named(car_name)
    if image_path and calibration_path:
        raise BadInput("the car runs an image or a calibration, not both", advice="give one of the two")
    if image_path:
        name = Path(image_path).name
        flashed = flash(car, read_image(_bytes(image_path), name, layout_of(car).base)[0], name)
    else:
        flashed = _calibration(calibration_path) if calibration_path else car.base()
    recording = simulate(car, flashed, drive_name, seed)
    _write_bytes(out, car.logger.write(recording))
    click.echo(f"{out}: {recording.duration:.0f} s of {drive_name} in the {car.title}")


@standin.command()
@click.option("--car", "car_name", default="corvid-pike", show_default=True)
@click.option("--out", required=True, help="Where the calibration goes.")
def base(car_name: str, out: str) -> None:
    """Write the calibration a stand-in car comes with."""
    from uchiwa.standin.cars import car_named

    car = car_named(car_name)
    _write(out, calibration_json.dumps(car.base()))
    click.echo(f"{out}: {car.base().title}")


@standin.command()
@click.option("--car", "car_name", default="corvid-pike", show_default=True)
@click.option("--out", required=True, help="Where the image goes: .bin, .hex or .s19.")
@click.option("--layout", "layout_path", help="Where its layout goes.")
def image(car_name: str, out: str, layout_path: str | None) -> None:
    """Write the image a stand-in car comes with, and its layout."""
    from uchiwa.standin.cars import car_named
    from uchiwa.standin.layouts import image_of, layout_data

    car = car_named(car_name)
    kinds = {f".{ending}": kind for kind, (ending, _) in FORMATS.items()}
    kind = kinds.get(Path(out).suffix.lower())
    if kind is None:
        raise BadInput(f"the ending of {out} is not known", advice=f"use {', '.join(kinds)}")
    _write_bytes(out, write_image(image_of(car), kind))
    if layout_path:
        _write(layout_path, json.dumps(layout_data(car), ensure_ascii=False, indent=1) + "\n")
    click.echo(f"{out}: image of the {car.title}")


@uchiwa.command()
@click.option("--demo", is_flag=True, help="Load the demo data first, if they are not there.")
def serve(demo: bool) -> None:
    """Start database, worker and web; Ctrl-C stops them all."""
    from uchiwa.serve import serve as run

    run(with_demo=demo)


@uchiwa.command(hidden=True)
@click.option("--parent", type=int, help="Process id; the worker ends when this process has ended.")
def work(parent: int | None) -> None:
    """Run the worker alone, against the database on file."""
    from uchiwa.store.database import connect_to
    from uchiwa.store.place import Place
    from uchiwa.work import worker

    place = Place.load()
    if place is None:
        raise BadInput("there is no database yet", advice="run uchiwa db start first")
    connect_to(place)
    worker.run(parent)


@uchiwa.group()
def db() -> None:
    """The project's own database server."""


@db.command()
def start() -> None:
    """Start the server."""
    from uchiwa.store import server

    place = server.start()
    click.echo(f"The database answers on {place.host}:{place.port}.")


@db.command()
def stop() -> None:
    """Stop the server."""
    from uchiwa.store import server

    click.echo("The database is stopped." if server.stop() else "There was no database to stop.")


@db.command()
def migrate() -> None:
    """Bring the schema up to date."""
    from uchiwa.store import server
    from uchiwa.store.database import connect_to
    from uchiwa.store.database import migrate as run

    connect_to(server.start())
    done = run()
    click.echo(f"Applied {', '.join(done)}." if done else "The schema is up to date.")


def main() -> None:
    """Run the command; bad input is one line and exit 2, a failure one line and exit 1."""
    try:
        uchiwa(standalone_mode=False)
    except BadInput as error:
        click.echo(str(error), err=True)
        sys.exit(BAD_INPUT)
    except click.exceptions.Abort:
        sys.exit(FAILURE)
    except click.ClickException as error:
        click.echo(f"{error.format_message()} See uchiwa --help.", err=True)
        sys.exit(BAD_INPUT)
    except Exception as error:
        said = " ".join(str(error).split()) or type(error).__name__
        click.echo(f"Failed: {said}", err=True)
        sys.exit(FAILURE)
