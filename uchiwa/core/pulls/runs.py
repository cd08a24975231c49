"""Pulls made comparable: their readings in bands of engine speed, torque as it would be at one pressure and temperature."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from uchiwa.core.airflow.speed_density import ZERO_CELSIUS
from uchiwa.core.knock.retard import total_retard
from uchiwa.core.logs.log import FloatArray
from uchiwa.core.pulls.pull import Pull

LEAST_SAMPLES = 4
AIR_EXPONENT = 0.8
USUAL_BAROMETER = 100.0
_READ = (
    "spark_advance",
    "manifold_pressure",
    "intake_air_temperature",
    "lambda_measured",
    "knock_retard",
    "boost_pressure",
)


@dataclass(frozen=True, eq=False)
class Bands:
    """Runs in bands of engine speed; arrays of shape (runs, bands), NaN where a run was not.

    Attributes:
        centres: rpm; shape (bands,).
        edges: rpm; shape (bands + 1,).
        torque: mean, Nm, as measured.
        level: mean torque at the reference pressure and temperature of the band, Nm.
        spark, pressure, air, mixture, retard, boost: means of what was recorded (deg, kPa, degC, λ, deg, kPa).
        denseness: ln of the intake pressure over the reference; 0 if not recorded.
        warmth: ln of the intake temperature over the reference, kelvin by kelvin; 0 if not recorded.
        reference: of pressure (kPa) and intake temperature (degC) by band, shape (bands, 2); NaN if not recorded.
        measured: of each run, how; only runs measured alike can be compared.
        normalised: in words, what the level has been freed of.
    """

    centres: FloatArray
    edges: FloatArray
    torque: FloatArray
    level: FloatArray
    spark: FloatArray
    pressure: FloatArray
    air: FloatArray
    mixture: FloatArray
    retard: FloatArray
    boost: FloatArray
    denseness: FloatArray
    warmth: FloatArray
    reference: FloatArray
    measured: tuple[str, ...]
    normalised: str


def band_edges(centres: FloatArray) -> FloatArray:
    """Edges midway between centres; the outer bands are as wide as their inner halves."""
    middle = (centres[1:] + centres[:-1]) / 2
    return np.concatenate([[centres[0] - (middle[0] - centres[0])], middle, [centres[-1] + (centres[-1] - middle[-1])]])


def even_bands(pulls: Sequence[Pull], width: float = 500.0) -> FloatArray:
    """Centres of bands `width` rpm wide over the speeds that were run."""
    speeds = [pull.speed[pull.known] for pull in pulls if pull.known.any()]
    if not speeds:
        return np.array([2000.0, 2000.0 + width])
    low, high = min(float(speed.min()) for speed in speeds), max(float(speed.max()) for speed in speeds)
    first, last = math.floor(low / width), math.ceil(high / width)
    return np.arange(first, max(last, first + 2), dtype=np.float64) * width + width / 2


def friction(speed: FloatArray, displacement: float | None) -> FloatArray:
    """Torque that the engine loses to its own friction, Nm, for the share of torque that does not follow the air.

    fmep = 0.97 + 0.15·N/1000 + 0.05·(N/1000)² bar (J. B. Heywood, *ICE Fundamentals*, equation 13.6); torque =
    fmep·V / 4π. Zero if the displacement (L) is not known.
    """
    if displacement is None:
        return np.zeros(speed.shape)
    thousands = speed / 1000.0
    bar = 0.97 + 0.15 * thousands + 0.05 * thousands**2
    torque: FloatArray = bar * 1e5 * displacement / 1000.0 / (4.0 * math.pi)
    return torque


def bands_of(pulls: Sequence[Pull], centres: FloatArray, displacement: float | None = None) -> Bands:
    """Pulls in bands, and their torque as it would be at each band's median pressure and intake temperature.

    At one speed and spark the air that a cylinder takes follows its pressure, and the torque before friction follows
    the air: level = (T + F)·(p₀/p)·(θ/θ₀)^0.8 − F, θ in kelvin. The exponent lies between the gas law's 1 and the 0.5 of
    SAE J1349, for the charge is warmed by the walls as well. Runs without pressure or temperature stay as they are.

    Args:
        pulls: with torque.
        centres: of the bands, rpm, rising; shape (bands,).
        displacement: of the engine, L, for its friction; None if not known.
    """
    edges = band_edges(centres)
    shape = (len(pulls), centres.size)
    torque = np.full(shape, np.nan)
    told = {one: np.full(shape, np.nan) for one in _READ}
    for row, pull in enumerate(pulls):
        place = np.searchsorted(edges, pull.speed, side="right") - 1
        base = _with_pressure(pull)
        for band in range(centres.size):
            here = pull.known & (place == band)
            # A band counts if the run went through most of it.
            if int(here.sum()) < LEAST_SAMPLES or np.ptp(pull.speed[here]) < 0.5 * (edges[band + 1] - edges[band]):
                continue
            torque[row, band] = pull.torque[here].mean()
            for quantity in _READ:
                values = base.get(quantity)
                if values is not None and np.isfinite(values[here]).any():
                    told[quantity][row, band] = float(np.nanmean(values[here]))
    pressure, air = told["manifold_pressure"], told["intake_air_temperature"]
    reference = np.column_stack([_median(np.where(np.isfinite(torque), one, np.nan)) for one in (pressure, air)])
    lost = friction(centres, displacement)
    with np.errstate(invalid="ignore"):
        by_pressure = np.where(np.isfinite(pressure), reference[:, 0] / pressure, 1.0)
        warmer = np.where(np.isfinite(air), (air + ZERO_CELSIUS) / (reference[:, 1] + ZERO_CELSIUS), 1.0)
    level = (torque + lost) * by_pressure * warmer**AIR_EXPONENT - lost
    freed = [
        word for word, values in (("pressure", pressure), ("intake temperature", air)) if np.isfinite(values).any()
    ]
    return Bands(
        centres, edges, torque, level, told["spark_advance"], pressure, air, told["lambda_measured"],
        told["knock_retard"], told["boost_pressure"], -np.log(by_pressure), np.log(warmer), reference, tuple(one.measured for one in pulls), " and ".join(freed),
    )  # fmt: skip


def _median(values: FloatArray) -> FloatArray:
    known = np.isfinite(values).any(axis=0)
    result = np.full(values.shape[1], np.nan)
    if known.any():
        result[known] = np.nanmedian(values[:, known], axis=0)
    return result


def _with_pressure(pull: Pull) -> dict[str, FloatArray]:
    """A pull's readings; retard with what was learned, and of boost alone, intake pressure over a usual barometer."""
    told = dict(pull.signals)
    retard = total_retard(told)
    if retard is not None:
        told["knock_retard"] = retard
    if "manifold_pressure" not in told and "boost_pressure" in told:
        told["manifold_pressure"] = told["boost_pressure"] + USUAL_BAROMETER
    return told
