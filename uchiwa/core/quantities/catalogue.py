"""What can be measured: the quantities, their canonical units, plausible ranges and the names loggers give them."""

from __future__ import annotations

from uchiwa.core.quantities import car_quantities, engine_quantities, mixture_quantities, spark_quantities
from uchiwa.core.quantities.quantity import Quantity

_ALL = (
    *engine_quantities.QUANTITIES,
    *mixture_quantities.QUANTITIES,
    *spark_quantities.QUANTITIES,
    *car_quantities.QUANTITIES,
)
QUANTITIES: dict[str, Quantity] = {quantity.id: quantity for quantity in _ALL}
