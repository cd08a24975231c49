"""The standard brief: which channels and drives a car and a purpose call for, cut to the logger, and patterns fitted."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass

from uchiwa.core.briefs.brief import MUST, NICE, SHOULD, Acceptance, Brief, ChannelAsk, DriveAsk, Purpose
from uchiwa.core.briefs.coverage import cruise_cells
from uchiwa.core.cars.car_file import CarFile
from uchiwa.core.logs.drives import DriveKind
from uchiwa.core.tables.table import Table
from uchiwa.core.words.sentence import N_


def _axes(table: Table | None) -> set[str]:
    if table is None:
        return set()
    return {axis.quantity for axis in (table.x, table.y) if axis is not None}


@dataclass(frozen=True)
class _Facts:
    """What decides which channels are worth asking for."""

    car: CarFile
    purpose: Purpose
    axes: frozenset[str]

    @property
    def full(self) -> bool:
        """Whether the engine is driven at full load."""
        return self.purpose in ("full_load", "torque", "clamp")

    @property
    def idle(self) -> bool:
        """Whether it is about start, warm-up and idle."""
        return self.purpose == "idle"

    @property
    def trims_only(self) -> bool:
        """Whether trims are all that tells of the mixture."""
        return self.car.wideband == "none"


@dataclass(frozen=True)
class _Candidate:
    """A channel worth asking for: why, what is lost without it, how much it is needed, and on which cars."""

    quantity: str
    reason: str
    loss: str
    priority: int | Callable[[_Facts], int]
    when: Callable[[_Facts], bool] = lambda _facts: True

    def ask(self, facts: _Facts) -> ChannelAsk:
        """What the brief asks for."""
        priority = self.priority(facts) if callable(self.priority) else self.priority
        return ChannelAsk(quantity=self.quantity, reason=self.reason, loss=self.loss, priority=priority)


def _if_full(yes: int, no: int) -> Callable[[_Facts], int]:
    return lambda facts: yes if facts.full else no


def _by_meter(kind: str) -> Callable[[_Facts], bool]:
    return lambda facts: facts.car.air_model != "speed_density" and _METER.get(facts.car.meter, _FREQUENCY) == kind


def _of_pressure(by_table: bool) -> Callable[[_Facts], bool]:
    def when(facts: _Facts) -> bool:
        wanted = facts.car.air_model != "meter" or bool(facts.car.boosted)
        return wanted and bool(facts.axes & {"manifold_pressure", "pressure_ratio"}) == by_table

    return when


_FREQUENCY = "airflow_frequency"
_METER = {"voltage": "airflow_voltage", "mass": "airflow"}
_OF_METER = (N_("the axis of the airflow meter's curve"), "the meter's curve cannot be corrected", MUST)
_NO_MIXTURE = "no measured mixture"


def _trims(facts: _Facts) -> int:
    return MUST if facts.trims_only else SHOULD


_WISHES = (
    _Candidate("engine_speed", N_("places every sample in a table"), "nothing can be placed", MUST),
    _Candidate("manifold_pressure", N_("the load axis of the tables"), "no load axis", MUST, _of_pressure(by_table=True)),
    _Candidate("manifold_pressure", N_("load and boost"), "no load axis", MUST, _of_pressure(by_table=False)),
    _Candidate("airflow_voltage", *_OF_METER, _by_meter("airflow_voltage")),
    _Candidate("airflow", *_OF_METER, _by_meter("airflow")),
    _Candidate(_FREQUENCY, *_OF_METER, _by_meter(_FREQUENCY)),
    _Candidate("mixture_voltage", N_("the mixture, by the sensor's line"), _NO_MIXTURE, MUST,
          lambda facts: facts.car.wideband == "voltage"),
    _Candidate("lambda_measured", N_("the measured mixture"), _NO_MIXTURE, MUST, lambda facts: facts.car.wideband == "digital"),
    _Candidate("ethanol_content", N_("turns AFR into λ as the fuel in the tank changes"), "AFR cannot be turned into λ", MUST,
          lambda facts: facts.car.fuel == "flex"),
    _Candidate("lambda_target", N_("what the controller wants"), "error against target is a guess", MUST),
    _Candidate("short_term_trim", N_("the only fuel evidence without a wideband"), "closed-loop samples say nothing", _trims,
          lambda facts: facts.trims_only),
    _Candidate("short_term_trim", N_("closed-loop fuel evidence"), "closed-loop samples say nothing", _trims,
          lambda facts: not facts.trims_only),
    _Candidate("long_term_trim", N_("what the controller has learned"), "learned fuel stays hidden", _trims),
    _Candidate("short_term_trim_2", N_("bank 2 on its own"), "banks cannot be compared", _trims,
          lambda facts: facts.car.banks == 2),
    _Candidate("long_term_trim_2", N_("bank 2 on its own"), "banks cannot be compared", _trims,
          lambda facts: facts.car.banks == 2),
    _Candidate("coolant_temperature", N_("tells a warm engine from a cold one"), "cold samples cannot be left out", MUST),
    _Candidate("throttle_position", N_("transients, pulls and coasting"), "transients cannot be left out", MUST),
    _Candidate("barometric_pressure", N_("the pressure ratio of the table's axis"), "no load axis", MUST,
          lambda facts: "pressure_ratio" in facts.axes),
    _Candidate("intake_air_temperature", N_("charge temperature and heat soak"), "heat soak goes unnoticed", SHOULD),
    _Candidate("loop_state", N_("closed or open loop"), "loop state is guessed from the trims", _trims),
    _Candidate("knock_retard", N_("knock as the controller sees it"), "knock goes unseen", _if_full(MUST, SHOULD),
          lambda facts: bool(facts.car.knock_sensor)),
    _Candidate("injector_duty", N_("how near the injectors are to their end"), "the injectors' end goes unnoticed",
          _if_full(SHOULD, NICE)),
    _Candidate("spark_advance", N_("spark at each moment"), "spark is taken from the table", _if_full(SHOULD, NICE)),
    _Candidate("barometric_pressure", N_("boost above the air outside"), "boost is against standard air", NICE,
          lambda facts: bool(facts.car.boosted) and "pressure_ratio" not in facts.axes),
    _Candidate("fuel_pressure", N_("shows a tired pump under load"), "a tired pump goes unnoticed", _if_full(SHOULD, NICE)),
    _Candidate("idle_airflow_target", N_("the idle airflow the controller asks for"), "idle airflow cannot be learned", SHOULD,
          lambda facts: facts.idle),
    _Candidate("after_start_active", N_("where after-start enrichment ends"), "its end is guessed", SHOULD,
          lambda facts: facts.idle),
    _Candidate("vehicle_speed", N_("gears, coasting and standing still"), "gears are not known", NICE),
    _Candidate("injector_pulse", N_("fuel actually injected"), "no third estimate of air", NICE),
    _Candidate("battery_voltage", N_("charging and ground faults"), "electrical faults go unnoticed", NICE),
    _Candidate("overrun_cut_active", N_("overrun fuel cut"), "the cut is guessed from the injectors", NICE),
    _Candidate("in_gear", N_("in gear or not at idle"), "idle in gear is mixed with neutral",
          lambda facts: MUST if facts.idle else NICE, lambda facts: bool(facts.car.automatic)),
    _Candidate("target_idle_speed", N_("the idle speed that is wanted"), "how steady the idle is cannot be told", SHOULD,
          lambda facts: facts.idle),
    _Candidate("idle_actuator_position", N_("how far the idle valve is open"), "a valve at its end goes unnoticed", NICE,
          lambda facts: facts.idle),
    _Candidate("manifold_pressure", N_("shows that the car had no boost yet"), "boost cannot be ruled out", MUST,
          lambda facts: facts.purpose == "clamp" and facts.car.air_model == "meter" and not facts.car.boosted),
)  # fmt: skip


def _channels(car: CarFile, purpose: Purpose, table: Table | None) -> Iterable[ChannelAsk]:
    """Every channel worth asking for on this car, most needed first."""
    facts = _Facts(car, purpose, frozenset(_axes(table)))
    return (wish.ask(facts) for wish in _WISHES if wish.when(facts))


def cut(channels: Iterable[ChannelAsk], limit: int | None) -> tuple[ChannelAsk, ...]:
    """As many channels as the logger takes, most needed first; what gives way is marked, not dropped."""
    ranked = sorted(enumerate(channels), key=lambda entry: (entry[1].priority, entry[0]))
    result = [ask.model_copy(update={"kept": limit is None or place < limit}) for place, (_, ask) in enumerate(ranked)]
    return tuple(result)


def _drives(car: CarFile, purpose: Purpose, table: Table | None) -> Iterable[DriveAsk]:
    if purpose == "idle":
        yield DriveAsk(
            kind=DriveKind.WARM_UP,
            title=N_("Cold start, until warm"),
            how=N_(
                "Leave the car overnight. Start the logger, switch on, wait two seconds, start the engine without touching the pedal, and let it idle, out of gear, feet off, until it is warm (about ten minutes)."
            ),
            short=N_("after a night, from before cranking until warm, feet off"),
            acceptance=Acceptance(seconds=120, cold_below=35, until=78),
        )
        if car.automatic:
            yield DriveAsk(
                kind=DriveKind.IN_GEAR_WARM_UP,
                title=N_("Warm-up in gear"),
                how=N_(
                    "The same on another morning, but once the engine runs, hold the car on the brake, put it in D, and stay so until it is warm; back to N for half a minute now and then. On level ground, with nobody in front of the car."
                ),
                short=N_("another morning, held on the brake in D until warm"),
                acceptance=Acceptance(seconds=120, cold_below=35, until=78),
            )
    if purpose in ("torque", "clamp"):
        yield _pulls_for(purpose)
        return
    yield DriveAsk(
        kind=DriveKind.WARM_IDLE,
        title=N_("Warm idle"),
        how=N_(
            "With the engine at operating temperature (coolant at 82 °C or more), out of gear, feet off, everything electrical off. Let it idle for a minute."
        ),
        short=N_("one minute, out of gear, engine warm"),
        acceptance=Acceptance(seconds=30, warm=78),
    )
    if purpose != "idle":
        yield DriveAsk(
            kind=DriveKind.CRUISE,
            title=N_("Steady cruise"),
            how=N_(
                "Warm the engine first. Then drive below half throttle from idle to 4000 rpm, in every gear you can, moving the pedal slowly and holding each speed for ten seconds. Flat roads and long hills, up and down, so that many loads are held for long."
            ),
            short=N_("15 minutes or more, below half throttle, up to 4000 rpm"),
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
            title=N_("Roll-on"),
            how=N_(
                "In a high gear from about 1500 rpm, open the throttle slowly, taking five to ten seconds to the floor. Three times."
            ),
            short=N_("slow openings of the throttle in a high gear, three times"),
            acceptance=Acceptance(count=2, warm=78),
        )
        yield DriveAsk(
            kind=DriveKind.PULL,
            title=N_("One full-load pull"),
            how=N_(
                "On a dyno or a closed course only: in a high gear from below 2000 rpm, throttle to the floor until the limiter, then close it."
            ),
            short=N_("a high gear from 2000 rpm to the limiter, on a dyno or a closed course only"),
            acceptance=Acceptance(seconds=3, warm=78, from_speed=2600, to_speed=5500),
        )


def _pulls_for(purpose: Purpose) -> DriveAsk:
    """The pulls that a torque ladder or a clamp rests on."""
    if purpose == "torque":
        return DriveAsk(
            kind=DriveKind.PULL,
            title=N_("A ladder of runs"),
            how=N_(
                "On a dyno, the car warm and each run alike, from below 2000 rpm to the limiter: two runs as flashed, one with three degrees less, one with six less, one more as flashed, then half a degree more at a time, as far as the notes say. Say for each run what was added. Stop at the first sound of knock."
            ),
            short=N_("on a dyno: as flashed, three and six degrees less, then up by half degrees"),
            acceptance=Acceptance(count=5, seconds=15, warm=78, from_speed=2600, to_speed=5500),
        )
    return DriveAsk(
        kind=DriveKind.PULL,
        title=N_("Pulls before the boost"),
        how=N_(
            "Before anything is fitted that blows. On a dyno or a closed course: in a high gear from below 1500 rpm, throttle to the floor until the limiter, three times, with the raw airflow signal and the intake pressure recorded."
        ),
        short=N_("three pulls to the limiter, before the car has boost"),
        acceptance=Acceptance(count=2, seconds=6, warm=70, from_speed=2600, to_speed=5500),
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
        drives=tuple(_drives(car, purpose, table)),
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
