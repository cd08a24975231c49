"""The clock of a live session, steadied: it may jump, and nothing is lost by that."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from uchiwa.core.logs.log import BoolArray, FloatArray

BACK_S = 1.0
"""A clock that goes back by more than this was set; by less, rows came twice or in another order."""
FORWARD_S = 900.0
PAUSE_S = 10.0
GRAIN_S = 1e-6
"""Rows that are no further apart than this have the same time."""
_FIRST_STEP_S = 0.05
_LONGEST_STEP_S = 1.0


@dataclass
class SteadyClock:
    """Turns a program's times into seconds since the first row, batch by batch.

    A clock that was set back goes on a step after the last row; one that is ahead by over a quarter of an hour, ten seconds
    after it. Rows whose time does not advance otherwise are left out.

    Attributes:
        jumps: moments, in steadied seconds, at which the clock was set.
        dropped: rows left out.
    """

    jumps: list[float] = field(default_factory=list)
    dropped: int = 0
    _offset: float | None = None
    _last_raw: float = 0.0
    _step: float = _FIRST_STEP_S

    def take(self, raw: FloatArray) -> tuple[FloatArray, BoolArray]:
        """Steadied times of the next rows, and which of the rows are kept.

        Args:
            raw: s by the program's clock, finite; shape (n,).

        Returns:
            Times of the kept rows, rising, shape (m,); and a mask of shape (n,).
        """
        if not raw.size:
            return raw.copy(), np.ones(0, dtype=np.bool_)
        first = self._offset is None
        if first:
            self._offset = float(raw[0])
            self._last_raw = float(raw[0])
        offset = self._offset or 0.0
        steps = np.empty(raw.size)
        steps[0] = self._step if first else raw[0] - self._last_raw
        np.subtract(raw[1:], raw[:-1], out=steps[1:])
        if steps.min() > GRAIN_S and steps.max() <= FORWARD_S:
            self._last_raw, self._step = float(raw[-1]), min(float(steps[-1]), _LONGEST_STEP_S)
            return raw - offset, np.ones(raw.size, dtype=np.bool_)
        return self._row_by_row(raw, first=first)

    def _row_by_row(self, raw: FloatArray, *, first: bool) -> tuple[FloatArray, BoolArray]:
        offset = self._offset or 0.0
        times, kept = np.empty(raw.size), np.zeros(raw.size, dtype=np.bool_)
        for place, moment in enumerate(raw.tolist()):
            step = moment - self._last_raw
            if first and place == 0:
                pass
            elif step < -BACK_S or step > FORWARD_S:
                last = self._last_raw - offset
                self.jumps.append(last + (self._step if step < 0 else PAUSE_S))
                offset = moment - self.jumps[-1]
            elif step <= GRAIN_S:
                self.dropped += 1
                continue
            else:
                self._step = min(step, _LONGEST_STEP_S)
            self._last_raw = moment
            times[place], kept[place] = moment - offset, True
        self._offset = offset
        return times[kept], kept
