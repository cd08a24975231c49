"""The demo data: a hill-climb club's jobs, each at another point of a round, all driven by stand-in cars."""

from __future__ import annotations

import io
import json
import multiprocessing
import os
import signal
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor, as_completed
from dataclasses import replace
from datetime import timedelta

import numpy as np

from uchiwa import forking
from uchiwa.core.briefs.brief import Purpose
from uchiwa.core.errors import BadInput
from uchiwa.core.logs.log import FloatArray, Log
from uchiwa.core.proposals.fuel.evidence import QUANTITIES
from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.core.proposals.fuel.proposal import fuel_proposal
from uchiwa.core.proposals.fuel.report import report
from uchiwa.core.proposals.idle_air.report import report as idle_report
from uchiwa.core.proposals.warm_up.report import report as warm_report
from uchiwa.core.pulls.pull import Source
from uchiwa.core.quantities.display import DisplayUnits
from uchiwa.core.tables.difference import difference
from uchiwa.core.tables.image.files import write_image
from uchiwa.core.tables.table import Calibration
from uchiwa.demo_jobs import JOBS, SPRINT, DemoJob
from uchiwa.demo_shelf import load_shelf
from uchiwa.parent import end_with_parent
from uchiwa.services import freezing, idle, spark, table_proposals, tables
from uchiwa.services.importing import import_log
from uchiwa.services.review import review_work
from uchiwa.settings import read_settings
from uchiwa.standin.cars import StandInCar
from uchiwa.standin.defects import changed
from uchiwa.standin.dyno import dyno_run, write_run
from uchiwa.standin.fleet import car_named
from uchiwa.standin.kept_drives import keeping
from uchiwa.standin.layouts import image_of, layout_data
from uchiwa.standin.simulate import simulate
from uchiwa.standin.sprint import sprint_car
from uchiwa.store import (
    accounts,
    answers,
    briefs,
    calibrations,
    customers,
    draft_steps,
    drafts,
    images,
    job_notes,
    jobs,
    messages,
    pull_notes,
    revisions,
    roles,
    samples,
    uploads,
)
from uchiwa.store.acting import Acting
from uchiwa.store.clock import now
from uchiwa.store.database import connect_to, run_again, unit_of_work
from uchiwa.store.models import Car, Customer, DemoPart, Job, Revision, Round, User
from uchiwa.store.place import Place
from uchiwa.web.report import report as report_of

EMAIL = "orrell@uchiwa.example"
PASSWORD = "paper-ink-and-a-fan"  # noqa: S105 - the demo's own, printed when it starts
SHOP = "Hill Club calibration"
TUNER = "M. Orrell"
COLLEAGUES = (("tamsin@uchiwa.example", "T. Vane", roles.TUNER), ("club@uchiwa.example", "Hill Club", roles.READER))
"""Who works with the tuner, and who looks on; they sign in with the same password."""
KNOCK = ("knock_level", "knock_limit", "knock_count")
POLICY = Policy(strength=60, limit_percent=12)


def _name(demo: DemoJob) -> str:
    """What a job of the scenario is called among the parts."""
    return f"{demo.customer}, {demo.title}"[:64]


def loaded() -> bool:
    """Whether all of the demo data is there: each job of the scenario, and each of them whole."""
    with unit_of_work():
        there = User.select().where(User.email == EMAIL).exists()
        done = {part.name for part in DemoPart.select().where(DemoPart.done)}
    return there and done >= {_name(demo) for demo in JOBS}


def load(tell: Callable[[str], object] = lambda _: None) -> None:
    """Load what is missing of the demo data; what a kill has left half made is made anew.

    Args:
        tell: called with a sentence as each car is ready.
    """
    tuner_id = _tuner()
    with unit_of_work():
        _adopt(tuner_id)
        done = {part.name for part in DemoPart.select().where(DemoPart.done)}
    waiting = [demo for demo in JOBS if _name(demo) not in done]
    workers = min(os.cpu_count() or 1, max(1, len(waiting)))
    with ProcessPoolExecutor(workers, mp_context=forking.context(), initializer=_connect) as pool:
        under_way = {pool.submit(_load_job, tuner_id, demo): demo for demo in waiting}
        try:
            for number, finished in enumerate(as_completed(under_way), len(JOBS) - len(waiting) + 1):
                finished.result()
                demo = under_way[finished]
                tell(f"  {number:2} of {len(JOBS)}  {demo.title}, {demo.customer}")
        except BaseException:  # one has failed, or this is to end: nobody waits for the others
            for child in multiprocessing.active_children():
                child.terminate()
            raise
    load_shelf(tuner_id, JOBS[0].customer)


@run_again
def _tuner() -> int:
    """The id of the demo's tuner, made with the shop if there is none."""
    try:
        with unit_of_work():
            shop = accounts.create_shop(SHOP)
            tuner = accounts.create_user(shop, EMAIL, TUNER, PASSWORD, operator=True)
            for email, name, role in COLLEAGUES:
                accounts.create_user(shop, email, name, PASSWORD, role)
            return int(tuner.id)
    except BadInput:
        with unit_of_work():
            return int(User.get(User.email == EMAIL).id)


