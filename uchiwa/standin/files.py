"""The stand-in cars' own car files: what their owners would tell of them."""

from __future__ import annotations

from uchiwa.core.cars.car_file import CarFile

PIKE_FILE = CarFile(
    displacement=1.998, cylinders=4, aspiration="turbo", injector_flow=6.9, injector_dead_time=0.85,
    pressure_sensor="3bar", wideband="digital", logger="bench logger",
)  # fmt: skip
TERN_FILE = CarFile(
    displacement=3.189, cylinders=6, air_model="meter", injector_flow=4.4, injector_dead_time=0.85, meter="frequency",
    wideband="none", banks=2, logger="dash recorder",
)  # fmt: skip
WREN_FILE = CarFile(
    displacement=1.398, cylinders=4, aspiration="supercharger", fuel="flex", injector_flow=6.2, injector_dead_time=0.85,
    pressure_sensor="2bar", wideband="digital", logger="pocket logger", channel_limit=14,
)  # fmt: skip
