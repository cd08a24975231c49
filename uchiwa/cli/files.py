"""Files that the command reads and writes, and what it prints."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import click

from uchiwa.core.errors import BadInput
from uchiwa.core.json_text import read_json as read_json_text
from uchiwa.core.logs.log import Log
from uchiwa.core.logs.readers import check_size, read_log
from uchiwa.core.logs.readers.bus.decode import BusDescription
from uchiwa.core.logs.readers.sniff import as_utf8
from uchiwa.core.logs.recognition.channel_reading import can_be_said
from uchiwa.core.logs.recognition.knowledge import NOTHING_KNOWN, Assignment, Knowledge, channel_key
from uchiwa.core.proposals.policy_file import Kind, policy_of
from uchiwa.core.quantities.naming import match_name, plain_name
from uchiwa.core.tables.image import layout_json
from uchiwa.core.tables.image.content import read_calibration
from uchiwa.core.tables.image.files import read_image
from uchiwa.core.tables.interchange import calibration_json, cdf
from uchiwa.core.tables.table import Calibration


def read_bytes(path: str) -> bytes:
    """The bytes of a file.

    Raises:
        BadInput: it cannot be read, or is too large.
    """
    try:
        check_size(Path(path).stat().st_size, Path(path).name)
        return Path(path).read_bytes()
    except OSError as error:
        raise BadInput(f"the file cannot be read ({error.strerror})", where=path, advice="check its name") from error


def read_one(path: str, told: Sequence[str] = (), dbc: Sequence[str] = ()) -> Log:
    """A log; `told` says of channels in which unit they are, as `MAP=psi`; `dbc` are descriptions of a bus."""
    knowledge = _knowledge(told) if told else NOTHING_KNOWN
    return read_log(read_bytes(path), Path(path).name, knowledge, bus_descriptions(dbc))


def bus_descriptions(paths: Sequence[str]) -> tuple[BusDescription, ...]:
    """DBC files, for recordings of a bus."""
    return tuple(BusDescription(Path(path).name, as_utf8(read_bytes(path)).decode()) for path in paths)


dbc_option = click.option(
    "--dbc", multiple=True, help="Description of a bus whose recording is read; of several the one that fits is taken."
)


def _knowledge(told: Sequence[str]) -> Callable[[Log], Knowledge]:
    """What a person said of channels, for whatever unit the file gives them.

    Raises:
        BadInput: it is not a name and a unit, or the name says nothing.
    """
    said: dict[str, Assignment] = {}
    for one in told:
        name, _, unit = one.partition("=")
        match = match_name(name)
        if match is None or not unit or not can_be_said(unit):
            raise BadInput(
                f"“{one}” does not say what a channel is", where="--read-as", advice="write for example MAP=psi"
            )
        said[plain_name(name)] = Assignment(match.quantity, unit)

    def known(log: Log) -> Knowledge:
        channels = [
            channel for raster in log.rasters for channel in raster.channels if plain_name(channel.name) in said
        ]
        return Knowledge(
            assignments={
                channel_key(channel.name, channel.source_unit): said[plain_name(channel.name)] for channel in channels
            }
        )

    return known


def read_calibration_file(path: str, layout: str | None = None) -> Calibration:
    """A calibration from JSON, from a CDF of our own, or from an image through its layout."""
    data, name = read_bytes(path), Path(path).name
    if layout is None:
        if cdf.is_cdf(data):
            return cdf.loads(data, name).calibration
        return calibration_json.loads(data, name)
    described = layout_json.loads(read_bytes(layout), Path(layout).name)
    return read_calibration(read_image(data, name, described.base)[0], described, name)


def write_bytes(path: str, data: bytes) -> None:
    """Write a file.

    Raises:
        BadInput: it cannot be written.
    """
    try:
        Path(path).write_bytes(data)
    except OSError as error:
        raise BadInput(
            f"the file cannot be written ({error.strerror})", where=path, advice="check its folder"
        ) from error


def write_text(path: str, text: str) -> None:
    """Write a text file."""
    try:
        Path(path).write_text(text, encoding="utf-8")
    except OSError as error:
        raise BadInput(
            f"the file cannot be written ({error.strerror})", where=path, advice="check its folder"
        ) from error


def say_json(data: Any) -> None:
    """Print plain data as JSON."""
    click.echo(json.dumps(data, ensure_ascii=False, indent=1, allow_nan=False))


def read_policy(path: str | None, kind: type[Kind]) -> Kind:
    """A policy of a kind, or the usual one."""
    return policy_of(kind, read_bytes(path).decode("utf-8", "replace"), Path(path).name) if path else kind()


def read_json(path: str) -> Any:
    """Plain data from JSON."""
    return read_json_text(read_bytes(path), where=path, advice="check the file")
