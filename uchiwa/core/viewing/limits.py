"""Limits beyond which a value is coloured, each with its name."""

from __future__ import annotations

from dataclasses import dataclass

from uchiwa.core.checks.thresholds import Thresholds


@dataclass(frozen=True)
class Limit:
    """A limit of a quantity.

    Attributes:
        quantity: id.
        above: whether it is passed above `value`, else below.
        value: in the quantity's unit.
        words: what it is called.
        grave: whether it is a critical one.
    """

    quantity: str
    above: bool
    value: float
    words: str
    grave: bool = False

    def passed(self, value: float) -> bool:
        """Whether a value lies beyond it; a gap never does."""
        return value >= self.value if self.above else value <= self.value


def limits_of(thresholds: Thresholds) -> tuple[Limit, ...]:
    """The limits that follow from a shop's thresholds; of several passed ones the last is the gravest."""
    t = thresholds
    found = [
        Limit("injector_duty", True, t.duty_warn, "injector duty is high"),
        Limit("injector_duty", True, t.duty_critical, "injector duty is critical", grave=True),
        Limit("airflow_voltage", True, t.meter_volts, "the airflow meter is at its ceiling"),
        Limit("knock_retard", True, t.knock_degrees, "knock retard counts"),
        Limit("knock_retard", True, t.knock_severe, "knock retard is severe", grave=True),
        Limit("low_octane_flag", True, 0.5, "low-octane fallback", grave=True),
        Limit("knock_over_limit", True, 0.0, "knock level over its limit"),
    ]
    for bank in ("", "_2"):
        found += [
            Limit(f"lambda_measured{bank}", False, t.rich_rail, "the wideband's rich end"),
            Limit(f"lambda_measured{bank}", True, t.lean_rail, "the wideband's lean end"),
        ]
        for trim in ("short_term_trim", "long_term_trim"):
            found += [
                Limit(f"{trim}{bank}", True, t.trim_limit, "a large trim"),
                Limit(f"{trim}{bank}", False, -t.trim_limit, "a large trim"),
            ]
    return tuple(found)


def passed(limits: tuple[Limit, ...], quantity: str, value: float | None) -> Limit | None:
    """The gravest limit of a quantity that a value passes, if any."""
    if value is None:
        return None
    beyond = [limit for limit in limits if limit.quantity == quantity and limit.passed(value)]
    return next((limit for limit in beyond if limit.grave), beyond[-1] if beyond else None)
