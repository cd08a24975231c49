"""`make bench`: how quick the core is, as ratios against well-known libraries in the same run."""

from __future__ import annotations

import io
import os
import statistics
import subprocess
import sys
import time
from collections.abc import Callable
from dataclasses import replace

import numpy as np
import polars as pl
from scipy.stats import binned_statistic_2d

from bench import collecting, editing
from uchiwa.core.evidence import surface
from uchiwa.core.evidence.bins import Samples, bin_samples, figures
from uchiwa.core.formulas.evaluation import Scope
from uchiwa.core.logs.readers import read_log
from uchiwa.core.proposals.fuel.evidence import gather
from uchiwa.core.proposals.fuel.explanation import explain
from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.core.proposals.fuel.proposal import airflow_table, fuel_proposal, proposal_from
from uchiwa.core.tables.table import Axis, Table, frozen
from uchiwa.standin.family.member import member
from uchiwa.standin.family.physics import Physics, Recorder, Variant
from uchiwa.standin.fleet import car_named
from uchiwa.standin.logger import write_delimited
from uchiwa.standin.simulate import simulate
from uchiwa.store.samples import pack, unpack

REPEATS = 5


def median(work: Callable[[], object]) -> float:
    """Median time of a few runs, in ms."""
    times = []
    for _ in range(REPEATS):
        start = time.perf_counter()
        work()
        times.append((time.perf_counter() - start) * 1000)
    return statistics.median(times)


def bins_row() -> list[tuple[str, float, str]]:
    """5 M samples on a 20 × 20 grid: mean, count and spread; and everything a bin is asked for."""
    rng = np.random.default_rng(1)
    size = 5_000_000
    x, y, value = rng.uniform(0, 19, size), rng.uniform(0, 19, size), rng.normal(1, 0.1, size)
    axis = Axis("engine_speed", "rpm", frozen([float(point) for point in range(20)]))
    steps, spans = np.zeros(size, dtype=np.int64), np.full(size, 0.04)
    ours = median(lambda: figures(axis, axis, x, y, value))
    nearest = median(lambda: bin_samples(axis, axis, Samples(x, y, value, spans, steps), "nearest"))
    weighted = median(lambda: bin_samples(axis, axis, Samples(x, y, value, spans, steps), "weighted"))
    edges = [-0.5, *(np.arange(19) + 0.5), 19.5]
    scipy_time = median(
        lambda: [binned_statistic_2d(x, y, value, kind, bins=[edges, edges]) for kind in ("mean", "count", "std")]
    )
    cell = axis.nearest(y) * 20 + axis.nearest(x)
    frame = pl.DataFrame({"x": x, "y": y, "v": value, "cell": cell})
    three = (pl.col("v").mean().alias("mean"), pl.len(), pl.col("v").std().alias("std"))
    placed = median(lambda: frame.group_by("cell").agg(*three))
    placing = median(
        lambda: frame.group_by(pl.col("x").round().cast(pl.Int32), pl.col("y").round().cast(pl.Int32)).agg(*three)
    )
    against = (
        f"scipy {scipy_time / ours:.1f}×, polars {placing / ours:.1f}×, polars with cells given {placed / ours:.1f}×"
    )
    return [
        ("bins, 5 M samples, 20 × 20: mean, count, spread", ours, against),
        ("  all figures, nearest", nearest, f"scipy {scipy_time / nearest:.1f}×"),
        ("  all figures, weighted", weighted, f"scipy {scipy_time / weighted:.1f}×"),
        ("  scipy binned_statistic_2d, 3 figures", scipy_time, ""),
        ("  polars group_by, 3 figures, placing them", placing, ""),
        ("  polars group_by, 3 figures, cells given", placed, ""),
    ]


def surface_row() -> list[tuple[str, float, str]]:
    """1 M samples and 30 × 30 breakpoints: the passes over the samples, and the solution, which 2000 samples need too."""
    rng = np.random.default_rng(4)
    size = 1_000_000
    axis = Axis("engine_speed", "rpm", frozen([float(point) for point in range(30)]))
    table = Table("t", "T", "volumetric_efficiency", "%", axis, axis, frozen(np.full((30, 30), 60.0)))
    x, y = (29 * (1 - np.abs(np.cumsum(rng.normal(0, 0.01, size)) % 2 - 1)) for _ in range(2))
    value = 1.02 + 0.01 * np.sin(x / 4) + rng.normal(0, 0.01, size)
    steps, spans = np.zeros(size, dtype=np.int64), np.full(size, 0.04)
    bins = median(lambda: bin_samples(axis, axis, Samples(x, y, value, spans, steps), "weighted"))
    passes: list[float] = []

    def timed(work: Callable[..., object]) -> Callable[..., object]:
        def run(*given: object) -> object:
            start = time.perf_counter()
            result = work(*given)
            passes.append((time.perf_counter() - start) * 1000)
            return result

        return run

    kept = surface._equations, surface._noise
    surface._equations, surface._noise = timed(kept[0]), timed(kept[1])  # type: ignore[assignment]
    try:
        whole = median(lambda: surface.fit_surface(table, Samples(x, y, value, spans, steps)))
    finally:
        surface._equations, surface._noise = kept
    over = sum(passes) / REPEATS
    return [
        ("surface, 1 M samples, 30 × 30", whole, f"{over:.0f} ms of it over the samples: {over / bins:.1f}× the bins"),
        ("  its solution", whole - over, ""),
        ("  bins of the same, weighted, all figures", bins, ""),
    ]


