"""The standard brief: which channels and drives a car and a purpose call for, cut to the logger, and patterns fitted."""

from __future__ import annotations

from collections.abc import Iterable

from uchiwa.core.briefs.brief import MUST, NICE, SHOULD, Acceptance, Brief, ChannelAsk, DriveAsk, Purpose
from uchiwa.core.briefs.coverage import cruise_cells
from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.logs.drives import DriveKind
from uchiwa.core.tables.table import Table


def _axes(table: Table | None) -> set[str]:
    if table is None:
        return set()
    return {axis.quantity for axis in (table.x, table.y) if axis is not None}


def _channels(car: CarFile, purpose: Purpose, table: Table | None) -> Iterable[ChannelAsk]:
    """Every channel worth asking for on this car, most needed first."""
    axes = _axes(table)
    full = purpose == "full_load"
    yield ChannelAsk(
        quantity="engine_speed", reason="places every sample in a table", loss="nothing can be placed", priority=MUST
    )
    if car.air_model != "meter" or car.boosted:
        yield ChannelAsk(
            quantity="manifold_pressure",
            reason="the load axis of the tables"
            if "manifold_pressure" in axes or "pressure_ratio" in axes
            else "load and boost",
            loss="no load axis",
            priority=MUST,
        )
    if car.air_model != "speed_density":
        quantity = {"voltage": "airflow_voltage", "mass": "airflow"}.get(car.meter, "airflow_frequency")
        yield ChannelAsk(
            quantity=quantity,
            reason="the axis of the airflow meter's curve",
            loss="the meter's curve cannot be corrected",
            priority=MUST,
        )
    if car.wideband == "voltage":
        yield ChannelAsk(
            quantity="mixture_voltage",
            reason="the mixture, by the sensor's line",
            loss="no measured mixture",
            priority=MUST,
        )
    elif car.wideband == "digital":
        yield ChannelAsk(
            quantity="lambda_measured", reason="the measured mixture", loss="no measured mixture", priority=MUST
        )
    if car.fuel == "flex":
        yield ChannelAsk(
            quantity="ethanol_content",
            reason="turns AFR into λ as the fuel in the tank changes",
            loss="AFR cannot be turned into λ",
            priority=MUST,
        )
    yield ChannelAsk(
        quantity="lambda_target",
        reason="what the controller wants",
        loss="error against target is a guess",
        priority=MUST,
    )
    trims = MUST if car.wideband == "none" else SHOULD
    yield ChannelAsk(
        quantity="short_term_trim",
        reason="the only fuel evidence without a wideband" if trims == MUST else "closed-loop fuel evidence",
        loss="closed-loop samples say nothing",
        priority=trims,
    )
    yield ChannelAsk(
        quantity="long_term_trim",
        reason="what the controller has learned",
        loss="learned fuel stays hidden",
        priority=trims,
    )
    if car.banks == 2:
        yield ChannelAsk(
            quantity="short_term_trim_2", reason="bank 2 on its own", loss="banks cannot be compared", priority=trims
        )
        yield ChannelAsk(
            quantity="long_term_trim_2", reason="bank 2 on its own", loss="banks cannot be compared", priority=trims
        )
    yield ChannelAsk(
        quantity="coolant_temperature",
        reason="tells a warm engine from a cold one",
        loss="cold samples cannot be left out",
        priority=MUST,
    )
    yield ChannelAsk(
        quantity="throttle_position",
        reason="transients, pulls and coasting",
        loss="transients cannot be left out",
        priority=MUST,
    )
    if "pressure_ratio" in axes:
        yield ChannelAsk(
            quantity="barometric_pressure",
            reason="the pressure ratio of the table's axis",
            loss="no load axis",
            priority=MUST,
        )
    yield ChannelAsk(
        quantity="intake_air_temperature",
        reason="charge temperature and heat soak",
        loss="heat soak goes unnoticed",
        priority=SHOULD,
    )
    yield ChannelAsk(
        quantity="loop_state",
        reason="closed or open loop",
        loss="loop state is guessed from the trims",
        priority=MUST if car.wideband == "none" else SHOULD,
    )
    if car.knock_sensor:
        yield ChannelAsk(
            quantity="knock_retard",
            reason="knock as the controller sees it",
            loss="knock goes unseen",
            priority=MUST if full else SHOULD,
        )
    yield ChannelAsk(
        quantity="injector_duty",
        reason="how near the injectors are to their end",
        loss="the injectors' end goes unnoticed",
        priority=SHOULD if full else NICE,
    )
    yield ChannelAsk(
        quantity="spark_advance",
        reason="spark at each moment",
        loss="spark is taken from the table",
        priority=SHOULD if full else NICE,
    )
    if car.boosted and "pressure_ratio" not in axes:
        yield ChannelAsk(
            quantity="barometric_pressure",
            reason="boost above the air outside",
            loss="boost is against standard air",
            priority=NICE,
        )
    yield ChannelAsk(
        quantity="fuel_pressure",
        reason="shows a tired pump under load",
        loss="a tired pump goes unnoticed",
        priority=SHOULD if full else NICE,
    )
    if purpose == "idle":
        yield ChannelAsk(
            quantity="idle_airflow_target",
            reason="the idle airflow the controller asks for",
            loss="idle airflow cannot be learned",
            priority=SHOULD,
        )
        yield ChannelAsk(
            quantity="after_start_active",
            reason="where after-start enrichment ends",
            loss="its end is guessed",
            priority=SHOULD,
        )
    yield ChannelAsk(
        quantity="vehicle_speed", reason="gears, coasting and standing still", loss="gears are not known", priority=NICE
    )
    yield ChannelAsk(
        quantity="injector_pulse", reason="fuel actually injected", loss="no third estimate of air", priority=NICE
    )
    yield ChannelAsk(
        quantity="battery_voltage",
        reason="charging and ground faults",
        loss="electrical faults go unnoticed",
        priority=NICE,
    )
    yield ChannelAsk(
        quantity="overrun_cut_active",
        reason="overrun fuel cut",
        loss="the cut is guessed from the injectors",
        priority=NICE,
    )
    if car.automatic:
        yield ChannelAsk(
            quantity="in_gear",
            reason="in gear or not at idle",
            loss="idle in gear is mixed with neutral",
            priority=NICE,
        )


