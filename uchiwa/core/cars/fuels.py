"""Fuels and their stoichiometric air-fuel ratio, which moves with the ethanol content."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TypeVar

import numpy as np

from uchiwa.core.logs.log import FloatArray

PETROL_STOICHIOMETRIC = 14.7
ETHANOL_STOICHIOMETRIC = 9.0
_PETROL_DENSITY = 0.745
_ETHANOL_DENSITY = 0.789


@dataclass(frozen=True)
class Fuel:
    """A fuel.

    Attributes:
        id, title: its identifier and the words shown.
        ethanol_percent: by volume.
        flexible: whether the content varies from fill to fill, so that a logged content counts.
    """

    id: str
    title: str
    ethanol_percent: float
    flexible: bool = False

    @property
    def stoichiometric(self) -> float:
        """Air-fuel ratio at λ = 1, mass of air per mass of fuel."""
        return stoichiometric_of(self.ethanol_percent)


def stoichiometric_ratio(ethanol_percent: FloatArray) -> FloatArray:
    """Stoichiometric air-fuel ratio of petrol with ethanol.

    Args:
        ethanol_percent: share by volume, %; any shape.

    Both fuels' ratios (14.7 and 9.0) weighted by mass, with densities of 0.745 and 0.789 kg/L (Heywood, *ICE
    Fundamentals*, appendix D).
    """
    return np.asarray(_by_mass(np.clip(ethanol_percent, 0.0, 100.0) / 100.0))


def stoichiometric_of(ethanol_percent: float) -> float:
    """`stoichiometric_ratio` of one share."""
    return _by_mass(min(max(ethanol_percent, 0.0), 100.0) / 100.0)


Share = TypeVar("Share", float, FloatArray)


def _by_mass(volume: Share) -> Share:
    ethanol, petrol = volume * _ETHANOL_DENSITY, (1.0 - volume) * _PETROL_DENSITY
    return (ethanol * ETHANOL_STOICHIOMETRIC + petrol * PETROL_STOICHIOMETRIC) / (ethanol + petrol)


FUELS: dict[str, Fuel] = {
    fuel.id: fuel
    for fuel in (
        Fuel("petrol", "petrol", 0.0),
        Fuel("e10", "petrol with 10 % ethanol", 10.0),
        Fuel("e85", "E85", 85.0),
        Fuel("flex", "flex fuel, petrol to E85", 0.0, flexible=True),
        Fuel("ethanol", "pure ethanol", 100.0),
    )
}
