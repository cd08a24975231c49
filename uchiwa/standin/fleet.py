"""Every stand-in car by its id."""

from __future__ import annotations

from uchiwa.core.errors import BadInput
from uchiwa.standin.cars import CARS, StandInCar
from uchiwa.standin.special_cars import SPECIAL

FLEET: dict[str, StandInCar] = CARS | SPECIAL


def car_named(name: str) -> StandInCar:
    """The stand-in car of this id.

    Raises:
        BadInput: there is none; the message lists what there is.
    """
    if name not in FLEET:
        raise BadInput(f"there is no stand-in car “{name}”", advice=f"the cars are {', '.join(FLEET)}")
    return FLEET[name]
