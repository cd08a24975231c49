"""Has what tests load compiled once, by Python, by pytest and by numba, before several processes would do it beside each other."""

from __future__ import annotations

import contextlib
import io

import pytest

from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.core.proposals.fuel.proposal import fuel_proposal
from uchiwa.standin.family.member import member
from uchiwa.worker.warm import warm_up


def main() -> None:
    """All tests are collected; then a proposal by each estimator, and one of the stand-in family's engines."""
    with contextlib.redirect_stdout(io.StringIO()):
        pytest.main(["--collect-only", "-qq", "tests"])  # what is wrong with it is said when they are run
    warm_up()
    drawn = member(0, minutes=2.0)
    fuel_proposal(drawn.logs, drawn.calibration, drawn.table.id, Policy())


if __name__ == "__main__":
    main()
