"""The columns of delimited text as numbers: by polars at full speed, and once more, cell by cell, where that fails."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import polars as pl

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.logs.readers.clock import clock_seconds, is_clock
from uchiwa.core.logs.readers.dialect import Dialect, is_number
from uchiwa.core.quantities.states import is_absent, state_of
from uchiwa.core.words.sentence import N_, Sentence

_MOST_STATES = 64
_MOST_CODES = 12


@dataclass(frozen=True, eq=False)
class Column:
    """One column.

    Attributes:
        values: numbers; NaN where there is none.
        empty: whether cells were empty, so that a slow channel may be held through them.
        states: words that have no known number, with the numbers given to them.
        clock: whether the cells are times of day.
        words: cells that are neither number, known word nor empty, up to four of them.
    """

    values: FloatArray
    empty: bool = False
    states: dict[str, float] | None = None
    clock: bool = False
    words: tuple[str, ...] = ()
    dropped: bool = False


_NO_ROOM = "WouldBlock"
"""How polars tells, by a panic, that it could have no further thread: each takes address space."""


def _csv(
    data: bytes, dialect: Dialect, skip: int, types: dict[str, type[pl.DataType]], columns: list[str] | None = None
) -> pl.DataFrame:
    return pl.read_csv(
        data,
        separator=dialect.delimiter,
        has_header=False,
        skip_lines=skip,
        schema=types,
        columns=columns,
        ignore_errors=True,
        decimal_comma=dialect.comma and dialect.delimiter != ",",
        truncate_ragged_lines=True,
        extra_columns="ignore",
        missing_columns="insert",
        encoding="utf8-lossy",
        null_values=None,
        raise_if_empty=False,
    )


def read_columns(data: bytes, dialect: Dialect, skip: int, where: str) -> list[Column]:
    """Every column of the rows below the first `skip` lines.

    Raises:
        BadInput: the rows cannot be taken apart.
        MemoryError: this process may not have as much as that takes.
    """
    ids = [f"column_{number}" for number in range(1, len(dialect.names) + 1)]
    textual = {ids[number] for number in range(len(ids)) if _is_text(dialect, number)}
    types: dict[str, type[pl.DataType]] = {id_: pl.String if id_ in textual else pl.Float64 for id_ in ids}
    try:
        frame = _csv(data, dialect, skip, types)
        nulls = dict(zip(ids, frame.get_columns(), strict=True))
        doubtful = [id_ for id_ in ids if id_ not in textual and nulls[id_].null_count()]
        del nulls
        again = _csv(data, dialect, skip, dict.fromkeys(ids, pl.String), doubtful) if doubtful else None
        if again is not None and again.height != frame.height:
            # An unclosed quote can swallow other rows when fewer columns are read: then all come from one reading.
            frame = _csv(data, dialect, skip, dict.fromkeys(ids, pl.String))
            textual, doubtful, again = set(ids), [], None
    except BaseException as error:
        if not isinstance(error, (pl.exceptions.PolarsError, pl.exceptions.PanicException)):
            raise
        if isinstance(error, pl.exceptions.PanicException) and _NO_ROOM in str(error):
            raise MemoryError from error
        said = str(error).splitlines()[0][:120]
        raise BadInput(
            Sentence("its rows cannot be read ({said})", said=said), where=where, advice=N_("export the log again")
        ) from error
    parsed = dict(zip(ids, frame.get_columns(), strict=True))
    checked = dict(zip(doubtful, again.get_columns(), strict=True)) if again is not None else {}
    del frame, again
    result: list[Column] = []
    for id_ in ids:
        column = parsed.pop(id_)  # so that its memory is free again once it has been turned into numbers
        if id_ in checked:
            result.append(_by_cell(checked.pop(id_), dialect.comma))
        elif id_ in textual:
            result.append(_by_cell(column, dialect.comma))
        else:
            result.append(Column(_finite(column.to_numpy())))
    return result


def _finite(values: FloatArray) -> FloatArray:
    if np.isfinite(values).all():
        return values
    return np.where(np.isfinite(values), values, np.nan)


def _is_text(dialect: Dialect, number: int) -> bool:
    cells = [row[number] for row in dialect.rows if number < len(row) and not is_absent(row[number])]
    comma = dialect.comma and dialect.delimiter == ","
    return any(not is_number(cell) or (comma and "," in cell) for cell in cells)


def _by_cell(column: pl.Series, comma: bool) -> Column:
    """Numbers where cells are numbers, times where they are times, known words as numbers, other words as codes."""
    text = column.fill_null("").str.strip_chars()
    empty = bool((text == "").any())
    plain = text.str.replace(",", ".", literal=True) if comma else text
    numbers = plain.cast(pl.Float64, strict=False)
    values = _finite(np.array(numbers.fill_null(float("nan")).to_numpy(), dtype=np.float64))
    left = np.isnan(values)
    if not left.any():
        return Column(values)
    words = text.filter(pl.Series(left)).unique(maintain_order=True).to_list()
    words = [word for word in words if not is_absent(word)]
    if not words:
        return Column(values, empty=empty)
    if sum(is_clock(word) for word in words[:50]) > 0.5 * len(words[:50]):
        times = np.fromiter((clock_seconds(cell) for cell in text), dtype=np.float64, count=len(text))
        return Column(np.where(np.isnan(times), values, times), empty=empty, clock=True)
    if len(words) > _MOST_STATES:
        return Column(values, empty=empty, words=tuple(words[:4]), dropped=bool(left.mean() > 0.5))
    codes: dict[str, float] = {}
    unknown: dict[str, float] = {}
    for word in words:
        known = state_of(word)
        if known is not None:
            codes[word] = known
    strange = [word for word in words if word not in codes]
    said = float(np.isin(text.to_numpy(), strange).mean()) if strange else 0.0
    if strange and np.isnan(values).mean() > 0.5 and len(strange) <= _MOST_CODES and said > 0.02 and not codes:
        unknown = {word: float(number) for number, word in enumerate(strange)}
        codes |= unknown
    mapped = text.replace_strict(codes, default=None, return_dtype=pl.Float64) if codes else None
    if mapped is not None:
        values = np.where(left, np.array(mapped.fill_null(float("nan")).to_numpy()), values)
    return Column(
        values, empty=empty, states=unknown or None, words=tuple(word for word in strange if word not in unknown)[:4]
    )