def reading_row() -> list[tuple[str, float, str]]:
    """A log of 200,000 rows and 20 columns."""
    rng = np.random.default_rng(2)
    data = rng.uniform(0, 100, (200_000, 19)).round(2)
    names = ["Engine speed [rpm]", *(f"Channel {number} [V]" for number in range(18))]
    frame = pl.DataFrame({"Time [s]": np.arange(200_000) / 100, **dict(zip(names, data.T, strict=True))})
    buffer = io.BytesIO()
    frame.write_csv(buffer)
    text = buffer.getvalue()
    ours = median(lambda: read_log(text, "bench.csv"))
    theirs = median(lambda: pl.read_csv(io.BytesIO(text)))
    return [
        (
            f"read text, 200,000 × 20, {len(text) / 1e6:.0f} MB",
            ours,
            f"{ours / theirs:.1f}× the time of polars read_csv",
        ),
        ("  polars read_csv", theirs, ""),
    ]


def fuel_rows() -> list[tuple[str, float, str]]:
    """A round's log of a quarter of an hour: evidence, proposal, and why one cell got its number."""
    car = car_named("corvid-pike")
    base = car.base()
    log = read_log(write_delimited(simulate(car, base, "mixed_road", 1)).encode(), "road.csv")
    policy, table = Policy(), airflow_table(base, "ve_main")
    fixed = Policy(delay=(0.1, 1.6))
    evidence = gather([log], table, fixed, Scope(base))
    proposal = proposal_from(evidence, table, fixed)
    size = f"{evidence.time.size:,} samples"
    plain = Policy(delay=(0.1, 1.6), estimator="nearest", transients="none")
    return [
        (
            f"fuel proposal, {size}, nearest, delay given",
            median(lambda: fuel_proposal([log], base, "ve_main", plain)),
            "",
        ),
        (f"fuel proposal, {size}, delay sought", median(lambda: fuel_proposal([log], base, "ve_main", policy)), ""),
        (f"fuel proposal, {size}, delay given", median(lambda: fuel_proposal([log], base, "ve_main", fixed)), ""),
        ("policy changed, evidence remembered", median(lambda: proposal_from(evidence, table, fixed)), ""),
        ("why one cell got its number", median(lambda: explain(proposal, 4, 4)), ""),
    ]


def trust_rows() -> list[tuple[str, float, str]]:
    """Proposals with the delay sought, on a short log and on one of a million samples; and what the command's help takes."""
    kind = Variant("bench", Physics(), Recorder(rate=20.0, mixture_rate=20.0))
    rows = []
    for minutes, quicker in ((21.0, 1.0), (333.0, 2.5)):
        recorder = Recorder(rate=20.0 * quicker, mixture_rate=20.0 * quicker)
        engine = member(1, minutes, replace(kind, recorder=recorder))
        size = engine.logs[0].rasters[0].time.size
        took = median(lambda it=engine: fuel_proposal(it.logs, it.calibration, it.table.id, Policy()))  # type: ignore[misc]
        rows.append((f"fuel proposal, {size:,} samples, delay sought", took, ""))
    used = []
    for _ in range(REPEATS):
        before = os.times()
        subprocess.run([sys.executable, "-m", "uchiwa", "--help"], capture_output=True, check=True)
        after = os.times()
        used.append(
            (after.children_user + after.children_system - before.children_user - before.children_system) * 1000
        )
    rows.append(("uchiwa --help, processor time", statistics.median(used), ""))
    return rows


def storage_rows() -> list[tuple[str, float, str]]:
    """A channel chunk of 65,536 samples as loggers write them."""
    values = np.round(np.cumsum(np.random.default_rng(3).normal(0, 8, 65536)), 1)
    packed = pack(values)
    share = len(packed) / values.nbytes
    return [
        ("pack a chunk of 65,536 samples", median(lambda: pack(values)), f"to {share:.0%} of its size"),
        ("unpack it", median(lambda: unpack(packed, values.size)), ""),
    ]


def main() -> None:
    """Print one table."""
    print(f"{'what':<50} {'median ms':>10}  against")
    for rows in (
        bins_row,
        surface_row,
        reading_row,
        fuel_rows,
        trust_rows,
        storage_rows,
        editing.rows,
        collecting.rows,
    ):
        for words, milliseconds, ratio in rows():
            print(f"{words:<50} {milliseconds:>10.1f}  {ratio}")


if __name__ == "__main__":
    main()
