"""Channels in doubt: what is likely but contradicted by something is asked about before it is used."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass

from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import Log

ASKED_ABOUT = frozenset(
    {
        "lambda_measured", "lambda_measured_2", "lambda_target", "mixture_voltage", "short_term_trim",
        "short_term_trim_2", "long_term_trim", "long_term_trim_2", "manifold_pressure", "barometric_pressure",
        "boost_pressure", "pressure_ratio", "coolant_temperature", "intake_air_temperature", "airflow",
    }
)  # fmt: skip
"""Mixture, trims, pressures, temperatures and airflow: what a proposal cannot be right without."""


@dataclass(frozen=True)
class Doubt:
    """A channel in doubt that a proposal would use.

    Attributes:
        log: name of the log.
        name, source_unit: of the channel, as the logger wrote them.
        quantity: what it is taken for.
        read_as: the unit it is taken in.
        second: the unit that fits next best, or empty.
        words: what is doubtful, as a sentence without its full stop.
    """

    log: str
    name: str
    source_unit: str
    quantity: str
    read_as: str
    second: str
    words: str


def doubts_of(logs: Sequence[Log], quantities: Collection[str]) -> tuple[Doubt, ...]:
    """The channels in doubt among those that are asked about and used."""
    wanted = ASKED_ABOUT & set(quantities)
    return tuple(
        Doubt(log.name, channel.name, channel.source_unit, quantity, channel.read_as, channel.second, channel.doubt)
        for log in logs
        for quantity, channel in log.quantities.items()
        if channel.doubt and quantity in wanted
    )


class DoubtError(BadInput):
    """A proposal would rest on channels in doubt: somebody has to say what they are.

    Args:
        doubts: at least one.
    """

    def __init__(self, doubts: Sequence[Doubt]) -> None:
        self.doubts = tuple(doubts)
        first = doubts[0]
        more = f" (and {len(doubts) - 1} more)" if len(doubts) > 1 else ""
        super().__init__(
            f"{first.words}{more}", where=first.log, advice="say what it is before anything is computed from it"
        )


def ask(logs: Sequence[Log], quantities: Collection[str]) -> None:
    """Go on only if none of the channels used is in doubt.

    Raises:
        DoubtError: some are.
    """
    found = doubts_of(logs, quantities)
    if found:
        raise DoubtError(found)