def _adopt(tuner_id: int) -> None:
    """Jobs that were loaded before parts were noted: those with all their rounds are done, the others go."""
    shop_id = User.get_by_id(tuner_id).shop_id
    noted = {part.name for part in DemoPart.select()}
    query = Job.select(Job, Car, Customer).join(Car).join(Customer).where(Job.shop == shop_id)
    here = {(one.car.customer.name, one.car.title): one for one in query}
    for demo in JOBS:
        job = here.get((demo.customer, demo.title))
        if job is None or _name(demo) in noted:
            continue
        if len(jobs.rounds(job)) >= len(demo.drives):
            DemoPart.create(name=_name(demo), job=job, done=True)
        else:
            jobs.drop(job)


def _connect() -> None:
    forking.begin_forked("uchiwa demo")
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # a Ctrl-C is for the one that ends it
    signal.signal(signal.SIGTERM, signal.SIG_DFL)
    end_with_parent()  # so that nobody loads beside the one that starts over
    place = Place.load()
    if place is not None:
        connect_to(place)


def _never_warm(time: FloatArray, coolant: FloatArray, _: dict[str, FloatArray]) -> FloatArray:
    return np.minimum(coolant, 34.0 + 0.046 * time)


def _simulated(car: StandInCar, calibration: Calibration, name: str, seed: int, revision: str) -> Log:
    folder = read_settings().drives_kept
    drive = simulate if folder is None else keeping(simulate, folder)
    return drive(car, calibration, name, seed, revision=revision)


def _upload(job: Job, round_: Round, name: str, data: bytes) -> None:
    log, _ = uploads.receive(job, round_, name, io.BytesIO(data), by_customer=True)
    import_log(log.id)


def _load_job(tuner_id: int, demo: DemoJob) -> None:
    car = sprint_car() if demo.car == SPRINT else car_named(demo.car)
    tuner, job = _begin_job(tuner_id, demo, car, car.base())
    for number, drives in enumerate(demo.drives, start=1):
        last = number == len(demo.drives)
        round_, calibration = _prepare(tuner, job, demo, last=last)
        for name, seed in drives:
            _drive(round_, demo, car, calibration, (name, seed, number))
        if last and demo.runs:
            _dyno_runs(job, round_, demo, car, calibration)
        if drives and (not last or demo.taken):
            _take_idle(job, round_, tuner) if demo.purpose == "idle" else _take(job, round_, tuner, calibration)
        if last:
            _edit(job, round_, tuner, demo)
        else:
            _freeze(job, round_, tuner, demo.carried if number == len(demo.drives) - 1 else "flashed")
    with unit_of_work():
        if demo.closed:
            jobs.close(job, tuner, closed=True)
        DemoPart.update(done=True).where(DemoPart.name == _name(demo)).execute()
        Job.update(moved_at=now() - timedelta(hours=demo.hours)).where(Job.id == job.id).execute()


def _prepare(tuner: User, job: Job, demo: DemoJob, *, last: bool) -> tuple[Round, Calibration]:
    """The round that is open, with its policy and its brief, and the calibration the car runs in it."""
    with unit_of_work():
        round_ = jobs.rounds(job)[-1]
        Round.update(policy=json.dumps(POLICY.model_dump(mode="json"))).where(Round.id == round_.id).execute()
        calibration = calibrations.content(drafts.current(job).base.calibration)
        brief = briefs.standard(jobs.find(tuner.shop_id, job.id) or job, round_, _purpose(demo, last=last))
        if demo.briefed or not last:
            briefs.keep(round_, brief)
    return round_, calibration


def _drive(
    round_: Round, demo: DemoJob, car: StandInCar, calibration: Calibration, drive: tuple[str, int, int]
) -> None:
    """Drive the car as briefed (drive, seed, number of the round) and upload the log."""
    name, seed, number = drive
    job, last = round_.job, number == len(demo.drives)
    recording = _simulated(car, calibration, name, seed, revision=f"{calibration.id}, revision {number - 1}")
    recording = replace(recording, notes={"revision": recording.notes["revision"]})
    if demo.way == "cold" and last and name == "steady_cruise":
        recording = changed(recording, coolant_temperature=_never_warm)
    with unit_of_work():
        brief = briefs.standard(job, round_, _purpose(demo, last=last))
    asked = [ask.quantity for ask in brief.asked] + [one for one in KNOCK if car.knock_channels]
    data = car.logger.write(recording, list(dict.fromkeys(asked)))
    if demo.spoiled and last:
        data = data.replace(b"Engine speed [rpm]", b"Crank pulses [1]")
    _upload(job, round_, f"{name.replace('_', ' ')} {number}.csv", data)


