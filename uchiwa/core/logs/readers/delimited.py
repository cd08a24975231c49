"""Delimited text of any dialect, with one recording or several, as Logs."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from types import MappingProxyType

import numpy as np

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import BoolArray, Channel, FloatArray, Log, Raster, Repair
from uchiwa.core.logs.readers.by_speed import ROW_S, measures_torque, rises_by_speed
from uchiwa.core.logs.readers.clock import (
    advancing,
    is_clock,
    is_time_name,
    past_midnight,
    seconds_of,
    spread,
    step_from_notes,
)
from uchiwa.core.logs.readers.columns import Column, read_columns
from uchiwa.core.logs.readers.dialect import Dialect, dialect_of, fields_of
from uchiwa.core.logs.readers.sniff import as_utf8
from uchiwa.core.logs.timebase import at_times, bridgeable, own_period
from uchiwa.core.quantities.units import plain_unit
from uchiwa.core.words.sentence import N_

_LINE_ENDS = re.compile(rb"[\r\n]+")

_MOST_PIECES = 200
_RESTART_S = 1.0
_RESTART_ROWS = 4
_PLACES = 20
_TEXT_UNITS = frozenset({"h:m:s", "hh:mm:ss", "h:m:s.f", "hms", "clock", "hh:mm:ss.fff", "date"})


@dataclass(frozen=True, eq=False)
class _Section:
    """Rows under one header: pieces of the file, each with the number of lines above its first row."""

    dialect: Dialect
    pieces: list[tuple[bytes, int]]


def read_delimited(data: bytes, name: str) -> list[Log]:
    """Every recording of a delimited text; rows whose time does not advance are left out, and said.

    Raises:
        BadInput: no header, no delimiter, no time, fewer than two rows, or no numbers.
    """
    text = as_utf8(data)
    if b"\n" not in text[:65536] and b"\r" in text[:65536]:
        text = text.replace(b"\r", b"\n")
    if b"\r\r\n" in text[:65536]:
        text = text.replace(b"\r\r\n", b"\n")
    logs: list[Log] = []
    first_refusal: BadInput | None = None
    for section in _sections(text, name):
        try:
            logs += _recordings(section, name)
        except BadInput as error:
            first_refusal = first_refusal or error
    if not logs:
        raise first_refusal or BadInput(N_("it has no rows"), where=name, advice=N_("record again: nothing was logged"))
    return logs


def _body_at(text: bytes, lines: int) -> int:
    at = 0
    for _ in range(lines):
        at = text.find(b"\n", at) + 1
    return at


def _cuts(text: bytes, body: int, header: bytes) -> list[tuple[int, bool]]:
    """Where the header is repeated or a blank line stands, and whether it is the latter."""
    cuts: list[tuple[int, bool]] = []
    line_end = b"\n\r\n" if b"\r\n" in text[:4096] else b"\n\n"
    for mark, blank in ((line_end, True), (b"\n" + header, False)):
        at = text.find(mark, max(body - 1, 0))
        while at >= 0 and len(cuts) <= 4 * _MOST_PIECES:
            cuts.append((at + 1, blank))
            at = text.find(mark, at + len(mark))
    return sorted(cuts)


def _sections(text: bytes, where: str) -> list[_Section]:
    dialect = dialect_of(text, where)
    body = _body_at(text, dialect.first_row)
    cuts = _cuts(text, body, dialect.header.encode())
    if sum(blank for _, blank in cuts) > _MOST_PIECES:
        text = _LINE_ENDS.sub(b"\n", text)
        return [_Section(dialect_of(text, where), [(text, dialect_of(text, where).first_row)])]
    if len(cuts) > 2 * _MOST_PIECES:
        raise BadInput(N_("its header stands in it hundreds of times"), where=where, advice=N_("export the log again"))
    edges = [0, *(at for at, _ in cuts), len(text)]
    after_blank = [False, *(blank for _, blank in cuts)]
    sections: list[_Section] = []
    blank_before = False
    for number, blank in enumerate(after_blank):
        whole = not cuts
        piece = text if whole else text[edges[number] : edges[number + 1]]
        blank_before = blank_before or blank
        if not whole and not piece.strip():
            continue
        if number == 0:
            sections.append(_Section(dialect, [(piece, dialect.first_row)]))
            continue
        try:
            own = dialect_of(piece, where)
        except BadInput:
            own = None
        if own is not None and own.names == sections[-1].dialect.names and not blank_before:
            sections[-1].pieces.append((piece, own.first_row))
        elif own is not None:
            sections.append(_Section(own, [(piece, own.first_row)]))
        elif _continues(piece, sections[-1].dialect):
            skip = len(piece) - len(piece.lstrip(b"\r\n"))
            sections[-1].pieces.append((piece[skip:], 0))
        blank_before = False
    return sections


def _continues(piece: bytes, dialect: Dialect) -> bool:
    """Whether a piece without a header begins with a row like those above it."""
    line = piece.lstrip(b"\r\n").split(b"\n", 1)[0].decode("utf-8", "replace")
    fields = fields_of(line, dialect.delimiter)
    return len(fields) == len(dialect.rows[0]) and any(field[:1].isdigit() for field in fields)


def _titled(dialect: Dialect) -> list[str]:
    """Names of the columns; a second channel of a name is numbered, a nameless one is called by its place."""
    seen: dict[str, int] = {}
    result: list[str] = []
    for number, name in enumerate(dialect.names):
        plain = name or (f"column {number + 1}" if number + 1 < len(dialect.names) else "")
        seen[plain] = seen.get(plain, 0) + 1
        result.append(f"{plain} ({seen[plain]})" if plain and seen[plain] > 1 else plain)
    return result


def _joined(parts: list[list[Column]]) -> list[Column]:
    if len(parts) == 1:
        return parts[0]
    return [
        Column(
            np.concatenate([part[number].values for part in parts]),
            any(part[number].empty for part in parts),
            next((part[number].states for part in parts if part[number].states), None),
            any(part[number].clock for part in parts),
            tuple(word for part in parts for word in part[number].words)[:4],
            all(part[number].dropped for part in parts),
        )
        for number in range(len(parts[0]))
    ]


def _cut_short(piece: bytes, dialect: Dialect) -> bool:
    """Whether the last line breaks off: no line end, and fewer fields than the other rows."""
    if piece.endswith((b"\n", b"\r")):
        return False
    last = piece[piece.rfind(b"\n") + 1 :].decode("utf-8", "replace")
    return len(fields_of(last, dialect.delimiter)) < dialect.width


def _recordings(section: _Section, name: str) -> list[Log]:
    dialect = section.dialect
    repairs: list[Repair] = []
    parts: list[list[Column]] = []
    for piece, skip in section.pieces:
        columns = read_columns(piece, dialect, skip, name)
        if piece is section.pieces[-1][0] and _cut_short(piece, dialect):
            columns = [_without_last(column) for column in columns]
            repairs.append(Repair("truncated", 1, "the last line breaks off and was left out"))
        parts.append(columns)
    columns = _joined(parts)
    rows = columns[0].values.size
    if rows < 2:
        raise BadInput(N_("it has only one row"), where=name, advice=N_("record at least a few seconds"))
    titles = _titled(dialect)
    at = _time_column(dialect, columns)
    if not any(np.isfinite(column.values).any() for number, column in enumerate(columns) if number != at):
        raise BadInput(
            N_("there is not one number below its header"), where=name, advice=N_("export the log as numbers")
        )
    time, guess = _time(dialect, columns, at, rows, name)
    if guess:
        repairs.append(Repair("guess", 0, guess))
    repairs += _said_of_words(titles, columns, at)
    logs: list[Log] = []
    for first, last in _spans(time):
        coarse = spread(time[first:last])
        if coarse is not None:
            time = np.concatenate((time[:first], coarse, time[last:]))
        part = _Part(section.dialect, columns, at, slice(first, last))
        log = part.log(name, time[first:last], repairs, guessed=coarse is not None)
        if log is not None:
            logs.append(log)
    if not logs:
        raise BadInput(N_("its times do not advance"), where=name, advice=N_("check the time column and export again"))
    return logs


@dataclass(frozen=True)
class _Part:
    """A stretch of a file's rows that is one recording; `at` is the column of its time, or −1."""

    dialect: Dialect
    columns: Sequence[Column]
    at: int | None
    rows: slice

    def log(self, name: str, time: FloatArray, repairs: Sequence[Repair], *, guessed: bool) -> Log | None:
        """The recording; None if hardly a row's time advances."""
        kept = advancing(time)
        left_out = int((~kept).sum())
        if int(kept.sum()) < 2:
            return None
        start = float(time[kept][0])
        seconds = time if left_out == 0 else time[kept]
        own = list(repairs)
        if guessed:
            own.append(
                Repair("guess", 0, "several rows share each time stamp: they were spread evenly between the stamps")
            )
        if left_out:
            places = time[~kept] - start
            said = f"{left_out} rows whose time is missing or does not advance were left out"
            where = tuple(float(place) for place in places[np.isfinite(places)][:_PLACES])
            own.insert(0, Repair("time", left_out, said, where))
        raster = Raster(seconds - start if start else seconds, self._channels(seconds, kept, left_out))
        return Log(name, (raster,), MappingProxyType(self.dialect.notes), tuple(own))

    def _channels(self, seconds: FloatArray, kept: BoolArray, left_out: int) -> tuple[Channel, ...]:
        titles, dialect = _titled(self.dialect), self.dialect
        return tuple(
            Channel(
                titles[number],
                _unit(dialect, number),
                _channel_values(column, seconds, self.rows, kept, left_out),
                source_unit=_unit(dialect, number),
            )
            for number, column in enumerate(self.columns)
            if number != self.at and titles[number] and not column.dropped and not _is_date(titles[number], column)
        )


