"""A log as delimited text in a dialect."""

from __future__ import annotations

import csv
import io
from collections.abc import Mapping
from dataclasses import dataclass, field
from types import MappingProxyType
from typing import Literal

import numpy as np

from uchiwa.core.logs.log import FloatArray, Log
from uchiwa.core.logs.readers.clock import DAY
from uchiwa.core.logs.writers.table import union_of
from uchiwa.core.spreadsheet import as_text

Units = Literal["brackets", "parentheses", "row", "name", "none"]
Time = Literal["s", "ms", "us", "h:m:s", "clock", "date", "rate"]


@dataclass(frozen=True)
class Dialect:
    """How a text is written.

    Attributes:
        delimiter, newline, encoding: as they say; `utf-8-sig` and `utf-16` write a mark.
        comma: decimal comma.
        quote: whether every field is quoted.
        units: where they stand: in brackets or parentheses after the name, in a row below, after an underscore, nowhere.
        time: how times are written; `clock` is a time of day from `starts`, `rate` leaves the column out.
        starts: time of day of the first row for `clock` and `date`, s.
        preamble: lines above the header; the log's notes are written as `# key: value` besides.
        trailing: whether each line ends with a delimiter.
        header_every: rows after which the header is repeated, 0 for never.
        words: of channels that are written in words, by channel name: number to word.
        slow: channels of which only each n-th row is written, by name.
        decimals: digits after the point by channel name; others are written as short as they read back.
        last_line_end: whether the last line ends with a newline.
    """

    delimiter: str = ","
    newline: str = "\n"
    encoding: str = "utf-8"
    comma: bool = False
    quote: bool = False
    units: Units = "brackets"
    time: Time = "s"
    starts: float = 0.0
    preamble: tuple[str, ...] = ()
    trailing: bool = False
    header_every: int = 0
    words: Mapping[str, Mapping[float, str]] = field(default_factory=lambda: MappingProxyType({}))
    slow: Mapping[str, int] = field(default_factory=lambda: MappingProxyType({}))
    decimals: Mapping[str, int] = field(default_factory=lambda: MappingProxyType({}))
    last_line_end: bool = True


def _titles(log_columns: list[tuple[str, str]], dialect: Dialect) -> tuple[list[str], list[str] | None]:
    pattern = {"brackets": "{0} [{1}]", "parentheses": "{0} ({1})", "name": "{0}_{1}"}.get(dialect.units, "{0}")
    titles = [pattern.format(name, unit) if unit else name for name, unit in log_columns]
    return titles, [unit for _, unit in log_columns] if dialect.units == "row" else None


def _clock(seconds: float) -> str:
    whole = int(seconds)
    return f"{whole // 3600:02d}:{whole // 60 % 60:02d}:{whole % 60:02d}.{round((seconds - whole) * 1e6):06d}"


def _times(time: FloatArray, dialect: Dialect) -> tuple[list[str], tuple[str, str]]:
    """The cells of the time column, and its name and unit."""
    if dialect.time == "ms":
        return [_short(value) for value in np.round(time * 1e3, 6)], ("Time", "ms")
    if dialect.time == "us":
        return [f"{value:.0f}" for value in time * 1e6], ("Time", "us")
    if dialect.time == "h:m:s":
        return [_clock(value) for value in np.round(time, 6)], ("Time", "h:m:s")
    if dialect.time == "clock":
        return [_clock(value % DAY) for value in np.round(time + dialect.starts, 6)], ("Clock", "")
    if dialect.time == "date":
        base = np.datetime64("2026-11-23") + np.timedelta64(0, "us")
        cells = [
            str(base + np.timedelta64(round((value + dialect.starts) * 1e6), "us")).replace("T", " ") for value in time
        ]
        return cells, ("Timestamp", "")
    return [_short(value) for value in time], ("Time", "s")


def _short(value: float) -> str:
    return "" if value != value else f"{value:.0f}" if value == int(value) and abs(value) < 1e15 else repr(float(value))


def write_text(log: Log, dialect: Dialect) -> bytes:
    """The text; gaps are empty cells. Notes of the log stand first, as `# key: value`."""
    time, columns = union_of(log)
    cells: list[list[str]] = []
    named: list[tuple[str, str]] = []
    if dialect.time != "rate":
        times, title = _times(time, dialect)
        cells.append(_decimal(times, dialect) if dialect.time in ("s", "ms") else times)
        named.append(title)
    for channel, values in columns:
        named.append((as_text(channel.name), as_text(channel.unit)))
        cells.append(_cells(channel.name, values, dialect))
    titles, units = _titles(named, dialect)
    stream = io.StringIO(newline="")
    for key, value in log.notes.items():
        stream.write(f"# {key}: {' '.join(str(value).split())}{dialect.newline}")
    for line in dialect.preamble:
        stream.write(line + dialect.newline)
    if dialect.time == "rate":
        stream.write(f"Sample rate: {1 / np.median(np.diff(time)):.10g} Hz{dialect.newline}")
    writer = csv.writer(
        stream,
        delimiter=dialect.delimiter,
        lineterminator=(dialect.delimiter if dialect.trailing else "") + dialect.newline,
        quoting=csv.QUOTE_ALL if dialect.quote else csv.QUOTE_MINIMAL,
    )
    for number, row in enumerate(zip(*cells, strict=True)):
        if number == 0 or (dialect.header_every and number % dialect.header_every == 0):
            writer.writerow(titles)
            if units is not None:
                writer.writerow(units)
        writer.writerow(row)
    text = stream.getvalue()
    return (text if dialect.last_line_end else text.removesuffix(dialect.newline)).encode(dialect.encoding)


def _cells(name: str, values: FloatArray, dialect: Dialect) -> list[str]:
    words = dialect.words.get(name)
    every = dialect.slow.get(name, 1)
    digits = dialect.decimals.get(name)
    if words is not None:
        cells = [words.get(float(value), "") for value in values]
    else:
        # Recorded values come in steps: each of them is written once.
        distinct, place = np.unique(values + 0.0, return_inverse=True)
        text = [
            _short(value) if digits is None or value != value else f"{value:.{digits}f}" for value in distinct.tolist()
        ]
        cells = np.array(_decimal(text, dialect), dtype=object)[place].tolist()
    return cells if every == 1 else [cell if number % every == 0 else "" for number, cell in enumerate(cells)]


def _decimal(cells: list[str], dialect: Dialect) -> list[str]:
    return [cell.replace(".", ",") for cell in cells] if dialect.comma else cells
