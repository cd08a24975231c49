"""Rules about idle, warm-up and clamps: what must not leave the shop with a draft."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from uchiwa.core.proposals.clamp.evidence import axes_of
from uchiwa.core.quantities.units import convert
from uchiwa.core.review.concern import Concern, Weight, cells_of, many, unit_words
from uchiwa.core.review.reviewed import ReviewedDraft
from uchiwa.core.tables.table import Table

_WARM_FROM = 80.0
_HUNDRED = 100.0
_GRAIN = 0.05
_SHORT = 0.005
_FALLING_ROLES = ("warmup_factor", "idle_airflow")


def _over_coolant(table: Table) -> bool:
    return table.x.quantity == "coolant_temperature"


def warm_factor(it: ReviewedDraft) -> Iterator[Concern]:
    """A warm-up factor that is not 100 % once the engine is warm, or below it anywhere."""
    for _, after, _ in it.changed("warmup_factor"):
        if not _over_coolant(after):
            continue
        percent = convert(after.grid, after.unit, "%")
        warm = convert(after.x.breakpoints, after.x.unit, "degC") >= _WARM_FROM
        warm[-1] = True
        wrong = ((np.abs(percent - _HUNDRED) > _GRAIN) & warm[None, :]) | (percent < _HUNDRED - _GRAIN)
        if wrong.any():
            most = float(percent[wrong][np.argmax(np.abs(percent[wrong] - _HUNDRED))])
            sentence = f"{after.title}: {most:.1f} % in {many(int(wrong.sum()))} where it is to be 100 % once warm, and never below"
            yield Concern("warm_factor", Weight.ANSWER, sentence, after.id, cells_of(wrong), f"{most:.2f}")


def rises_with_temperature(it: ReviewedDraft) -> Iterator[Concern]:
    """A warm-up factor or an idle airflow that rises with temperature."""
    for role in _FALLING_ROLES:
        for _, after, _ in it.changed(role):
            if not _over_coolant(after):
                continue
            rise = np.diff(after.grid, axis=1)
            if not (rise > 0).any():
                continue
            cells = np.zeros(after.shape, dtype=np.bool_)
            cells[:, 1:] = rise > 0
            most = float(rise.max())
            unit = unit_words(after.unit)
            sentence = f"{after.title}: rises with temperature, by {most:.{after.decimals}f}{unit} at most, in {many(int(cells.sum()))}"
            yield Concern("rises_with_temperature", Weight.ANSWER, sentence, after.id, cells_of(cells), f"{most:.4f}")


def gear_left_behind(it: ReviewedDraft) -> Iterator[Concern]:
    """An automatic's idle airflow that is changed in neutral and has no row in gear, or one that is not above neutral."""
    if not it.automatic:
        return
    for _, after, changed in it.changed("idle_airflow"):
        if after.y is None:
            curves = it.draft.by_role("idle_airflow")
            if len(curves) < 2:
                sentence = f"{after.title}: the gearbox is automatic, and there is no airflow for idle in gear"
                yield Concern("no_gear_row", Weight.ANSWER, sentence, after.id)
            continue
        if after.y.quantity != "in_gear":
            continue
        geared, neutral = int(np.argmax(after.y.breakpoints)), int(np.argmin(after.y.breakpoints))
        low = np.zeros(after.shape, dtype=np.bool_)
        low[geared] = after.grid[geared] <= after.grid[neutral]
        if low.any() and changed.any():
            sentence = f"{after.title}: in gear no more air than in neutral in {many(int(low.sum()))}; in gear the engine has more to do"
            yield Concern("gear_below_neutral", Weight.ANSWER, sentence, after.id, cells_of(low))


def clamp_below_signal(it: ReviewedDraft) -> Iterator[Concern]:
    """A clamp below a signal that the car reached before boost: it would be cut where it never had boost."""
    for _, after, _ in it.changed("airflow_clamp"):
        reached = it.reached.get(after.id)
        if reached is None:
            continue
        speeds, signals = axes_of(after)
        speed, signal = np.array(reached[0]), np.array(reached[1])
        highest = np.full(speed.shape, signals.breakpoints[-1])
        most = after.lookup(*((speed, highest) if after.x is speeds else (highest, speed)))
        short = most < signal * (1.0 - _SHORT)
        if short.any():
            worst = int(np.argmax(np.where(short, signal - most, -np.inf)))
            sentence = (
                f"{after.title}: lets out {most[worst]:.2f} at most at {speed[worst]:.0f} {speeds.unit}, where the car gave "
                f"{signal[worst]:.2f} {signals.unit} before it had boost"
            )
            yield Concern("clamp_below_signal", Weight.ANSWER, sentence, after.id, state=f"{most[worst]:.3f}")
