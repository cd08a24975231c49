"""The car file: what has to be known of a car before it is briefed, logged and corrected."""

from __future__ import annotations

import json
from typing import Annotated, Any, Literal, Self

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from uchiwa.core.airflow.injectors import check_dead_times
from uchiwa.core.cars.fuels import FUELS, Fuel
from uchiwa.core.cars.sensors import PRESSURE_LINES, WIDEBAND_LINES, Line, fit_line
from uchiwa.core.errors import BadInput
from uchiwa.core.logs.recognition.knowledge import Assignment, Knowledge
from uchiwa.core.pulls.road import RoadLoad

Positive = Annotated[float, Field(gt=0, le=1e5, allow_inf_nan=False)]
Altitude = Annotated[float, Field(ge=-500, le=6000, allow_inf_nan=False)]
Point = tuple[
    Annotated[float, Field(ge=-1, le=16, allow_inf_nan=False)],
    Annotated[float, Field(ge=-10, le=1000, allow_inf_nan=False)],
]
DeadTime = tuple[
    Annotated[float, Field(ge=4, le=60, allow_inf_nan=False)], Annotated[float, Field(ge=0, le=10, allow_inf_nan=False)]
]
OWN = "own"


class CarFile(BaseModel):
    """A car as far as the work needs it.

    Attributes:
        displacement: L.
        altitude: of the place where it is driven, m: gives the barometer where none is logged (ISA, ISO 2533).
        cylinders: number of them.
        aspiration: how air gets in.
        air_model: by what the controller meters air; *blended* if by both.
        fuel: id of the fuel in the tank, see `fuels`.
        injector_flow: g/s of one injector at the rated pressure; None if not known.
        injector_dead_time: ms at 14 V; None if not known.
        dead_times: (volts, ms) of the injectors; they go before the single dead time.
        injector_pressure: pressure difference at which the flow is stated, kPa; None if not known.
        rail_pressure: of the fuel above ambient, kPa, where the regulator does not follow the intake pressure; None if it
            does, so that the pressure across the injectors stays. A recorded fuel pressure goes before it.
        meter: what the airflow meter puts out.
        pressure_sensor: id of the intake pressure sensor's line, `own` for `pressure_points`, or `none`.
        pressure_points: measured (volts, kPa) of an own sensor.
        wideband: how λ reaches the logger: not at all, as a number, or as volts.
        wideband_line: id of the line for volts, or `own` for `wideband_points`.
        wideband_points: measured (volts, λ).
        gauge_ratio: ratio by which a gauge turns its λ into AFR; None: the fuel's own.
        banks: of cylinders with a mixture sensor each.
        knock_sensor: whether the controller listens for knock.
        automatic: whether the gearbox shifts by itself.
        mass: of the car with driver and fuel, kg; None if not known, and then a road log tells no torque.
        drag_area: CdA, m².
        rolling: coefficient of rolling resistance.
        tyre_radius: rolling, m; with `ratios` it stands in for a road speed that was not recorded.
        ratios: overall, engine to wheel, from the first gear on.
        engine_inertia: of what turns with the engine (crank, flywheel, clutch), kg·m²; None: a usual one is taken.
        wheel_inertia: of all wheels together, kg·m²; None: a usual one is taken.
        logger: what records.
        channel_limit: how many channels the logger records at once; None for no limit.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    displacement: Positive | None = None
    altitude: Altitude | None = None
    cylinders: Annotated[int, Field(ge=1, le=16)] = 4
    aspiration: Literal["natural", "turbo", "supercharger"] = "natural"
    air_model: Literal["speed_density", "meter", "blended"] = "speed_density"
    fuel: Literal["petrol", "e10", "e85", "flex", "ethanol"] = "petrol"
    injector_flow: Positive | None = None
    injector_dead_time: Annotated[float, Field(ge=0, le=10)] | None = None
    dead_times: Annotated[tuple[DeadTime, ...], Field(max_length=20)] = ()
    injector_pressure: Annotated[float, Field(ge=50, le=50_000, allow_inf_nan=False)] | None = None
    rail_pressure: Annotated[float, Field(ge=50, le=50_000, allow_inf_nan=False)] | None = None
    meter: Literal["none", "frequency", "voltage", "mass"] = "none"
    pressure_sensor: str = "none"
    pressure_points: Annotated[tuple[Point, ...], Field(max_length=20)] = ()
    wideband: Literal["none", "digital", "voltage"] = "digital"
    wideband_line: str = "0-5=0.50-1.50"
    wideband_points: Annotated[tuple[Point, ...], Field(max_length=20)] = ()
    gauge_ratio: Annotated[float, Field(ge=5, le=20)] | None = None
    banks: Literal[1, 2] = 1
    knock_sensor: bool = True
    automatic: bool = False
    mass: Annotated[float, Field(ge=50, le=60_000, allow_inf_nan=False)] | None = None
    drag_area: Annotated[float, Field(ge=0.05, le=15, allow_inf_nan=False)] = 0.65
    rolling: Annotated[float, Field(ge=0, le=0.1, allow_inf_nan=False)] = 0.013
    tyre_radius: Annotated[float, Field(ge=0.1, le=1.0, allow_inf_nan=False)] | None = None
    ratios: Annotated[tuple[Annotated[float, Field(gt=0.3, le=60)], ...], Field(max_length=12)] = ()
    engine_inertia: Annotated[float, Field(ge=0.0, le=20.0, allow_inf_nan=False)] | None = None
    wheel_inertia: Annotated[float, Field(ge=0.0, le=500.0, allow_inf_nan=False)] | None = None
    logger: Annotated[str, Field(max_length=80)] = ""
    channel_limit: Annotated[int, Field(ge=2, le=500)] | None = None

    @classmethod
    def read(cls, data: Any) -> Self:
        """A car file from plain data.

        Raises:
            BadInput: a field is unknown or cannot be what it says; the first is named.
        """
        try:
            car = cls.model_validate(data)
        except ValidationError as error:
            first = error.errors()[0]
            place = ".".join(str(part) for part in first["loc"])
            raise BadInput(first["msg"].lower(), where=place or "car file", advice="correct this field") from error
        if car.wideband == "voltage":
            _ = car.mixture_line
        _ = car.pressure_line
        check_dead_times(car.dead_times)
        return car

    @classmethod
    def loads(cls, text: str) -> Self:
        """A car file as it is stored."""
        return cls.read(json.loads(text or "{}"))

    @property
    def boosted(self) -> bool:
        """Whether the intake can be above ambient pressure."""
        return self.aspiration != "natural"

    def road_load(self, slope: float = 0.0) -> RoadLoad | None:
        """What the car's motion takes on a road of this slope (rise over run); None if its mass is not known."""
        if self.mass is None:
            return None
        return RoadLoad(
            self.mass, self.drag_area, self.rolling, slope, self.tyre_radius, self.ratios, self.engine_inertia,
            self.wheel_inertia,
        )  # fmt: skip

    @property
    def known_fuel(self) -> Fuel:
        """The fuel."""
        return FUELS[self.fuel]

    @property
    def mixture_line(self) -> Line | None:
        """λ by volts, where the wideband comes as volts."""
        if self.wideband != "voltage":
            return None
        if self.wideband_line == OWN:
            return fit_line(self.wideband_points).line
        if self.wideband_line not in WIDEBAND_LINES:
            raise BadInput(
                f"no wideband line is called “{self.wideband_line}”",
                where="wideband_line",
                advice="choose one of the list",
            )
        return WIDEBAND_LINES[self.wideband_line].line

    @property
    def pressure_line(self) -> Line | None:
        """kPa by volts of the intake pressure sensor, if one is given."""
        if self.pressure_sensor == "none":
            return None
        if self.pressure_sensor == OWN:
            return fit_line(self.pressure_points).line
        if self.pressure_sensor not in PRESSURE_LINES:
            raise BadInput(
                f"no pressure sensor is called “{self.pressure_sensor}”",
                where="pressure_sensor",
                advice="choose one of the list",
            )
        return PRESSURE_LINES[self.pressure_sensor].line

    def knowledge(self, assignments: dict[str, Assignment] | None = None) -> Knowledge:
        """What the recogniser is told of this car, with what people said about its channels."""
        lines: dict[str, Line] = {}
        if (line := self.mixture_line) is not None:
            lines["mixture_voltage"] = line
        if (line := self.pressure_line) is not None:
            lines["pressure_voltage"] = line
        barometer = None if self.altitude is None else round(101.325 * (1.0 - 2.25577e-5 * self.altitude) ** 5.25588, 2)
        return Knowledge(
            self.known_fuel, self.gauge_ratio, assignments or {}, lines, self.displacement, barometer
        )  # fmt: skip
