"""Has what is compiled by numba compiled once, before the tests' processes would each do it beside the others."""

from __future__ import annotations

from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.core.proposals.fuel.proposal import fuel_proposal
from uchiwa.standin.family.member import member
from uchiwa.worker.warm import warm_up


def main() -> None:
    """A proposal by each estimator, and one of the stand-in family's engines."""
    warm_up()
    drawn = member(0, minutes=2.0)
    fuel_proposal(drawn.logs, drawn.calibration, drawn.table.id, Policy())


if __name__ == "__main__":
    main()
