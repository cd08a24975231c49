"""Checks: small rules that each look at a log for one thing. `examine` runs them all."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence

import numpy as np

from uchiwa.core.checks import belonging, engine, mixture, recording
from uchiwa.core.checks.examined import ExaminedLog
from uchiwa.core.checks.finding import Finding, Severity
from uchiwa.core.checks.own import OwnCheck, find_own
from uchiwa.core.pulls.recognised import from_dyno

CHECKS: tuple[Callable[[ExaminedLog], Iterator[Finding]], ...] = (
    *recording.CHECKS,
    *mixture.CHECKS,
    *engine.CHECKS,
    *belonging.CHECKS,
)
# What a finding explains away: with a wrong mixture channel nothing that rests on it is worth a sentence of its own.
_EXPLAINS = {
    "wrong_mixture": frozenset({"lean_at_load", "lean_tip_in", "wideband_rail"}),
    "too_short": frozenset({"coverage", "low_rate"}),
    "cold_engine": frozenset({"coverage"}),
    "fuel_pressure": frozenset({"lean_at_load"}),
    "knock_repeated": frozenset({"other_revision"}),
}
# What a brief asks of a drive on the road cannot be asked of a dyno's file.
_NOT_OF_A_DYNO = {
    "missing_channel", "too_short", "coverage", "low_rate", "constant_channel", "other_revision", "cold_engine",
    "heat_soaked", "gaps",
}  # fmt: skip
_ORDER = {Severity.CRITICAL: 0, Severity.WARNING: 1, Severity.NOTE: 2}

__all__ = ["CHECKS", "ExaminedLog", "Finding", "Severity", "examine"]


def examine(it: ExaminedLog, own: Sequence[OwnCheck] = ()) -> list[Finding]:
    """Everything that the checks, and a shop's own, find, gravest first; what another finding explains is left out."""
    with np.errstate(invalid="ignore", divide="ignore"):
        found = [finding for check in CHECKS for finding in check(it)]
        found += find_own(it, own)
    explained = {rule for finding in found for rule in _EXPLAINS.get(finding.rule, ())}
    if from_dyno(it.log):
        explained |= _NOT_OF_A_DYNO
    left = [finding for finding in found if finding.rule not in explained]
    return sorted(left, key=lambda finding: _ORDER[finding.severity])
