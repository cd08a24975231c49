"""Batches of rows, numbered so that each is kept once whatever becomes of the link."""

from __future__ import annotations

from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import Any

import numpy as np
from pydantic_core import from_json

from uchiwa.core.errors import BadInput
from uchiwa.core.live.opening import MOST_RATE_HZ
from uchiwa.core.logs.log import FloatArray

MOST_BYTES = 262_144
MOST_ROWS = 2_000
MOST_BATCHES = 1_000_000
_RATE_MARGIN = 1.25
_RATE_ROWS = 20
_LARGEST = 1e15


@dataclass(frozen=True, eq=False)
class Batch:
    """Rows that came together.

    Attributes:
        number: 1 for the first of a session.
        rows: time in s by the program's own clock, then a reading of each channel; NaN where there is none; shape
            (n, 1 + channels).
        gaps: cells that were no numbers and are kept as having no reading.
    """

    number: int
    rows: FloatArray
    gaps: int = 0


def read_batch(data: bytes | str, channels: int) -> Batch:
    """A batch as it is written: `{"batch": 7, "rows": [[0.04, 851, null, …], …]}`.

    Infinite readings and those that are “not a number” count as having none.

    Args:
        data: one JSON object.
        channels: how many the session began with.

    Raises:
        BadInput: it is too large, is written otherwise, has rows of another length, or rows without a time.
    """
    if len(data) > MOST_BYTES:
        raise BadInput(
            f"a batch of {len(data) // 1000} kB is too large",
            where="a batch",
            advice=f"send at most {MOST_BYTES // 1000} kB and {MOST_ROWS} rows at once",
        )
    try:
        found = from_json(data, allow_inf_nan=True)
    except ValueError as error:
        raise BadInput("this is not JSON", where="a batch", advice="see docs/live.md") from error
    if not isinstance(found, dict) or set(found) != {"batch", "rows"}:
        raise BadInput("a batch has “batch” and “rows” and nothing else", where="a batch", advice="see docs/live.md")
    number, rows = found["batch"], found["rows"]
    if not isinstance(number, int) or isinstance(number, bool) or not 1 <= number <= MOST_BATCHES:
        raise BadInput(
            f"“batch” is a whole number from 1 to {MOST_BATCHES}", where="a batch", advice="number them one by one"
        )
    return _with_rows(number, rows, channels)


def kept_batch(line: bytes) -> Batch:
    """A batch that was read and kept before, without looking through it again.

    Raises:
        BadInput: it is none.
    """
    try:
        return _joined([from_json(line, allow_inf_nan=True)])
    except (ValueError, KeyError, TypeError, OverflowError) as error:
        raise BadInput("this is no batch", where="a line of the session") from error


def _joined(found: list[Any]) -> Batch:
    """Kept batches as one, under the number of the last."""
    rows = np.array([list(row) for one in found for row in one["rows"]], dtype=np.float64)
    return Batch(int(found[-1]["batch"]), np.where(np.abs(rows) < _LARGEST, rows, np.nan))


def kept_batches(lines: Sequence[bytes]) -> list[Batch]:
    """Batches that were read and kept before, those that follow on each other as one; lines that are none are left out.

    Args:
        lines: one batch each, in their order.
    """
    try:
        return [_joined(from_json(b"[" + b",".join(lines) + b"]", allow_inf_nan=True))]
    except (ValueError, KeyError, TypeError, OverflowError, IndexError):
        each: list[Batch] = []
        for line in lines:
            with suppress(BadInput):
                each.append(kept_batch(line))
        return each


def _with_rows(number: int, rows: object, channels: int) -> Batch:
    where = f"batch {number}"
    if not isinstance(rows, list) or not rows:
        raise BadInput("it has no rows", where=where, advice="send a list of rows")
    if len(rows) > MOST_ROWS:
        raise BadInput(f"it has {len(rows)} rows", where=where, advice=f"send at most {MOST_ROWS} at once")
    for place, row in enumerate(rows, start=1):
        if not isinstance(row, list) or len(row) != channels + 1:
            has = len(row) - 1 if isinstance(row, list) else 0
            raise BadInput(
                f"row {place} has {has} readings, and the session began with {channels} channels",
                where=where,
                advice="end this session and begin another to change channels",
            )
    kinds = {type(cell) for row in rows for cell in row}
    if not kinds <= {int, float, type(None)}:
        raise BadInput("every cell is a number or null", where=where, advice="send states as 0 and 1")
    try:
        values = np.array(rows, dtype=np.float64)
    except (OverflowError, ValueError, TypeError):
        raise BadInput(
            "a number in it is too large", where=where, advice="send readings in the channel’s unit"
        ) from None
    known = np.isfinite(values) & (np.abs(values) < _LARGEST)
    if not known[:, 0].all():
        place = int(np.flatnonzero(~known[:, 0])[0]) + 1
        raise BadInput(f"row {place} has no time", where=where, advice="begin each row with seconds")
    _check_rate(values[:, 0], where)
    said_nothing = sum(row.count(None) for row in rows)
    return Batch(number, np.where(known, values, np.nan), int((~known).sum()) - said_nothing)


def _check_rate(time: FloatArray, where: str) -> None:
    """Raises BadInput if rows come more often than anything here needs."""
    if time.size < _RATE_ROWS:
        return
    span = float(time.max() - time.min())
    rate = (time.size - 1) / span if span > 0 else float("inf")
    if rate > MOST_RATE_HZ * _RATE_MARGIN:
        told = f"{rate:.0f} rows a second" if np.isfinite(rate) else "rows that all have one time"
        raise BadInput(
            f"{told} are more than {MOST_RATE_HZ:.0f}",
            where=where,
            advice="pass on fewer, and keep the rest in the logger’s own file",
        )
