"""What the warm-up factor is to be at least where it is colder than any sample: the trend, on its rich side."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from uchiwa.core.logs.log import BoolArray, FloatArray

FOLDS_K = (20.0, 22.0, 24.0, 26.0, 28.0, 30.0, 33.0, 36.0, 40.0, 45.0, 50.0)
"""Kelvin over which the excess may grow e-fold: what is lost on cold walls follows vapour pressure, near enough."""

_MARGIN_PERCENT = 1.5
_MARGIN_PER_K = 0.0015
_CURVED_K = 40.0
"""How far the curved law is believed beyond the coldest sample; from there on it goes straight."""


@dataclass(frozen=True, eq=False)
class WarmUpCurve:
    """A measured curve of the factor, cold first; arrays of shape (n,).

    Attributes:
        celsius: coolant temperature, degC.
        excess: of the factor over that of a warm engine, %.
        half_width: of its 95 % interval, %.
    """

    celsius: FloatArray
    excess: FloatArray
    half_width: FloatArray


def carried_on(celsius: FloatArray, told: WarmUpCurve, warm_from: float) -> FloatArray | None:
    """The excess over a warm engine's factor, carried on towards the cold on the rich side; None where too little tells.

    Richest of: e(T) = a·(exp(−T/τ) − exp(−T_w/τ)), which is nothing at T_w, fitted to all measured values (weighted least
    squares, τ from `FOLDS_K`); the same fitted to all but the coldest, whose edge may be poor; and a straight line through the
    two coldest. Each starts at least 1.5 % above the coldest value, no higher than 1.5 % above the upper end of its interval,
    and a margin of 0.15 % of the factor for each kelvin beyond it comes on top.

    Args:
        celsius: where it is wanted, degC; shape (m,).
        told: the values that were measured.
        warm_from: T_w, degC.

    Returns:
        Percent; −inf where it is not colder than the coldest measured value; shape (m,).
    """
    positive = told.excess > 0.0
    if int(positive.sum()) < 2:
        return None
    told = WarmUpCurve(told.celsius[positive], told.excess[positive], told.half_width[positive])
    away = told.celsius[0] - celsius
    lowest = told.excess[0] + _MARGIN_PERCENT
    highest = lowest + float(told.half_width[0])
    slope = max((told.excess[0] - told.excess[1]) / (told.celsius[1] - told.celsius[0]), 0.0)
    ways = [lowest + slope * away]
    whole = np.ones(told.excess.size, dtype=np.bool_)
    for these in [whole, np.arange(whole.size) > 0] if whole.size >= 4 else [whole]:
        size, fold = _fitted(told, these, warm_from)
        here = _law(told.celsius[:1], fold, warm_from)[0]
        start = float(np.clip(size * here + _MARGIN_PERCENT, lowest, highest))
        ways.append(start * _straight_far_out(celsius, told.celsius[0] - _CURVED_K, fold, warm_from) / here)
    richest = np.max(ways, axis=0)
    with_margin = (100.0 + richest) * (1.0 + _MARGIN_PER_K * away) - 100.0
    return np.where(away > 0, with_margin, -np.inf)


def _law(celsius: FloatArray, fold: float, warm_from: float) -> FloatArray:
    """The law for a = 1, a trace above nothing where it would be that, so that it can be divided by."""
    law: FloatArray = np.maximum(np.exp(-celsius / fold) - np.exp(-warm_from / fold), 1e-9)
    return law


def _straight_far_out(celsius: FloatArray, edge: float, fold: float, warm_from: float) -> FloatArray:
    """The law, colder than `edge` along its tangent there."""
    at = np.array([edge])
    tangent = _law(at, fold, warm_from) - np.exp(-at / fold) / fold * (celsius - edge)
    return np.where(celsius >= edge, _law(celsius, fold, warm_from), tangent)


def _fitted(told: WarmUpCurve, these: BoolArray, warm_from: float) -> tuple[float, float]:
    """Size and fold of the law that fits the measured values best."""
    weight = 1.0 / np.maximum(told.half_width[these], 0.3) ** 2
    excess = told.excess[these]
    best = (np.inf, 0.0, FOLDS_K[0])
    for fold in FOLDS_K:
        law = _law(told.celsius[these], fold, warm_from)
        size = float(weight @ (law * excess) / (weight @ law**2))
        best = min(best, (float(weight @ (excess - size * law) ** 2), size, fold))
    return best[1], best[2]