def cut(channels: Iterable[ChannelAsk], limit: int | None) -> tuple[ChannelAsk, ...]:
    """As many channels as the logger takes, most needed first; what gives way is marked, not dropped."""
    ranked = sorted(enumerate(channels), key=lambda entry: (entry[1].priority, entry[0]))
    result = [ask.model_copy(update={"kept": limit is None or place < limit}) for place, (_, ask) in enumerate(ranked)]
    return tuple(result)


def _drives(purpose: Purpose, table: Table | None) -> Iterable[DriveAsk]:
    if purpose == "idle":
        yield DriveAsk(
            kind=DriveKind.COLD_START,
            title="Cold start",
            how="Leave the car overnight. Start the logger, switch on, wait two seconds, start the engine without touching the pedal, and let it idle for a minute.",
            short="after a night, from before cranking, one minute of idle",
            acceptance=Acceptance(seconds=30, cold_below=35),
        )
    yield DriveAsk(
        kind=DriveKind.WARM_IDLE,
        title="Warm idle",
        how="With the engine at operating temperature (coolant at 82 °C or more), out of gear, feet off, everything electrical off. Let it idle for a minute.",
        short="one minute, out of gear, engine warm",
        acceptance=Acceptance(seconds=30, warm=78),
    )
    if purpose != "idle":
        yield DriveAsk(
            kind=DriveKind.CRUISE,
            title="Steady cruise",
            how="Warm the engine first. Then drive below half throttle from idle to 4000 rpm, in every gear you can, moving the pedal slowly and holding each speed for ten seconds. Flat roads and long hills, up and down, so that many loads are held for long.",
            short="15 minutes or more, below half throttle, up to 4000 rpm",
            acceptance=Acceptance(
                seconds=600,
                warm=78,
                throttle_most=60,
                cells=cruise_cells(table) if table is not None else (),
                cell_share=60,
            ),
        )
    if purpose == "full_load":
        yield DriveAsk(
            kind=DriveKind.ROLL_ON,
            title="Roll-on",
            how="In a high gear from about 1500 rpm, open the throttle slowly, taking five to ten seconds to the floor. Three times.",
            short="slow openings of the throttle in a high gear, three times",
            acceptance=Acceptance(count=2, warm=78),
        )
        yield DriveAsk(
            kind=DriveKind.PULL,
            title="One full-load pull",
            how="On a dyno or a closed course only: in a high gear from below 2000 rpm, throttle to the floor until the limiter, then close it.",
            short="a high gear from 2000 rpm to the limiter, on a dyno or a closed course only",
            acceptance=Acceptance(seconds=3, warm=78, from_speed=2600, to_speed=5500),
        )


def propose_brief(car: CarFile, purpose: Purpose = "fuel", table: Table | None = None) -> Brief:
    """The standard brief for a car and a purpose, cut to its logger's limit.

    Args:
        car: decides which channels exist and are needed.
        purpose: of the round.
        table: under work; its axes must be recorded and its cells visited.
    """
    return Brief(
        purpose=purpose,
        channels=cut(_channels(car, purpose, table), car.channel_limit),
        drives=tuple(_drives(purpose, table)),
    )


def fitted(pattern: Brief, car: CarFile, table: Table | None) -> Brief:
    """A saved pattern for another car: its drives and words, with the channels and cells that this car needs.

    Channels that the pattern took off on purpose stay off where this car has them; the limit is this car's own.
    """
    standard = propose_brief(car, pattern.purpose, table)
    off = {ask.quantity for ask in pattern.channels if not ask.kept and ask.priority != MUST}
    wanted = [ask for ask in standard.channels if ask.quantity not in off]
    kept = cut(wanted, car.channel_limit)
    rest = tuple(ask.model_copy(update={"kept": False}) for ask in standard.channels if ask.quantity in off)
    own = cruise_cells(table) if table is not None else ()
    drives = tuple(
        drive.model_copy(update={"acceptance": drive.acceptance.model_copy(update={"cells": own})})
        if drive.kind is DriveKind.CRUISE
        else drive
        for drive in pattern.drives
    )
    return Brief(purpose=pattern.purpose, channels=kept + rest, drives=drives, note=pattern.note)
