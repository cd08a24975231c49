"""Each defect of a log yields its finding and no other; clean logs yield none. The table is printed with `pytest -s`."""

from __future__ import annotations

from functools import cache

import pytest

from uchiwa.core.briefs.standard_brief import propose_brief
from uchiwa.core.checks import CHECKS, ExaminedLog, Finding, Severity, examine
from uchiwa.core.logs.log import Log
from uchiwa.core.logs.readers import read_log
from uchiwa.core.tables.table import Calibration, Table
from uchiwa.standin.cars import calibrated
from uchiwa.standin.defects import DEFECTS, Defect
from uchiwa.standin.fleet import car_named
from uchiwa.standin.simulate import simulate

CARS = ("corvid-pike", "larkspur-tern", "bramble-wren")
DRIVES = ("cold_start", "warm_idle", "steady_cruise", "roll_on", "full_load_pull")


@cache
def right(car: str) -> Calibration:
    return calibrated(car_named(car))


@cache
def driven(car: str, drive: str, seed: int) -> Log:
    return simulate(car_named(car), right(car), drive, seed, revision=f"{car}, revision 2")


def table_of(car: str) -> Table:
    calibration = right(car)
    return (calibration.by_role("volumetric_efficiency") or calibration.by_role("maf_curve"))[0]


def found_in(car: str, data: bytes, purpose: str = "full_load") -> list[Finding]:
    stand_in = car_named(car)
    table = table_of(car)
    brief = propose_brief(stand_in.file, purpose, table)
    log = read_log(data, "drive.csv", stand_in.file.knowledge())
    return examine(ExaminedLog(log, stand_in.file, brief, right(car), 2, table))


def written(car: str, log: Log) -> bytes:
    stand_in = car_named(car)
    brief = propose_brief(stand_in.file, "full_load", table_of(car))
    wanted = [ask.quantity for ask in brief.asked]
    unusual = ("low_octane_flag", "mixture_voltage", "knock_count", "exhaust_temperature", "learned_knock_retard")
    extra = [channel.quantity for channel in log.rasters[0].channels if channel.quantity in unusual]
    if extra:
        from uchiwa.standin.logger import write_delimited

        return write_delimited(log).encode()
    return stand_in.logger.write(log, wanted)


@pytest.mark.parametrize("defect", DEFECTS, ids=[f"{one.rule}: {one.words}" for one in DEFECTS])
def test_each_defect_yields_exactly_its_finding(defect: Defect):
    data = written(defect.car, defect.spoil(driven(defect.car, defect.drive, 3)))
    if defect.text is not None:
        data = defect.text(data)
    found = found_in(defect.car, data)
    print(f"{defect.words:<45} {defect.drive:<16} {[one.rule for one in found]}")
    assert [one.rule for one in found] == [defect.rule]
    assert found[0].customer.endswith((".", "”."))
    assert found[0].tuner


def test_every_check_has_a_defect_that_it_finds():
    rules = {defect.rule for defect in DEFECTS}
    names = {check.__name__ for check in CHECKS} - {"knock"} | {"knock_repeated", "knock_single"}
    assert {name for name in names if name not in rules} == set()


@pytest.mark.parametrize("car", CARS)
@pytest.mark.parametrize("drive", DRIVES)
def test_clean_logs_yield_nothing(car: str, drive: str):
    for seed in (3, 5):
        for purpose in ("fuel", "full_load"):
            assert found_in(car, written(car, driven(car, drive, seed)), purpose) == []


def test_the_base_calibration_of_a_first_round_is_no_reason_to_refuse_a_log():
    for car, seed in (("larkspur-tern", 82), ("bramble-wren", 71)):
        stand_in = car_named(car)
        base = stand_in.base()
        table = (base.by_role("volumetric_efficiency") or base.by_role("maf_curve"))[0]
        log = simulate(stand_in, base, "steady_cruise", seed, revision=f"{car}, revision 0")
        brief = propose_brief(stand_in.file, "fuel", table)
        back = read_log(
            stand_in.logger.write(log, [ask.quantity for ask in brief.asked]), "a", stand_in.file.knowledge()
        )
        found = examine(ExaminedLog(back, stand_in.file, brief, base, 0, table))
        assert [one.rule for one in found if one.severity is Severity.CRITICAL] == []
