"""Delimited text with one header line of names and units, and one row a sample."""

from __future__ import annotations

import io
import re
from types import MappingProxyType

import numpy as np
import polars as pl

from uchiwa.core.errors import BadInput
from uchiwa.core.log import Channel, FloatArray, Log, Raster
from uchiwa.core.readers.sniff import decode, delimiter_of, fields_of
from uchiwa.core.recognise import plain_name
from uchiwa.core.units import convert, known_unit

_TIME_NAMES = frozenset({"time", "timestamp", "elapsed", "elapsed time", "t"})
_UNIT_AT_END = re.compile(r"^(?P<name>.*?)\s*[\[(](?P<unit>[^\])]*)[\])]\s*$")
_HEAD_BYTES = 262_144


def split_unit(header: str) -> tuple[str, str]:
    """A header field as (name, unit); the unit stands in brackets at its end, or is empty."""
    match = _UNIT_AT_END.match(header)
    if match is None:
        return header.strip(), ""
    return match["name"].strip(), match["unit"].strip()


def _preamble(data: bytes, name: str) -> tuple[dict[str, str], int, str, str]:
    """Notes from leading `# key: value` lines, the offset of the header line, that line, and the row below it."""
    notes: dict[str, str] = {}
    offset = 3 if data.startswith(b"\xef\xbb\xbf") else 0
    while offset < min(len(data), _HEAD_BYTES):
        end = data.find(b"\n", offset)
        end = len(data) if end < 0 else end
        line = decode(data[offset:end]).strip()
        if line and not line.startswith("#"):
            following = decode(data[end + 1 : end + 1 + _HEAD_BYTES].split(b"\n", 1)[0]).strip("\r")
            return notes, offset, line, following
        if ":" in line:
            key, _, value = line.lstrip("# ").partition(":")
            notes[key.strip().lower()] = value.strip()
        offset = end + 1
    raise BadInput("no header line was found", where=name, advice="export the log again with channel names on top")


def _numbers(column: pl.Series) -> FloatArray:
    """A text column as numbers; NaN where a cell is empty or is not a number."""
    numbers = column.str.strip_chars().cast(pl.Float64, strict=False)
    values: FloatArray = numbers.to_numpy().astype(np.float64, copy=True)
    values[~np.isfinite(values)] = np.nan
    return values


def read_delimited(data: bytes, name: str) -> Log:
    """Read delimited text. Rows whose time does not advance are left out, and counted in the notes.

    Raises:
        BadInput: no header, no delimiter, no time, fewer than two rows, or no numbers.
    """
    notes, offset, header, row = _preamble(data, name)
    if not row.strip():
        raise BadInput("it has a header and no rows", where=name, advice="record again: nothing was logged")
    delimiter = delimiter_of(header, row)
    if delimiter is None:
        raise BadInput(
            "its first lines are not columns of a log",
            where=name,
            advice="export it as text with one column per channel, separated by comma, semicolon or tab",
        )
    fields = fields_of(header, delimiter)
    try:
        frame = pl.read_csv(
            io.BytesIO(data[offset:]),
            separator=delimiter,
            has_header=False,
            skip_rows=1,
            new_columns=[f"c{number}" for number in range(len(fields))],
            infer_schema=False,
            truncate_ragged_lines=True,
            encoding="utf8-lossy",
        )
    except pl.exceptions.PolarsError as error:
        said = str(error).splitlines()[0]
        raise BadInput(f"its rows cannot be read ({said})", where=name, advice="export the log again") from error
    if frame.height < 2:
        raise BadInput("it has only one row", where=name, advice="record at least a few seconds")

    named = [split_unit(field) for field in fields][: frame.width]
    arrays = [_numbers(frame[column]) for column in frame.columns[: len(named)]]
    if not any(np.isfinite(values).any() for values in arrays):
        raise BadInput("there is not one number below its header", where=name, advice="export the log as numbers")
    try:
        at = next(number for number, (title, _) in enumerate(named) if plain_name(title) in _TIME_NAMES)
    except StopIteration:
        raise BadInput(
            "no time column was found", where=name, advice="name the column of times “Time” with its unit"
        ) from None
    time, keep = _time(arrays[at], named[at][1], name)
    if not keep.all():
        notes["rows left out"] = f"{int((~keep).sum())} whose time is missing or does not advance"
    channels = tuple(
        Channel(title, unit, values[keep], source_unit=unit)
        for number, ((title, unit), values) in enumerate(zip(named, arrays, strict=True))
        if number != at and title
    )
    return Log(name, (Raster(time, channels),), MappingProxyType(notes))


def _time(values: FloatArray, unit: str, name: str) -> tuple[FloatArray, np.ndarray]:
    """Seconds from the first row, and which rows advance in time."""
    unit = unit or "s"
    if not known_unit(unit):
        raise BadInput(f"the unit “{unit}” of time is not known", where=name, advice="write s or ms")
    seconds = convert(values, unit, "s")
    highest = np.fmax.accumulate(np.where(np.isfinite(seconds), seconds, -np.inf))
    before = np.concatenate(([-np.inf], highest[:-1]))
    keep = np.isfinite(seconds) & (seconds > before)
    if int(keep.sum()) < 2:
        raise BadInput("its times do not advance", where=name, advice="check the time column and export again")
    kept = seconds[keep]
    return kept - kept[0], keep
