"""Keep, add, take back: what torque and knock say about the spark of one column at full load."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum
from typing import NamedTuple

import numpy as np

from uchiwa.core.knock.known import ColumnKnock
from uchiwa.core.proposals.torque.policy import TorquePolicy
from uchiwa.core.pulls.gain import Method, SparkGain
from uchiwa.core.tables.difference import signed

_RUNG = 0.5
_ENOUGH = 0.25
_APART = 3.0
_MOST_RUNS = 6


class Advice(StrEnum):
    """What is to be done with the spark of a column."""

    ADD = "add"
    KEEP = "keep"
    BACK = "take back"
    FAR = "too far from known safe"
    KNOCK = "knock"
    NOTHING = "not told"


@dataclass(frozen=True)
class Decision:
    """What torque and knock say about one column of the table at full load.

    Attributes:
        column: of the table.
        speed: rpm.
        load: at which the runs went through it, along the table's second axis; NaN for a curve.
        spark: that the table gives there, degrees.
        target: that it should have in the end; NaN if not told.
        after: that is proposed for this round.
        best, best_error: spark of best torque by the fit, and its standard error.
        clean: the highest spark that was run here without knock; NaN if nothing listened.
        knocked: the lowest spark that knocked; NaN if none did.
        gain: what a degree is worth.
        advice: in a word.
        reasons: for it, as sentences without their full stops.
        ask: the run that would tell, where these do not.
    """

    column: int
    speed: float
    load: float
    spark: float
    target: float
    after: float
    best: float
    best_error: float
    clean: float
    knocked: float
    gain: SparkGain
    advice: Advice
    reasons: tuple[str, ...]
    ask: NextRun | None = None


@dataclass(frozen=True)
class NextRun:
    """A run that would tell what the runs so far do not.

    Attributes:
        spark: degrees, to be run in this column.
        runs: how many of them.
        words: why, as a clause.
    """

    spark: float
    runs: int
    words: str


class Column(NamedTuple):
    """A column of a spark table: its number, engine speed, the load at which it was run, and the spark given there."""

    number: int
    speed: float
    load: float
    spark: float


class _DecisionWords(NamedTuple):
    """What is said of a decision as it is made: reasons, and runs that would tell more."""

    why: list[str]
    ask: list[NextRun]


def decide(at: Column, gain: SparkGain, heard: ColumnKnock, edge: float, policy: TorquePolicy) -> Decision:
    """Keep, add, take back: the lower of best torque and the knock limit with its margin, reached step by step.

    Args:
        at: the column.
        gain: what a degree is worth there.
        heard: of knock there.
        edge: spark that knocked there, or that speeds beside say would; NaN if none.
        policy: the steps.
    """
    spark, (clean, knocked, _) = at.spark, heard
    said = _DecisionWords([], [])
    why, ask = said
    limit = edge - policy.knock_margin
    if np.isfinite(knocked):
        why.append(f"{knocked:.1f}° knocked here: no more than {limit:.1f}°, {policy.knock_margin:g}° below")
    elif np.isfinite(limit):
        why.append(f"it knocked at speeds beside: no more than {limit:.1f}°")
    torque_target, advice = _by_torque(spark, gain, policy, said)
    target = float(np.fmin(torque_target, limit)) if np.isfinite(torque_target) or np.isfinite(limit) else float("nan")
    after = spark
    if np.isfinite(limit) and limit < spark - 0.05:
        after, advice = min(limit, float(np.fmin(target, limit))), Advice.KNOCK
        after = max(after, limit - policy.most) if np.isfinite(target) else after
    elif np.isfinite(target):
        distance = target - spark
        if distance > _ENOUGH:
            step = policy.add_far if distance >= policy.far else policy.add
            after, advice = _allowed(spark, min(distance, step, policy.most), heard, policy, said)
        elif distance < -2 * _ENOUGH and advice is Advice.BACK:
            after = max(target, spark - policy.most)
        elif advice is Advice.BACK:
            advice = Advice.KEEP
    return Decision(
        at.number, at.speed, at.load, spark, target, after, gain.best, gain.best_error, clean,
        knocked, gain, advice, tuple(why), ask[0] if ask else None,
    )  # fmt: skip


def _by_torque(spark: float, gain: SparkGain, policy: TorquePolicy, said: _DecisionWords) -> tuple[float, Advice]:
    """The spark that torque asks for, and what follows; spark goes in only on a gain that scatter does not explain."""
    why, ask = said
    if gain.method is Method.NONE:
        why.append("only one spark was run: a gain cannot be told")
        ask.append(NextRun(spark - _APART, 2, f"{_APART:g}° less, to see what a degree is worth"))
        return float("nan"), Advice.NOTHING
    told = f"a degree is worth {signed(gain.gain, 2)} Nm ({signed(gain.low, 2)} … {signed(gain.high, 2)})"
    worth = policy.worth_percent / 100.0 * gain.level
    if gain.method is Method.FIT and np.isfinite(gain.best):
        why.append(f"{told}; best torque at {gain.best:.1f} ± {gain.best_error:.1f}°, from {gain.sparks} sparks")
        # Far beyond what was run a parabola is a guess: it says the way, not the place.
        best = min(gain.best, gain.highest + policy.add_far + _RUNG)
        if best < spark - 2 * _ENOUGH:
            return best, Advice.BACK
        if best <= spark + _ENOUGH:
            return best, Advice.KEEP
        if gain.low > 0:
            return best, Advice.ADD
        why.append("scatter explains that gain: repeat the runs before any spark goes in")
        ask.append(_again(gain, worth))
        return spark, Advice.KEEP
    if gain.low > 0 and gain.gain > worth:
        why.append(f"{told}, more than chance")
        return spark + policy.add, Advice.ADD
    if gain.high < worth:
        why.append(f"{told}: no gain, so that the lower spark is as good")
        return max(gain.lowest, spark - policy.add), Advice.BACK
    why.append(f"{told}: that cannot be told from chance; repeat the runs")
    ask.append(_again(gain, worth))
    return spark, Advice.KEEP


def _again(gain: SparkGain, worth: float) -> NextRun:
    """As many runs as would make the gain's interval narrow enough, by the square root of their number."""
    half, wanted = (gain.high - gain.low) / 2, max(abs(gain.gain), worth, 1e-9)
    more = int(np.ceil(len(gain.runs) * ((half / wanted) ** 2 - 1.0)))
    return NextRun(
        gain.highest, int(np.clip(more, 1, _MOST_RUNS)), "again, in turn with the lowest spark, to narrow the gain"
    )


def _allowed(
    spark: float, rise: float, heard: ColumnKnock, policy: TorquePolicy, said: _DecisionWords
) -> tuple[float, Advice]:
    """How much of a rise known safety allows."""
    (why, ask), clean = said, heard.clean
    if not heard.listened:
        why.append("nothing listened for knock in these runs: record retard, level, count or the driver's marks")
        return spark, Advice.FAR
    top = clean + policy.beyond if np.isfinite(clean) else -np.inf
    if spark + rise <= top + 1e-9:
        return spark + rise, Advice.ADD
    if top > spark + 0.2:
        why.append(f"nothing above {clean:.1f}° was run without knock, so only to {top:.1f}°")
        return top, Advice.ADD
    known = f"nothing above {clean:.1f}° was run" if np.isfinite(clean) else "nothing was run"
    why.append(f"{known} without knock: run a little more spark before it goes into the table")
    ask.append(
        NextRun(max(spark, clean if np.isfinite(clean) else spark) + _RUNG, 1, "a little more than ever ran clean")
    )
    return spark, Advice.FAR
