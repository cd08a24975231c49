"""How far logs lie apart as wholes: another day's weather, another fuel."""

from __future__ import annotations

import numpy as np

from uchiwa.core.logs.log import FloatArray, IntArray

_ROUNDS = 20
_MOST_OF_ONE = 50.0


def log_levels(cell: IntArray, log: IntArray, value: FloatArray, logs: int) -> FloatArray:
    """By how much each log's values lie above the others', by the cells that it shares with them; shape (logs,).

    Least squares of value = cell + level over the means of logs in cells, each weighing as its samples do, at most as fifty,
    found by turns; of logs that share no cell with another 0, and 0 on average of the others.

    Args:
        cell: of each sample, from 0; shape (n,).
        log: number of its log; shape (n,).
        value: finite; shape (n,).
        logs: number of logs.
    """
    level = np.zeros(logs)
    if logs < 2 or value.size == 0:
        return level
    size = int(cell.max()) + 1
    place = log * size + cell
    count = np.bincount(place, minlength=logs * size).reshape(logs, size).astype(np.float64)
    total = np.bincount(place, weights=value, minlength=logs * size).reshape(logs, size)
    shared = (count > 0).sum(axis=0) > 1
    weight = np.where(shared[None], np.minimum(count, _MOST_OF_ONE), 0.0)
    mean = np.where(count > 0, total / np.maximum(count, 1.0), 0.0)
    told = weight.sum(axis=1) > 0
    if not told.any():
        return level
    for _ in range(_ROUNDS):
        of_cell = (weight * (mean - level[:, None])).sum(axis=0) / np.maximum(weight.sum(axis=0), 1e-12)
        level = (weight * (mean - of_cell[None])).sum(axis=1) / np.maximum(weight.sum(axis=1), 1e-12)
        level = np.where(told, level - level[told].mean(), 0.0)
    return level