def _unit(dialect: Dialect, number: int) -> str:
    return dialect.units[number] if number < len(dialect.units) else ""


def _is_date(title: str, column: Column) -> bool:
    return (
        column.clock or title.lower() in ("date", "datum") or (column.dropped and not np.isfinite(column.values).any())
    )


def _without_last(column: Column) -> Column:
    return Column(column.values[:-1], column.empty, column.states, column.clock, column.words, column.dropped)


def _channel_values(column: Column, time: FloatArray, rows: slice, kept: BoolArray, left_out: int) -> FloatArray:
    values = column.values[rows]
    if left_out:
        values = values[kept]
    return hold(time, values) if column.empty else values


def hold(time: FloatArray, values: FloatArray) -> FloatArray:
    """A slow channel carried through its empty cells, over three of its usual steps or half a second, whichever is longer.

    Numbers with digits after the point are joined by straight lines; whole numbers, which may be gears or states, stay as
    they were last.
    """
    known = np.isfinite(values)
    if not known.any() or known.all():
        return values
    period = own_period(time[known])
    states = bool((values[known] == np.round(values[known])).all())
    joined = at_times(time, time[known], values[known], period, states=states)
    return joined if states else np.where(known | np.isfinite(joined), joined, _kept(time, values, known, period))


def _kept(time: FloatArray, values: FloatArray, known: BoolArray, period: float) -> FloatArray:
    """The last reading after which nothing more came, as long as a gap may be."""
    last = int(np.flatnonzero(known)[-1])
    return np.where((time > time[last]) & (time - time[last] <= bridgeable(period)), values[last], np.nan)


