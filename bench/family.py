"""`python -m bench.family`: accuracy on engines drawn at random, whose physics differ in kind, by variant.

python -m bench.family [SEEDS] [MINUTES]
"""

from __future__ import annotations

import sys
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass

import numpy as np

from uchiwa.core.evidence.regions import TITLES, Region
from uchiwa.core.formulas.evaluation import Scope
from uchiwa.core.logs.log import BoolArray, FloatArray
from uchiwa.core.proposals.fuel.evidence import gather
from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.core.proposals.fuel.proposal import FuelProposal, cell_regions, proposal_from
from uchiwa.standin.family.member import Member, member
from uchiwa.standin.family.physics import VARIANTS

ESTIMATORS = ("surface", "weighted", "nearest")
MINUTES, SEEDS = 25.0, 39
LONG_S = 5.0


@dataclass(frozen=True)
class Judged:
    """One member's result.

    Attributes:
        variant: its kind.
        acted: RMS error of the cells acted on, %; NaN if none was.
        long: the same of cells driven for 5 s and more.
        plain: of those cells, with delay and transients switched off.
        inside: by estimator and region, how many truths lie in their 95 % interval, and of how many.
        cells: acted on, and measured.
        against: cells acted on in the wrong direction by more than half a percent.
    """

    variant: str
    acted: float
    long: float
    plain: float
    inside: dict[tuple[str, Region], tuple[int, int]]
    cells: tuple[int, int]
    against: int


def rms(found: FloatArray, truth: FloatArray, cells: BoolArray) -> float:
    """Root mean square of relative errors, %."""
    return float(np.sqrt(np.mean((found[cells] / truth[cells] - 1) ** 2)) * 100) if cells.any() else float("nan")


def judge(it: Member) -> Judged:
    """All estimators on a member's logs."""
    found: dict[str, FuelProposal] = {}
    policy = Policy(dead_band_percent=0.0, limit_percent=50.0, unreached="leave")
    evidence = gather(it.logs, it.table, policy, Scope(it.calibration))
    for name in ESTIMATORS:
        one = policy.model_copy(update={"estimator": name})
        found[name] = proposal_from(evidence, it.table, one)
    off = policy.model_copy(update={"delay": (0.0, 0.0), "transients": "none"})
    plain = proposal_from(gather(it.logs, it.table, off, Scope(it.calibration)), it.table, off)
    surface = found["surface"]
    region = cell_regions(surface)
    acted = surface.reached & (surface.correction.factor != 1.0)
    long = surface.reached & (surface.bins.dwell >= LONG_S)
    inside = {
        (name, one): _inside(proposal, it.factor, proposal.reached & (region == one))
        for name, proposal in found.items()
        for one in Region
    }
    wrong = acted & ((surface.correction.factor - 1.0) * (it.factor - 1.0) < 0) & (np.abs(it.factor - 1.0) > 0.005)
    return Judged(
        it.variant.name,
        rms(surface.correction.factor, it.factor, acted),
        rms(surface.estimate.factor, it.factor, long),
        rms(plain.estimate.factor, it.factor, long & plain.reached),
        inside,
        (int(acted.sum()), int(surface.reached.sum())),
        int(wrong.sum()),
    )


def _inside(proposal: FuelProposal, truth: FloatArray, cells: BoolArray) -> tuple[int, int]:
    found = proposal.estimate
    close = np.abs(found.factor - truth) <= 1.96 * found.standard_error
    return int(close[cells].sum()), int(cells.sum())


def one(number: int, minutes: float) -> Judged:
    """A member by its number."""
    return judge(member(number, minutes))


def table_of(every: list[Judged]) -> str:
    """The results by variant."""
    head = f"{'':32}{'acted on':>9}{'≥ 5 s':>8}{'off':>8}{'cells':>10}{'wrong':>6}"
    for name in ESTIMATORS:
        head += f"   {name}: " + " ".join(f"{TITLES[region].split()[-1]:>6}" for region in Region)
    lines = [head]
    for variant in [*(one.name for one in VARIANTS), ""]:
        mine = [one for one in every if variant in ("", one.variant)]
        if mine:
            lines.append(_line(variant or "all, median (worst)", mine, whole=not variant))
    return "\n".join(lines)


def _line(words: str, mine: list[Judged], *, whole: bool) -> str:
    def told(values: list[float]) -> float:
        known = [value for value in values if value == value]
        return float(np.median(known)) if known else float("nan")

    acted, long, plain = (told([getattr(one, key) for one in mine]) for key in ("acted", "long", "plain"))
    cells = f"{sum(one.cells[0] for one in mine)}/{sum(one.cells[1] for one in mine)}"
    line = f"{words:32}{acted:9.2f}{long:8.2f}{plain:8.2f}{cells:>10}{sum(one.against for one in mine):>6}"
    for name in ESTIMATORS:
        shares = []
        for region in Region:
            close = sum(one.inside[name, region][0] for one in mine)
            of = sum(one.inside[name, region][1] for one in mine)
            shares.append(f"{100 * close / of:5.1f}%" if of else "     –")
        line += "   " + " " * (len(name) + 2) + " ".join(shares)
    if whole:
        worse = max(one.long - one.plain for one in mine if one.long == one.long)
        line += f"\nworst member: acted on {np.nanmax([one.acted for one in mine]):.2f} %; worse than without delay and film by {worse:+.2f} % at most"
    return line


def main(seeds: int = SEEDS, minutes: float = MINUTES) -> None:
    """Print the table."""
    with ProcessPoolExecutor(2) as pool:
        print(table_of(list(pool.map(one, range(seeds), [minutes] * seeds))))


if __name__ == "__main__":
    main(int(sys.argv[1]) if len(sys.argv) > 1 else SEEDS, float(sys.argv[2]) if len(sys.argv) > 2 else MINUTES)
