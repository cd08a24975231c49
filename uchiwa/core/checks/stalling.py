"""The engine stalled."""

from __future__ import annotations

from collections.abc import Iterator

from uchiwa.core.checks.examined import ExaminedLog
from uchiwa.core.checks.finding import Finding, Severity
from uchiwa.core.counted import counted
from uchiwa.core.idle.starts import Stop, standstills
from uchiwa.core.words.sentence import Sentence

_BEFORE_S = 4.0


def stalled(it: ExaminedLog) -> Iterator[Finding]:
    """A running engine came to stand and had to be started again, or sagged before it stood."""
    found = [
        standstill for standstill in standstills(it.time, it.signals["engine_speed"]) if standstill.how is Stop.STALLED
    ]
    if not found:
        return
    coolant = it.get("coolant_temperature")
    where = ""
    if coolant is not None:
        at = [float(coolant[min(int((it.time < standstill.at).sum()), it.time.size - 1)]) for standstill in found]
        where = f", at {min(at):.0f} to {max(at):.0f} °C" if max(at) - min(at) >= 1 else f", at {at[0]:.0f} °C"
    yield Finding(
        "stalled",
        Severity.WARNING,
        (
            Sentence("The engine stalled once. Thank you for recording it: that is what is being put right.")
            if len(found) == 1
            else Sentence(
                "The engine stalled {count} times. Thank you for recording it: that is what is being put right.",
                count=len(found),
            )
        ),
        f"{counted(len(found), 'stall')}{where}.",
        tuple((max(standstill.at - _BEFORE_S, 0.0), standstill.at) for standstill in found[:40]),
    )
