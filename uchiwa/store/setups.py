"""Temporary setups of a job, and the shop's own ones."""

from __future__ import annotations

import json

from uchiwa.core.cars.temporary_setups import (
    PREPARED,
    Active,
    Setup,
    SetupSetting,
    as_data,
    from_data,
    put_back,
    switch,
)
from uchiwa.core.errors import BadInput
from uchiwa.store import calibrations, draft_steps, drafts
from uchiwa.store.acting import Acting
from uchiwa.store.draft_steps import StepAccount
from uchiwa.store.locks import lock_shop
from uchiwa.store.models import Job, Shop

ON, OFF = "setup-on", "setup-off"
MOST = 20


def active(job: Job) -> Active | None:
    """The setup in force, if one is."""
    return from_data(json.loads(job.setup)) if job.setup else None


def must_be_off(job: Job) -> None:
    """Raises BadInput while a setup is in force: its settings must not stay in the car."""
    found = active(job)
    if found is not None:
        raise BadInput(
            f"the temporary setup “{found.name}” is still in force",
            advice="put it back on the page of temporary setups first",
        )


def of_shop(shop: Shop) -> list[Setup]:
    """The prepared ones and the shop's own."""
    own = [
        Setup(
            entry["name"], entry["sentence"], tuple(SetupSetting(name, float(value)) for name, value in entry["wishes"])
        )
        for entry in json.loads(shop.own_setups)
    ]
    return [*PREPARED, *own]


def keep_own(shop_id: int, setup: Setup | None, name: str) -> None:
    """Keep a setup of the shop's own in place of one of the same name, or drop that one; one person after another.

    Raises:
        BadInput: the name is a prepared one's, or there are too many.
    """
    if any(one.name == name for one in PREPARED):
        raise BadInput(f"“{name}” comes with Uchiwa", advice="choose another name")
    shop = lock_shop(shop_id)
    own = [entry for entry in json.loads(shop.own_setups) if entry["name"] != name]
    if setup is not None:
        if len(own) >= MOST:
            raise BadInput(f"a shop has at most {MOST} setups of its own", advice="drop one first")
        wishes = [[wish.name, wish.value] for wish in setup.wishes]
        own.append({"name": setup.name, "sentence": setup.sentence, "wishes": wishes})
    Shop.update(own_setups=json.dumps(own, ensure_ascii=False)).where(Shop.id == shop_id).execute()


def activate(by: Acting, setup: Setup) -> Active:
    """Switch a setup's settings in the draft.

    Raises:
        StaleDraftError: the draft has changed since the person looked.
        BadInput: another setup is in force, or the calibration has none of the settings.
    """
    draft = drafts.as_seen(by.job, by.version)
    if by.job.setup:
        raise BadInput("a temporary setup is in force already", advice="put it back first")
    before = calibrations.content(draft.calibration)
    after, found = switch(before, setup)
    data = as_data(found)
    sentence = f"Temporary setup “{setup.name}”: {len(found.switched)} settings switched"
    draft_steps.change(draft, by, after, StepAccount(ON, sentence, data))
    Job.update(setup=json.dumps(data)).where(Job.id == by.job.id).execute()
    return found


def deactivate(by: Acting) -> tuple[str, ...]:
    """Put everything back; tells what had been changed meanwhile.

    Raises:
        StaleDraftError: the draft has changed since the person looked.
        BadInput: no setup is in force.
    """
    draft = drafts.as_seen(by.job, by.version)
    found = active(by.job)
    if found is None:
        raise BadInput("no temporary setup is in force", advice="reload the page")
    after, touched = put_back(calibrations.content(draft.calibration), found)
    sentence = f"Temporary setup “{found.name}” put back: {len(found.switched)} settings"
    draft_steps.change(draft, by, after, StepAccount(OFF, sentence, {"touched": list(touched)}))
    Job.update(setup=None).where(Job.id == by.job.id).execute()
    return touched
