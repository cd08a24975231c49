"""How close fuel proposals come to the stand-in cars' hidden truth."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np

from uchiwa.core.formulas.evaluation import Scope
from uchiwa.core.logs.log import BoolArray, FloatArray, Log
from uchiwa.core.proposals.fuel.evidence import gather
from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.core.proposals.fuel.proposal import FuelProposal, proposal_from
from uchiwa.core.tables.table import Calibration, Table
from uchiwa.standin.cars import StandInCar, tern_airflow, true_grid
from uchiwa.standin.drives import DRIVES, mixed_road
from uchiwa.standin.wideband import Wideband

MINUTES = 22.0
DRIVE = "mixed_road_22_min"
DRIVES.setdefault(DRIVE, lambda rng: mixed_road(rng, MINUTES))

PLAIN = Policy(estimator="nearest", transients="none")
POLICIES = {
    "plain nearest": PLAIN,
    "nearest": Policy(estimator="nearest"),
    "weighted": Policy(estimator="weighted"),
    "surface": Policy(estimator="surface"),
}


@dataclass(frozen=True)
class Accuracy:
    """One log's result.

    Attributes:
        cells: with at least half a second (of the nearest breakpoint).
        rms: error of each estimator's factor there, % RMS.
        covered: share of those cells whose true factor lies in the surface's 95 % interval.
        width: RMS of the deviations over their stated standard errors: 1 is exact, 0.5 twice too wide.
        delay: estimated mean delay over the used samples, relative to the sensor's own.
    """

    cells: int
    rms: dict[str, float]
    covered: float
    width: float
    delay: float


def true_factor(car: StandInCar, table: Table) -> FloatArray:
    """What each cell would have to be multiplied with."""
    if table.role == "maf_curve":
        truth = np.array([[tern_airflow(float(x)) for x in table.x.breakpoints]])
    else:
        truth = true_grid(car, table)
    return np.asarray(truth / table.grid)


def rms_percent(found: FloatArray, truth: FloatArray, cells: BoolArray) -> float:
    """Root mean square of relative errors, %."""
    return float(np.sqrt(np.nanmean((found[cells] / truth[cells] - 1) ** 2)) * 100)


def measure(car: StandInCar, calibration: Calibration, log: Log, sensor: Wideband) -> Accuracy:
    """All estimators at full strength on one log."""
    table = next(one for one in calibration.tables if one.role in ("volumetric_efficiency", "maf_curve"))
    truth = true_factor(car, table)
    found: dict[str, FuelProposal] = {}
    for name, policy in POLICIES.items():
        same = next((one for one in found.values() if one.policy.evidence_key() == policy.evidence_key()), None)
        evidence = gather([log], table, policy, Scope(calibration)) if same is None else same.evidence
        found[name] = proposal_from(evidence, table, policy)
    cells = found["plain nearest"].bins.dwell >= 0.5
    surface = found["surface"]
    deviation = ((surface.estimate.factor - truth) / surface.estimate.standard_error)[cells]
    deviation = deviation[np.isfinite(deviation)]
    airflow = _airflow(surface, log, calibration)
    true_delay = sensor.d0 + sensor.lag + sensor.k / airflow
    delay = surface.evidence.delay
    return Accuracy(
        cells=int(cells.sum()),
        rms={name: rms_percent(one.estimate.factor, truth, cells) for name, one in found.items()},
        covered=float(np.mean(np.abs(deviation) <= 1.96)),
        width=float(np.sqrt(np.mean(deviation**2))),
        delay=float(np.mean(delay.d0 + delay.k / airflow) / np.mean(true_delay)),
    )


def _airflow(proposal: FuelProposal, log: Log, calibration: Calibration) -> FloatArray:
    from uchiwa.core.airflow.speed_density import logged_airflow
    from uchiwa.core.logs.timebase import on_one_base

    _, signals = on_one_base(log)
    airflow = logged_airflow(signals, calibration)
    assert airflow is not None
    return np.maximum(airflow[proposal.evidence.sieve.used], 0.5)


def table_of(rows: Iterable[tuple[str, Accuracy]]) -> str:
    """The results as a table, with the median below."""
    rows = list(rows)
    head = f"{'':16}cells  " + "  ".join(f"{name:>13}" for name in POLICIES)
    head += "   surface/plain  surface/nearest  weighted/plain  weighted/nearest  in 95 %  width  delay"
    lines = [head]
    for name, one in rows:
        lines.append(
            f"{name:16}{one.cells:5d}  " + "  ".join(f"{one.rms[key]:13.3f}" for key in POLICIES) + _ratios(one)
        )
    middle = Accuracy(
        int(np.median([one.cells for _, one in rows])),
        {key: float(np.median([one.rms[key] for _, one in rows])) for key in POLICIES},
        float(np.mean([one.covered for _, one in rows])),
        float(np.median([one.width for _, one in rows])),
        float(np.median([one.delay for _, one in rows])),
    )
    lines.append(
        f"{'median':16}{middle.cells:5d}  "
        + "  ".join(f"{middle.rms[key]:13.3f}" for key in POLICIES)
        + _ratios(middle)
    )
    return "\n".join(lines)


def _ratios(accuracy: Accuracy) -> str:
    plain, nearest = accuracy.rms["plain nearest"], accuracy.rms["nearest"]
    surface, weighted = accuracy.rms["surface"], accuracy.rms["weighted"]
    return (
        f"   {surface / plain:13.2f}  {surface / nearest:15.2f}  {weighted / plain:14.2f}  {weighted / nearest:16.2f}"
        f"  {accuracy.covered:7.3f}  {accuracy.width:5.2f}  {accuracy.delay:5.2f}"
    )
