"""`uchiwa pulls`: the pulls of logs and dyno files, and how they compare."""

from __future__ import annotations

import math
from typing import Any

import click
import numpy as np

from uchiwa.cli.files import read_json, read_one, say_json
from uchiwa.cli.root import uchiwa
from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.errors import BadInput
from uchiwa.core.pulls.curve import raggedness
from uchiwa.core.pulls.pull import Pull
from uchiwa.core.pulls.recognised import pulls_of
from uchiwa.core.pulls.repeat import repeatability
from uchiwa.core.pulls.runs import bands_of, even_bands


@uchiwa.command()
@click.argument("files", nargs=-1, required=True)
@click.option("--car", "car_path", help="Car file (JSON): its mass and drag, for road logs.")
@click.option("--slope", default=0.0, help="Of the road, rise over run.")
@click.option("--as-measured", is_flag=True, help="Without the correction for weather (SAE J1349).")
@click.option("--json", "as_json", is_flag=True, help="Machine-readable output.")
def pulls(files: tuple[str, ...], car_path: str | None, slope: float, as_measured: bool, as_json: bool) -> None:
    """Torque and power of full-load pulls by bands of engine speed, from dyno files and road logs."""
    car = CarFile.read(read_json(car_path)) if car_path else CarFile()
    found = [pull for path in files for pull in pulls_of(read_one(path), car.road_load(slope))]
    if not found:
        raise BadInput("no full-load pull was found", advice="record one long pull in a high gear, throttle wide open")
    bands = bands_of(found, even_bands(found), car.displacement)
    repeats = repeatability(bands)
    torque = bands.torque * np.array([[_factor(pull, as_measured)] for pull in found])
    data = {
        "bands": [float(centre) for centre in bands.centres],
        "pulls": [_told(pull, values, as_measured) for pull, values in zip(found, torque, strict=True)],
        "repeatability": {
            "percent": round(repeats.share * 100, 3),
            "assumed": repeats.assumed,
            "alike": [list(group) for group in repeats.groups],
        },
    }
    if as_json:
        say_json(data)
        return
    click.echo(" " * 26 + "".join(f"{centre:>8.0f}" for centre in bands.centres) + "  rpm")
    for pull, values in zip(found, torque, strict=True):
        name = f"{pull.log[:20]} {pull.number}"
        click.echo(f"{name:<26}" + "".join(f"{'·' if v != v else f'{v:.1f}':>8}" for v in values) + "  Nm")
        for flaw in pull.flaws:
            click.echo(f"    {flaw.words}")
        for note in pull.notes:
            click.echo(f"    {note}")
    kind = "assumed, for no run was repeated" if repeats.assumed else f"from {sum(map(len, repeats.groups))} like runs"
    click.echo(f"Runs repeat within {repeats.share * 100:.2f} % ({kind}).")


def _factor(pull: Pull, as_measured: bool) -> float:
    return 1.0 if as_measured or not math.isfinite(pull.factor) else pull.factor


def _told(pull: Pull, torque: np.ndarray, as_measured: bool) -> dict[str, Any]:
    ragged = raggedness(np.where(pull.known, pull.torque, np.nan))
    return {
        "log": pull.log,
        "number": pull.number,
        "source": pull.source.value,
        "start": pull.start,
        "end": pull.end,
        "gear": pull.gear if math.isfinite(pull.gear) else None,
        "weather_factor": None if as_measured or not math.isfinite(pull.factor) else round(pull.factor, 4),
        "torque": [None if one != one else round(float(one), 2) for one in torque],
        "raggedness_percent": None if ragged != ragged else round(ragged * 100, 3),
        "flaws": [{"kind": flaw.kind, "words": flaw.words, "low": flaw.low, "high": flaw.high} for flaw in pull.flaws],
        "notes": list(pull.notes),
    }
