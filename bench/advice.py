"""`python -m bench.advice [SEEDS]`: how long a stand-in driver takes to cover what a brief asks for, alone and by the phone."""

from __future__ import annotations

import statistics
import sys

from tests.core.live.advised import CELL_S, SHARE, covers_in


def main(seeds: int = 10) -> None:
    """Print it seed by seed."""
    print(f"until {SHARE:.0%} of the cells were visited for {CELL_S:g} s each, in the Corvid Pike:")
    ratios = []
    for seed in range(1, seeds + 1):
        alone, advised = covers_in(seed, advised=False), covers_in(seed, advised=True)
        ratios.append(advised / alone)
        print(f"  seed {seed:2d}: {alone:5.0f} s alone, {advised:5.0f} s advised, {ratios[-1]:.0%}", flush=True)
    print(
        f"in the mean {statistics.mean(ratios):.0%} of the time, median {statistics.median(ratios):.0%}, worst {max(ratios):.0%}"
    )


if __name__ == "__main__":
    main(*(int(one) for one in sys.argv[1:2]))
