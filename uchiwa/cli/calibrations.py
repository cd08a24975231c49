"""`uchiwa calibration`: compare, convert, check."""

from __future__ import annotations

from pathlib import Path

import click

from uchiwa.cli.files import (
    read_bytes,
    read_calibration_file,
    say_json,
    write_bytes,
    write_text,
)
from uchiwa.cli.root import uchiwa
from uchiwa.core.errors import BadInput
from uchiwa.core.proposals.fuel.proposal import find_table
from uchiwa.core.tables.a2l import assignment as assignments
from uchiwa.core.tables.a2l.description import read_description
from uchiwa.core.tables.a2l.layout import Extent, layout_from
from uchiwa.core.tables.a2l.suggestion import suggested
from uchiwa.core.tables.difference import difference, signed
from uchiwa.core.tables.image import layout_json
from uchiwa.core.tables.image.content import write_calibration
from uchiwa.core.tables.image.files import FORMATS, read_image, write_image
from uchiwa.core.tables.interchange import calibration_json, cdf, table_csv
from uchiwa.core.tables.table import Calibration


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
    change = difference(read_calibration_file(before, layout), read_calibration_file(after, layout))
    if as_json:
        say_json(
            {
                "tables": [
                    {
                        "id": table.table.id,
                        "cells": [
                            {
                                "i": int(i),
                                "j": int(j),
                                "before": table.before.item(j, i),
                                "after": table.after.item(j, i),
                            }
                            for j, i in zip(*table.changed.nonzero(), strict=True)
                        ],
                    }
                    for table in change.tables
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
    for table in change.tables:
        click.echo(table.sentence)
        for j, i in zip(*table.changed.nonzero(), strict=True):
            at = f"{table.table.x.breakpoints[i]:g} {table.table.x.unit}"
            if table.table.y is not None:
                at += f" × {table.table.y.breakpoints[j]:g} {table.table.y.unit}"
            a, b = table.before.item(j, i), table.after.item(j, i)
            places = table.table.decimals
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
@click.option("--into", help="Calibration JSON that a table from .csv, or the values of a .cdfx, go into.")
def convert(
    source: str, target: str, layout: str | None, image: str | None, table: str | None, into: str | None
) -> None:
    """Turn a calibration into another form, by the ending of OUT: .json, .csv of one table, .cdfx, .bin, .hex or .s19."""
    ending = Path(target).suffix.lower()
    if Path(source).suffix.lower() == ".csv":
        content = _with_csv(source, table, into)
    elif cdf.is_cdf(read_bytes(source)):
        content = _with_cdf(read_bytes(source), source, into)
    else:
        json_in = read_bytes(source).lstrip()[:1] == b"{"
        if not json_in and layout is None:
            raise BadInput("an image is read through its layout", where=source, advice="give it with --layout")
        content = read_calibration_file(source, None if json_in else layout)
    if ending == ".json":
        write_text(target, calibration_json.dumps(content))
    elif ending == ".csv":
        if table is None:
            raise BadInput("a .csv holds one table", advice="say which with --table")
        write_text(target, table_csv.dumps(find_table(content, table)))
    elif ending in (".cdfx", ".xml"):
        write_bytes(target, cdf.dumps(content))
    else:
        _write_image(content, target, layout, image)
    click.echo(f"{target}: “{content.title}”")


def _with_csv(source: str, table: str | None, into: str | None) -> Calibration:
    if table is None or into is None:
        raise BadInput("a .csv is one table of a calibration", advice="give --table and --into")
    content = read_calibration_file(into)
    text = read_bytes(source).decode("utf-8-sig", "replace")
    return content.with_table(table_csv.loads(text, find_table(content, table), Path(source).name))


def _with_cdf(data: bytes, source: str, into: str | None) -> Calibration:
    read = cdf.loads(data, Path(source).name, read_calibration_file(into) if into is not None else None)
    for sentence in read.left_out:
        click.echo(f"  left out: {sentence}")
    return read.calibration


def _write_image(content: Calibration, target: str, layout: str | None, image: str | None) -> None:
    kinds = {f".{ending}": kind for kind, (ending, _) in FORMATS.items()} | {".srec": "srec", ".mot": "srec"}
    kind = kinds.get(Path(target).suffix.lower())
    if kind is None:
        raise BadInput(f"the ending of {target} is not known", advice=f"use .json, .csv, .cdfx or {', '.join(kinds)}")
    if layout is None or image is None:
        raise BadInput("an image is written into the one the car came with", advice="give --layout and --image")
    described = layout_json.loads(read_bytes(layout), Path(layout).name)
    memory, _ = read_image(read_bytes(image), Path(image).name, described.base)
    written = write_calibration(memory, described, content, Path(image).name)
    write_bytes(target, write_image(written.memory, kind))
    for start, stop in written.changed:
        click.echo(f"  0x{start:X} … 0x{stop - 1:X}")
    for rounding in written.roundings:
        click.echo(f"  {rounding.table} [{rounding.i}, {rounding.j}]: {rounding.wanted:g} is kept as {rounding.kept:g}")


@calibration.command()
@click.argument("file")
@click.option("--layout", help="Layout JSON, if FILE is an image.")
def check(file: str, layout: str | None) -> None:
    """Whether FILE is a valid calibration, or an image that its layout describes."""
    read = read_calibration_file(file, layout)
    click.echo(f"{file}: “{read.title}”, {len(read.tables)} tables, {len(read.constants)} constants, in order.")


@calibration.command()
@click.option("--layout", "of_layout", is_flag=True, help="Of the layout format.")
def schema(of_layout: bool) -> None:
    """Print the JSON Schema of the calibration format, or of the layout format."""
    say_json(layout_json.schema() if of_layout else calibration_json.schema())


@calibration.command()
@click.argument("description", metavar="A2L")
@click.option("--out", required=True, help="Where the layout is written, as JSON.")
@click.option("--assignment", help="JSON that says which characteristics are taken, as what; else what is likely is.")
@click.option("--image", help="Image of this controller, which tells where it begins and how large it is.")
@click.option("--suggest", help="Where the assignment that was likely is written, to be corrected and given.")
def layout(description: str, out: str, assignment: str | None, image: str | None, suggest: str | None) -> None:
    """Turn a controller's description (ASAP2, A2L) into a layout."""
    found = read_description(read_bytes(description), Path(description).name)
    said = suggested(found) if assignment is None else assignments.loads(read_bytes(assignment), Path(assignment).name)
    if suggest is not None:
        write_text(suggest, said.model_dump_json(indent=1, exclude_none=True) + "\n")
    extent = None
    if image is not None:
        start = min((segment.address for segment in found.segments), default=0) if said.base is None else said.base
        memory, _ = read_image(read_bytes(image), Path(image).name, start)
        extent = Extent(memory.start, memory.end - memory.start)
    made = layout_from(found, said, extent)
    write_text(out, layout_json.dumps(made.layout))
    for table in made.layout.tables:
        click.echo(f"  {table.id}: {table.title}, {table.role}, {table.unit or 'no unit'}")
    for constant in made.layout.constants:
        click.echo(f"  {constant.id}: {constant.role}")
    for left in made.left_out:
        click.echo(f"  left out: {left.name}, {left.why}")
    for note in made.notes:
        click.echo(f"  {note}")
    if not made.layout.checksums:
        click.echo("  no checksum is known: say those of the image in the assignment before a car is flashed")
    click.echo(f"{out}: “{made.layout.title}”, {len(found.characteristics):,} characteristics in the description")
