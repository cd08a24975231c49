"""Logs of engines of the family in one unit system or another, labelled rightly, not at all, wrongly or in part."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from uchiwa.core.logs.log import Channel, FloatArray, Log, Raster
from uchiwa.core.logs.recognition.knowledge import Knowledge
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.standin.family.member import member
from uchiwa.standin.family.physics import Physics, Recorder, Variant

NAMES = {
    "engine_speed": ("RPM", "Engine speed"),
    "manifold_pressure": ("MAP", "Intake pressure"),
    "barometric_pressure": ("Baro",),
    "coolant_temperature": ("ECT", "Coolant"),
    "intake_air_temperature": ("IAT", "Manifold air temperature"),
    "throttle_position": ("TPS", "Throttle"),
    "lambda_measured": ("Lambda", "Wideband"),
    "lambda_target": ("Lambda target", "Commanded lambda"),
    "short_term_trim": ("STFT",),
    "long_term_trim": ("LTFT",),
    "ethanol_content": ("Ethanol",),
    "airflow": ("MAF",),
}
_SYSTEMS: dict[str, dict[str, tuple[str, ...]]] = {
    "metric": {
        "manifold_pressure": ("kPa", "bar", "mbar"), "barometric_pressure": ("kPa", "mbar"), "coolant_temperature": ("°C",),
        "intake_air_temperature": ("°C",), "airflow": ("g/s", "kg/h"),
    },
    "imperial": {
        "manifold_pressure": ("psi", "inHg", "psi gauge"), "barometric_pressure": ("psi", "inHg"),
        "coolant_temperature": ("°F",), "intake_air_temperature": ("°F",), "airflow": ("lb/min", "g/s"),
    },
}  # fmt: skip
_ANY = {
    "lambda_measured": ("1", "AFR"), "lambda_target": ("1", "AFR"), "short_term_trim": ("%", "share", "factor"),
    "throttle_position": ("%", "share"), "ethanol_content": ("%", "share"),
}  # fmt: skip
_PER = {
    "kPa": 1.0, "bar": 100.0, "mbar": 0.1, "psi": 6.894757, "inHg": 3.386389, "psi gauge": 6.894757, "g/s": 1.0,
    "kg/h": 1 / 3.6, "lb/min": 7.559873,
}  # fmt: skip


@dataclass(frozen=True, eq=False)
class Trap:
    """A log with what must come out of it.

    Attributes:
        words: what it shows.
        log: as it was read, not yet recognised.
        truth: canonical readings by quantity.
        knowledge: of the car.
    """

    words: str
    log: Log
    truth: dict[str, FloatArray]
    knowledge: Knowledge


def written(values: FloatArray, quantity: str, unit: str, barometer: float) -> FloatArray:
    """Canonical readings as a logger writes them in a unit."""
    if unit == "°F":
        return values * 1.8 + 32.0
    if unit == "AFR":
        return values * 14.7
    if unit == "share":
        return values / 100.0
    if unit == "factor":
        return 1.0 + values / 100.0
    if unit == "psi gauge":
        return (values - barometer) / _PER[unit]
    return values / _PER.get(unit, 1.0)


def traps(count: int = 240) -> list[Trap]:
    """So many logs, drawn by number."""
    found = []
    for number in range(count):
        rng = np.random.default_rng([number, 77])
        kind = Variant("plain", Physics(meter=False), Recorder(rate=10.0, mixture_rate=10.0))
        engine = member(number, float(rng.choice([1.5, 4.0, 10.0])), kind)
        raster = engine.logs[0].rasters[0]
        truth = {channel.quantity: channel.values for channel in raster.channels if channel.quantity in NAMES}
        speed, pressure = truth["engine_speed"], truth["manifold_pressure"]
        truth["airflow"] = 0.8 * 2.0 * speed / 120.0 * pressure / 100.0 * 1.16
        if number % 3 == 0:
            truth["ethanol_content"] = np.full(speed.size, float(rng.uniform(20, 80)))
        labels = ("right", "absent", "partial", "wrong")[number % 4]
        found.append(_trap(number, labels, truth, raster.time, rng))
    return found


def _trap(number: int, labels: str, truth: dict[str, FloatArray], time: FloatArray, rng: np.random.Generator) -> Trap:
    system = str(rng.choice(list(_SYSTEMS)))
    barometer = float(truth["barometric_pressure"][0])
    trims = str(rng.choice(_ANY["short_term_trim"], p=[0.7, 0.15, 0.15]))
    mixture = str(rng.choice(_ANY["lambda_measured"]))
    chosen: dict[str, str] = {}
    for quantity in truth:
        options = _SYSTEMS[system].get(quantity) or _ANY.get(quantity) or (QUANTITIES[quantity].unit,)
        unit = str(rng.choice(options))
        if quantity.endswith("_trim"):
            unit = trims
        elif quantity.startswith("lambda"):
            unit = mixture
        elif quantity in ("throttle_position", "ethanol_content"):
            unit = str(rng.choice(options, p=[0.75, 0.25]))
        chosen[quantity] = unit
    wrong = str(rng.choice(["manifold_pressure", "coolant_temperature", "lambda_measured", "short_term_trim"]))
    channels = []
    for quantity, unit in chosen.items():
        label = {"share": "", "1": "", "factor": "factor", "psi gauge": "psig"}.get(unit, unit)
        if quantity == "engine_speed":
            label = "rpm"
        elif labels == "absent" or (labels == "partial" and rng.random() < 0.5):
            label = ""
        elif labels == "wrong" and quantity == wrong:
            label = _mislabelled(quantity, unit)
        name = str(rng.choice(NAMES[quantity]))
        if quantity.startswith("lambda") and unit == "AFR" and not label and labels != "wrong":
            name = "AFR" if quantity == "lambda_measured" else "AFR target"
        values = np.round(written(truth[quantity], quantity, unit, barometer), 4)
        channels.append(Channel(name, label, values, source_unit=label))
    words = f"{number}: {system}, labels {labels}" + (f" on {wrong}" if labels == "wrong" else "")
    return Trap(words, Log(words, (Raster(time, tuple(channels)),)), truth, Knowledge(displacement=2.0))


def _mislabelled(quantity: str, unit: str) -> str:
    """Another unit than the one that is meant."""
    other = {
        "manifold_pressure": {
            "kPa": "psi",
            "bar": "kPa",
            "mbar": "kPa",
            "psi": "kPa",
            "inHg": "kPa",
            "psi gauge": "psi",
        },
        "coolant_temperature": {"°C": "°F", "°F": "°C"},
        "lambda_measured": {"1": "AFR", "AFR": "λ"},
        "short_term_trim": {"%": "factor", "share": "%", "factor": "%"},
    }
    return other[quantity][unit]


def without_knowledge(trap: Trap) -> Trap:
    """The same of a car of which nothing is known."""
    return replace(trap, knowledge=Knowledge())
