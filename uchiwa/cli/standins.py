"""`uchiwa standin`: simulated cars, their calibrations and images."""

from __future__ import annotations

import json
import os
from pathlib import Path

import click

from uchiwa.cli.files import (
    read_bytes,
    read_calibration_file,
    write_bytes,
    write_text,
)
from uchiwa.cli.root import uchiwa
from uchiwa.core.errors import BadInput
from uchiwa.core.tables.image.files import FORMATS, read_image, write_image
from uchiwa.core.tables.interchange import calibration_json
from uchiwa.parent import end_with_parent


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
@click.option(
    "--dbc", help="Record the car's bus, by the ending of OUT (.asc, .blf, .log, .mf4), and write its DBC here."
)
def drive(
    car_name: str,
    calibration_path: str | None,
    image_path: str | None,
    drive_name: str,
    seed: int,
    out: str,
    dbc: str | None,
) -> None:
    """Drive a stand-in car and write its log as the car's own logger does, or as one on its bus."""
    from uchiwa.standin.fleet import car_named
    from uchiwa.standin.layouts import flash, layout_of
    from uchiwa.standin.simulate import simulate

    car = car_named(car_name)
    if image_path and calibration_path:
        raise BadInput("the car runs an image or a calibration, not both", advice="give one of the two")
    if image_path:
        name = Path(image_path).name
        flashed = flash(car, read_image(read_bytes(image_path), name, layout_of(car).base)[0], name)
    else:
        flashed = read_calibration_file(calibration_path) if calibration_path else car.base()
    recording = simulate(car, flashed, drive_name, seed)
    if dbc is None:
        write_bytes(out, car.logger.write(recording))
    else:
        from uchiwa.standin.bus import dbc_of, write_bus

        write_bytes(out, write_bus(recording, Path(out).suffix.removeprefix(".").lower()))
        write_text(dbc, dbc_of(recording))
    click.echo(f"{out}: {recording.duration:.0f} s of {drive_name} in the {car.title}")


@standin.command()
@click.option("--car", "car_name", default="corvid-pike", show_default=True)
@click.option("--link", required=True, help="The customer's page, as its link was sent.")
@click.option("--calibration", "calibration_path", help="What the car's controller runs; by default its own.")
@click.option("--drive", "drive_name", default="steady_cruise", show_default=True)
@click.option("--seed", type=click.IntRange(0), default=1, show_default=True)
@click.option(
    "--speed", type=click.FloatRange(0.1, 100), default=1.0, show_default=True, help="Quicker than real time."
)
@click.option(
    "--drop",
    "drop_s",
    type=click.FloatRange(0, 600),
    default=0.0,
    help="Break the link now and then, for so many seconds.",
)
@click.option("--seconds", type=click.FloatRange(1, 7200), default=7200.0, help="Stop after so much of the drive.")
@click.option("--alone", is_flag=True, help="The driver does not listen to what the phone says.")
@click.option("--plain", is_flag=True, help="Pass on over plain HTTP instead of a WebSocket.")
@click.option("--mark", default="", help="Of the calibration, as the car's controller tells it.")
@click.option("--out", help="Where the car's own recording goes.")
@click.option("--with-parent", is_flag=True, hidden=True)
def live(
    car_name: str,
    link: str,
    calibration_path: str | None,
    drive_name: str,
    seed: int,
    speed: float,
    drop_s: float,
    seconds: float,
    alone: bool,
    plain: bool,
    mark: str,
    out: str | None,
    with_parent: bool,
) -> None:
    """Drive a stand-in car and pass its samples on as they are recorded."""
    from uchiwa.standin.fleet import car_named
    from uchiwa.standin.live import live_car

    if with_parent:
        end_with_parent(os.getppid())
    car = car_named(car_name)
    flashed = read_calibration_file(calibration_path) if calibration_path else car.base()
    under_way = live_car(
        car, flashed, link, drive_name=drive_name, seed=seed, speed=speed, drop_s=drop_s, advised=not alone, plain=plain,
        longest_s=seconds, revision=mark, log=click.echo,
    )  # fmt: skip
    click.echo(f"session {under_way.link.session}: passing on. {under_way.outcome.said}".rstrip())
    found = under_way.run()
    if out:
        write_bytes(out, car.logger.write(under_way.drive.recording()))
    if found.refused:
        raise BadInput(found.refused.rstrip("."))
    kept = "all of it was acknowledged" if found.kept else "not all of it was acknowledged"
    click.echo(
        f"{found.rows[-1][0] if found.rows else 0:.0f} s driven, {len(found.rows)} rows, {found.breaks} breaks: {kept}"
    )


@standin.command()
@click.option("--car", "car_name", default="corvid-pike", show_default=True)
@click.option("--out", required=True, help="Where the calibration goes.")
def base(car_name: str, out: str) -> None:
    """Write the calibration a stand-in car comes with."""
    from uchiwa.standin.fleet import car_named

    car = car_named(car_name)
    write_text(out, calibration_json.dumps(car.base()))
    click.echo(f"{out}: {car.base().title}")


@standin.command()
@click.option("--car", "car_name", default="corvid-pike", show_default=True)
@click.option("--out", required=True, help="Where the image goes: .bin, .hex or .s19.")
@click.option("--layout", "layout_path", help="Where its layout goes.")
def image(car_name: str, out: str, layout_path: str | None) -> None:
    """Write the image a stand-in car comes with, and its layout."""
    from uchiwa.standin.fleet import car_named
    from uchiwa.standin.layouts import image_of, layout_data

    car = car_named(car_name)
    kinds = {f".{ending}": kind for kind, (ending, _) in FORMATS.items()}
    kind = kinds.get(Path(out).suffix.lower())
    if kind is None:
        raise BadInput(f"the ending of {out} is not known", advice=f"use {', '.join(kinds)}")
    write_bytes(out, write_image(image_of(car), kind))
    if layout_path:
        write_text(layout_path, json.dumps(layout_data(car), ensure_ascii=False, indent=1) + "\n")
    click.echo(f"{out}: image of the {car.title}")


@standin.command()
@click.option("--car", "car_name", default="corvid-pike", show_default=True)
@click.option("--calibration", "calibration_path", help="What the car's controller runs; by default its own.")
@click.option("--offset", default=0.0, show_default=True, help="Degrees of spark that the operator adds.")
@click.option("--run", default=1, show_default=True, type=click.IntRange(1), help="Number of the run in its session.")
@click.option("--seed", type=click.IntRange(0), default=1, show_default=True, help="Of the session: its weather.")
@click.option("--by-speed", is_flag=True, help="Rows by engine speed, without time.")
@click.option("--out", required=True, help="Where the dyno's file goes.")
def dyno(
    car_name: str, calibration_path: str | None, offset: float, run: int, seed: int, by_speed: bool, out: str
) -> None:
    """Run a stand-in car on the stand-in dyno and write its pull file."""
    from uchiwa.standin.dyno import dyno_run, write_run
    from uchiwa.standin.fleet import car_named

    car = car_named(car_name)
    flashed = read_calibration_file(calibration_path) if calibration_path else car.base()
    write_bytes(out, write_run(dyno_run(car, flashed, seed, run, offset=offset), timed=not by_speed))
    click.echo(f"{out}: run {run} of the {car.title}")
