"""Files that the command reads and writes, and what it prints."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import click

from uchiwa.core.errors import BadInput
from uchiwa.core.image import layout_json
from uchiwa.core.image.content import read_calibration
from uchiwa.core.image.files import read_image
from uchiwa.core.interchange import calibration_json
from uchiwa.core.log import Log
from uchiwa.core.proposals.read_policy import Kind, policy_of
from uchiwa.core.readers import check_size, read_log
from uchiwa.core.table import Calibration


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


def read_one(path: str) -> Log:
    """A log."""
    return read_log(read_bytes(path), Path(path).name)


def read_calibration_file(path: str, layout: str | None = None) -> Calibration:
    """A calibration from JSON, or from an image through its layout."""
    data, name = read_bytes(path), Path(path).name
    if layout is None:
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
    try:
        return json.loads(read_bytes(path))
    except ValueError as error:
        raise BadInput("it is not JSON", where=path, advice="check the file") from error