def _dyno_runs(job: Job, round_: Round, demo: DemoJob, car: StandInCar, calibration: Calibration) -> None:
    """Runs on the dyno, each with its note; pulls on the road are hidden beside them."""
    for run, (offset, note) in enumerate(demo.runs, 1):
        measured = dyno_run(car, calibration, 93, run, offset=offset)
        _upload(job, round_, f"dyno run {run}.csv", write_run(measured))
        with unit_of_work():
            log = jobs.spark_logs(round_)[-1]
            pull_notes.keep((log.id, 1), note=note)
    with unit_of_work():
        for row in spark.pull_rows(job, round_):
            if row.pull.source is not Source.DYNO:
                pull_notes.keep((row.log.id, row.pull.number), hidden=True)


@run_again
def _begin_job(tuner_id: int, demo: DemoJob, car: StandInCar, calibration: Calibration) -> tuple[User, Job]:
    """Take on a car of the scenario, in place of what an interrupted load has left of it."""
    with unit_of_work():
        tuner = User.get_by_id(tuner_id)
        half_made = DemoPart.get_or_none(DemoPart.name == _name(demo))
        if half_made is not None and half_made.job_id is not None:
            jobs.drop(Job.get_by_id(half_made.job_id))
        job = jobs.create(tuner, demo.customer, demo.title, demo.details, calibration, car.file)
        customers.set_email(job.car.customer, f"{'.'.join(demo.customer.lower().split())}@drivers.example")
        if demo.colleagues:
            jobs.hand_over(job, tuner, User.get(User.email == COLLEAGUES[0][0]))
        for words in demo.notes:
            job_notes.write(job, tuner, words)
        DemoPart.insert(name=_name(demo), job=job, done=False).on_conflict(
            preserve=(DemoPart.job, DemoPart.done)
        ).execute()
        if demo.image:
            name = f"{car.id}.hex"
            images.keep(job, tuner, json.dumps(layout_data(car)), name, write_image(image_of(car), "hex"))
        for from_tuner, text in demo.words:
            messages.write(job, text, tuner if from_tuner else None)
        return tuner, job


NOTES = """Please flash this, **reset the learned fuel trims**, then record again:

- warm idle, 30 s, everything electric switched off
- a steady cruise as last time, with the long hill in it
"""


def _acting(job: Job, round_: Round, tuner: User, why: str = "") -> Acting:
    return Acting(job, round_, tuner, drafts.current(job).version, why)


def _edit(job: Job, round_: Round, tuner: User, demo: DemoJob) -> None:
    for table, cells, line, why in demo.edits:
        with unit_of_work():
            editor = tables.Editor(_acting(job, round_, tuner, why))
            tables.edit(editor, tables.table_work(job, round_, table), list(cells), line)


def _freeze(job: Job, round_: Round, tuner: User, carried: str) -> None:
    with unit_of_work():
        found = jobs.find(tuner.shop_id, job.id) or job
        round_ = jobs.rounds(found)[round_.number - 1]
        for concern in review_work(found, round_).open:
            answers.give(found, round_, tuner, concern, "seen in the logs, fits its neighbours")

        def reporting(frozen: Revision, told: freezing.Account, image_hash: str) -> str:
            return report_of.body(round_, frozen, told, DisplayUnits(), image_hash)

        revision = freezing.freeze(_acting(found, round_, tuner), NOTES, reporting, final=False)
        if carried in ("downloaded", "flashed"):
            revisions.downloaded(revision)
        if carried == "flashed":
            revisions.flashed(found, revision)


def _purpose(demo: DemoJob, *, last: bool) -> Purpose:
    """Of a round's brief: rounds before the last are about fuel, but for a car whose fuel is done."""
    return demo.purpose if last or demo.purpose == "idle" else "fuel"


def _take_idle(job: Job, round_: Round, tuner: User) -> None:
    with unit_of_work():
        found = idle.idle_air_work(job, round_)
        taking = table_proposals.values_taken(found.context, found.proposal.after, None, idle.AS_IDLE)
        table_proposals.take(_acting(job, round_, tuner), found.context, taking, idle_report(found.proposal))
    with unit_of_work():
        warm = idle.warm_up_work(job, round_)
        taking = table_proposals.values_taken(warm.context, warm.proposal.after, None, idle.AS_WARM_UP)
        table_proposals.take(_acting(job, round_, tuner), warm.context, taking, warm_report(warm.proposal))


def _take(job: Job, round_: Round, tuner: User, calibration: Calibration) -> None:
    with unit_of_work():
        logs = samples.read(jobs.usable_logs(round_), QUANTITIES)
        table = (calibration.by_role("volumetric_efficiency") or calibration.by_role("maf_curve"))[0]
        proposal = fuel_proposal(logs, calibration, table.id, POLICY)
        after = calibration.with_table(proposal.corrected)
        sentence = difference(calibration, after).tables[0].sentence
        draft = drafts.current(job)
        told = draft_steps.StepAccount(jobs.TAKE, sentence, report(proposal))
        draft_steps.change(draft, _acting(job, round_, tuner), after, told)
