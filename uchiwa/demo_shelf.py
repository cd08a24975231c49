"""What stands on the shelf of the demo: a map that ended well, and what the stand-in cars came with."""

from __future__ import annotations

from uchiwa.core.shelf.contents import car_document
from uchiwa.core.tables.image import layout_json
from uchiwa.services import shelf as services
from uchiwa.standin.a2l import description_of
from uchiwa.standin.bus import dbc_of
from uchiwa.standin.files import PIKE_FILE, TERN_FILE
from uchiwa.standin.fleet import car_named
from uchiwa.standin.layouts import layout_of
from uchiwa.standin.simulate import simulate
from uchiwa.store import jobs, revisions
from uchiwa.store.database import run_again, unit_of_work
from uchiwa.store.models import Job, Revision, User
from uchiwa.store.shelf import EntryDescription, NameTakenError

_PIKE, _WREN = "corvid-pike", "bramble-wren"


def load_shelf(tuner_id: int, customer: str) -> None:
    """Put it there; what is there already stays.

    Args:
        tuner_id: who puts it there.
        customer: whose car ended well.
    """
    pike, wren = car_named(_PIKE), car_named(_WREN)
    drive = simulate(wren, wren.base(), "warm_idle", 1)
    files = (
        (layout_json.dumps(layout_of(pike)).encode(), "pike.layout.json",
         EntryDescription("Corvid Pike, 16 KiB image", "Read out of three cars of 2009 to 2013, all the same.", "pike, turbo")),
        (description_of(layout_of(wren)).encode(), "wren.a2l",
         EntryDescription("Bramble Wren controller", "As its maker describes it; the checksum is not in it.", "wren")),
        (dbc_of(drive).encode(), "wren.dbc", EntryDescription("Bramble Wren bus", "Two signals to a message.", "wren, bus")),
        (car_document(PIKE_FILE), "pike.car.json", EntryDescription("Corvid Pike 2.0, standard", "3 bar sensor, wideband.", "pike, turbo")),
        (car_document(TERN_FILE), "tern.car.json", EntryDescription("Larkspur Tern 3.2", "Trims only, two banks.", "tern")),
    )  # fmt: skip
    for data, name, about in files:
        _put(tuner_id, data, name, about)
    _put_revision(tuner_id, customer)


@run_again
def _put(tuner_id: int, data: bytes, name: str, about: EntryDescription) -> None:
    try:
        with unit_of_work():
            services.put_file(User.get_by_id(tuner_id), data, name, about)
    except NameTakenError:
        return


@run_again
def _put_revision(tuner_id: int, customer: str) -> None:
    try:
        with unit_of_work():
            author = User.get_by_id(tuner_id)
            for job in jobs.recent(author.shop_id, 100):
                if job.car.customer.name == customer and (revision := _last(job)) is not None:
                    words = "Runs well on good fuel; mild above 5000 rpm. Start 4° lower for a worse one."
                    about = EntryDescription("Corvid Pike 2.0, good fuel", words, "pike, turbo")
                    services.put_revision(author, job, revision, about)
    except NameTakenError:
        return


def _last(job: Job) -> Revision | None:
    found = [revision for revision in revisions.of_job(job) if revision.number > 0]
    return revisions.numbered(job, max(revision.number for revision in found)) if found else None
