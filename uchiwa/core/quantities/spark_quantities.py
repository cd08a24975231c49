"""Spark and knock, and the names loggers give them."""

from __future__ import annotations

from uchiwa.core.quantities.quantity import Quantity

CYLINDERS = 12
"""As many cylinders' own channels are known."""
KNOCK_BY_CYLINDER = tuple(f"knock_retard_cylinder_{number}" for number in range(1, CYLINDERS + 1))

QUANTITIES = (
    Quantity(
        "spark_advance",
        "deg",
        "spark advance",
        -40,
        70,
        (
            "spark",
            "ignition advance",
            "timing advance",
            "spark timing",
            "ign timing",
            "timing",
            "ignition timing",
            "zündwinkel",
            "zundwinkel",
            "ignition angle",
            "avance allumage",
            "spark angle",
        ),
    ),
    Quantity(
        "knock_retard",
        "deg",
        "knock retard",
        0,
        40,
        (
            "retard",
            "knock correction",
            "spark retard",
            "knock control retard",
            "klopfrücknahme",
            "ignition retard knock",
            "kr",
        ),
    ),
    *(Quantity(one, "deg", f"knock retard, cylinder {at}", 0, 40) for at, one in enumerate(KNOCK_BY_CYLINDER, 1)),
    Quantity(
        "learned_knock_retard",
        "deg",
        "learned knock retard",
        0,
        40,
        (
            "knock retard learned",
            "knock learn",
            "knock learned",
            "learned knock",
            "learned knock correction",
            "learned spark retard",
            "long term knock retard",
            "knock retard long term",
            "knock adaptation",
            "knock adaption",
            "adaptive knock retard",
            "klopfadaption",
        ),
    ),
    Quantity(
        "knock_level",
        "V",
        "knock level",
        0,
        10,
        ("knock", "knock voltage", "knock sensor", "knock signal", "klopfsignal"),
    ),
    Quantity("knock_limit", "V", "knock limit", 0, 10, ("knock threshold",)),
    Quantity("knock_count", "1", "knock count", 0, 1e9, ("knock events",)),
    Quantity(
        "low_octane_flag", "1", "low octane", 0, 1, ("low octane", "low octane fallback", "octane fallback active")
    ),
)