def _time_column(dialect: Dialect, columns: list[Column]) -> int | None:
    named = [number for number, name in enumerate(dialect.names) if is_time_name(name) and number < len(columns)]
    usable = [number for number in named if np.isfinite(columns[number].values).any()]
    if usable:
        return min(
            usable, key=lambda number: (columns[number].clock and "date" in dialect.names[number].lower(), number)
        )
    clocks = [number for number, column in enumerate(columns) if column.clock]
    if clocks:
        return clocks[-1]
    return named[0] if named else None


def _time(dialect: Dialect, columns: list[Column], at: int | None, rows: int, name: str) -> tuple[FloatArray, str]:
    """Seconds of every row, as the file counts them, and what was guessed."""
    if at is None:
        step = step_from_notes(dialect.notes)
        if step is None and rises_by_speed(dialect.names, [column.values for column in columns]):
            return np.arange(rows, dtype=np.float64) * ROW_S, (
                f"there is no time column; engine speed rises from row to row, so it was read as a pull, "
                f"a row standing for {ROW_S:g} s"
            )
        if step is None and measures_torque(dialect.names):
            raise BadInput(
                N_("it has torque or power, but neither engine speed rising from row to row nor a time"),
                where=name,
                advice=N_("export the run with its engine speed (rpm)"),
            )
        if step is None:
            raise BadInput(
                N_("no time column was found, and no sample rate above the header"),
                where=name,
                advice=N_("name the column of times “Time” with its unit"),
            )
        return np.arange(
            rows, dtype=np.float64
        ) * step, f"there is no time column; by the sample rate a row comes every {step:g} s"
    column = columns[at]
    if column.clock:
        return past_midnight(column.values), ""
    unit = _unit(dialect, at)
    if plain_unit(unit) in _TEXT_UNITS or any(is_clock(row[at]) for row in dialect.rows[:3] if at < len(row)):
        unit = "s"
    if not unit:
        words = dialect.names[at].replace("_", " ").split()
        unit = words[-1] if len(words) > 1 and plain_unit(words[-1]) in ("ms", "us", "s", "sec", "min", "µs") else ""
        plain = dialect.names[at].lower()
        unit = unit or {"millis": "ms", "millisekunden": "ms"}.get(plain, "")
    return seconds_of(column.values, unit, name)


def _spans(time: FloatArray) -> list[tuple[int, int]]:
    """Row ranges of the recordings: a new one begins where the time goes back to the beginning and stays there."""
    finite = np.flatnonzero(np.isfinite(time))
    if finite.size < 2:
        return [(0, time.size)]
    known = time[finite]
    falls = np.flatnonzero(np.diff(known) < 0) + 1
    edges = [0]
    for fall in falls[:10_000]:
        ahead = known[fall : fall + _RESTART_ROWS]
        begins = known[fall] <= known[0] + _RESTART_S
        stays = ahead.size >= 2 and bool((np.diff(ahead) > 0).all()) and ahead[-1] < known[fall - 1]
        if begins and stays and fall - np.searchsorted(finite, edges[-1]) > 1:
            edges.append(int(finite[fall]))
    return list(zip(edges, [*edges[1:], time.size], strict=True))


def _said_of_words(titles: list[str], columns: list[Column], at: int | None) -> list[Repair]:
    said: list[Repair] = []
    for number, column in enumerate(columns):
        if number == at or not titles[number]:
            continue
        if column.states:
            codes = ", ".join(f"{word} = {code:g}" for word, code in column.states.items())
            said.append(Repair("text", 0, f"words of {titles[number]} were numbered: {codes}"))
        elif column.words and not column.dropped:
            words = ", ".join(f"“{word[:20]}”" for word in column.words)
            said.append(Repair("text", 0, f"{titles[number]} has cells that are no numbers: {words}"))
    return said[:_PLACES]
