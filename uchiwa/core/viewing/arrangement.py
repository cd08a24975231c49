"""Arrangements: which traces stand in which strip, by purpose or as a person likes them."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass

from uchiwa.core.errors import BadInput
from uchiwa.core.viewing.axes import MOST_AXES

MOST_STRIPS = 8
MOST_TRACES = 6
_BETWEEN_STRIPS = ";"
_BETWEEN_TRACES = ","


@dataclass(frozen=True)
class Arrangement:
    """Strips from the top, each with the keys of its traces."""

    strips: tuple[tuple[str, ...], ...]

    @property
    def traces(self) -> tuple[str, ...]:
        """Every trace once, from the top."""
        return tuple(dict.fromkeys(key for strip in self.strips for key in strip))

    def __str__(self) -> str:
        return _BETWEEN_STRIPS.join(_BETWEEN_TRACES.join(strip) for strip in self.strips)


@dataclass(frozen=True)
class Purpose:
    """What a person wants to see.

    Attributes:
        id, title: its identifier and the word shown.
        strips: of each strip the traces in order of importance; each entry is a choice, of which the first that the
            log has is taken.
    """

    id: str
    title: str
    strips: tuple[tuple[str, ...], ...]


PURPOSES: tuple[Purpose, ...] = (
    Purpose(
        "fuel",
        "fuel",
        (
            ("engine_speed", "throttle_position|pedal_position"),
            ("manifold_pressure|airflow", "airflow|airflow_frequency|airflow_voltage"),
            ("lambda_measured", "lambda_target", "lambda_measured_2"),
            ("short_term_trim", "long_term_trim", "fuel_error", "short_term_trim_2", "long_term_trim_2"),
        ),
    ),
    Purpose(
        "knock",
        "knock",
        (
            ("engine_speed", "throttle_position|pedal_position"),
            ("spark_advance", "knock_retard"),
            ("knock_level", "knock_limit", "knock_count"),
            ("lambda_measured|lambda_target", "intake_air_temperature"),
        ),
    ),
    Purpose(
        "idle",
        "idle",
        (
            ("engine_speed",),
            ("airflow|manifold_pressure", "idle_airflow_target", "throttle_position"),
            ("lambda_measured", "lambda_target", "short_term_trim"),
            ("spark_advance", "coolant_temperature"),
        ),
    ),
    Purpose(
        "full_load",
        "full load",
        (
            ("engine_speed", "throttle_position|pedal_position"),
            ("manifold_pressure|airflow", "injector_duty"),
            ("lambda_measured", "lambda_target"),
            ("spark_advance", "knock_retard"),
        ),
    ),
    Purpose(
        "health",
        "health",
        (
            ("engine_speed", "battery_voltage"),
            ("coolant_temperature", "intake_air_temperature", "oil_temperature"),
            ("fuel_pressure", "injector_duty"),
            ("short_term_trim", "long_term_trim", "knock_retard"),
        ),
    ),
)


def fitted(purpose: Purpose, units: Mapping[str, str]) -> Arrangement:
    """A purpose's arrangement with the traces that a log can show.

    Args:
        purpose: one of `PURPOSES`.
        units: of every trace there is, by key.
    """
    strips: list[tuple[str, ...]] = []
    for wanted in purpose.strips:
        keys: list[str] = []
        for choice in wanted:
            key = next((word for word in choice.split("|") if word in units and word not in keys), None)
            if key is not None and len({units[one] for one in (*keys, key)}) <= MOST_AXES:
                keys.append(key)
        if keys:
            strips.append(tuple(keys))
    return Arrangement(tuple(strips) or (tuple(list(units)[:1]),))


def parse(text: str) -> Arrangement:
    """An arrangement as it stands in an address.

    Raises:
        BadInput: too many strips or traces.
    """
    strips = tuple(
        keys
        for part in text.split(_BETWEEN_STRIPS)
        if (keys := tuple(dict.fromkeys(key for key in part.split(_BETWEEN_TRACES) if key.strip())))
    )
    if not strips:
        raise BadInput("the arrangement is empty", advice="add a trace to it")
    if len(strips) > MOST_STRIPS or any(len(strip) > MOST_TRACES for strip in strips):
        raise BadInput(
            f"an arrangement has at most {MOST_STRIPS} strips of {MOST_TRACES} traces", advice="take one out first"
        )
    return Arrangement(strips)


def check_axes(arrangement: Arrangement, units: Mapping[str, str]) -> None:
    """Refuse a strip that needs more than two axes.

    Raises:
        BadInput: which strip, and by which units.
    """
    for number, strip in enumerate(arrangement.strips, start=1):
        found = list(dict.fromkeys(units[key] for key in strip if key in units))
        if len(found) > MOST_AXES:
            raise BadInput(
                f"strip {number} would need an axis each for {', '.join(one or 'no unit' for one in found)}",
                advice=f"a strip has {MOST_AXES} axes, put one trace into another strip",
            )


def added(arrangement: Arrangement, key: str, units: Mapping[str, str], strip: int | None = None) -> Arrangement:
    """The arrangement with one more trace: in the strip asked for, else in the first with room on an axis of its unit,
    else in a strip of its own.

    Raises:
        BadInput: it does not fit there, or nowhere.
    """
    if key in arrangement.traces:
        return arrangement
    strips = [list(one) for one in arrangement.strips]
    if strip is None:
        strip = next(
            (
                number
                for number, one in enumerate(strips)
                if len(one) < MOST_TRACES and units.get(key) in {units.get(other) for other in one}
            ),
            len(strips),
        )
    if strip >= len(strips):
        strips.append([key])
    else:
        strips[strip].append(key)
    result = parse(_BETWEEN_STRIPS.join(_BETWEEN_TRACES.join(one) for one in strips))
    check_axes(result, units)
    return result


def removed(arrangement: Arrangement, key: str) -> Arrangement:
    """The arrangement without a trace; the last one stays."""
    strips = tuple(kept for strip in arrangement.strips if (kept := tuple(other for other in strip if other != key)))
    return Arrangement(strips) if strips else arrangement


def moved(arrangement: Arrangement, key: str, by: int, units: Mapping[str, str]) -> Arrangement:
    """The arrangement with a trace moved so many strips down (negative: up); beyond either end a strip is made for it.

    Raises:
        BadInput: the strip there has no axis left for it.
    """
    at = next((number for number, strip in enumerate(arrangement.strips) if key in strip), None)
    if at is None:
        return arrangement
    strips = [[other for other in strip if other != key] for strip in arrangement.strips]
    to = at + by
    if to < 0:
        strips.insert(0, [key])
    elif to >= len(strips):
        strips.append([key])
    else:
        strips[to].append(key)
    result = parse(_BETWEEN_STRIPS.join(_BETWEEN_TRACES.join(strip) for strip in strips if strip))
    check_axes(result, units)
    return result


def completions(typed: str, titles: Mapping[str, str], taken: Collection[str] = (), most: int = 8) -> Sequence[str]:
    """Keys whose name or title has all that was typed: first those that begin with it.

    Args:
        typed: any part of a name, words in any order.
        titles: of every trace, by key.
        taken: keys that are shown already.
    """
    words = typed.lower().replace("_", " ").split()
    found = [
        key
        for key, title in titles.items()
        if key not in taken and all(word in f"{key.replace('_', ' ')} {title}".lower() for word in words)
    ]
    start = words[0] if words else ""
    return sorted(
        found, key=lambda key: (not titles[key].lower().startswith(start), not key.startswith(start), titles[key])
    )[:most]
