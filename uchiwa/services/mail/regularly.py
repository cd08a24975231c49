"""Mails that the passing of time brings: reminders to customers, digests to the shop's people."""

from __future__ import annotations

import json
from datetime import timedelta
from string import Template
from typing import Any

from uchiwa.core.rounds.progress import Move
from uchiwa.services.mail.kinds import KINDS
from uchiwa.services.mail.telling import tell_customer
from uchiwa.store import mails, queue, shops
from uchiwa.store.clock import now
from uchiwa.store.database import run_again, unit_of_work
from uchiwa.store.models import Car, Customer, Job, Mail, Shop, User

MOST_REMINDERS = 3
DIGEST_AFTER = timedelta(hours=20)
"""A digest goes out when something has waited so long for it, and then with all that came since."""


def remind_all() -> None:
    """Remind customers of jobs that wait for their logs, each shop after its number of days, three times at most."""
    if not mails.enabled():
        return
    for shop_id in shops.that_remind():
        _remind(shop_id)


@run_again
def _remind(shop_id: int) -> None:
    with unit_of_work():
        shop = Shop.get_by_id(shop_id)
        days = int(shop.remind_days)
        for entry in queue.queue(shop_id, queue.JobFilter(closed=False, moved_before=now() - timedelta(days=days))):
            if entry.move is not Move.THEIRS or not entry.facts.briefed:
                continue
            number = (now() - entry.since).days // days
            if 1 <= number <= MOST_REMINDERS and not entry.job.car.customer.reminders_off:
                once = f"reminder:{entry.round.id}:{entry.since:%Y%m%d}:{number}"
                tell_customer("reminder", entry.job, once, days=(now() - entry.since).days)


def digest_all() -> None:
    """Send digests to those who wish them."""
    if not mails.enabled():
        return
    with unit_of_work():
        waiting = [person.id for person in mails.people_with_held(now() - DIGEST_AFTER)]
    for user_id in waiting:
        _digest(user_id)


@run_again
def _digest(user_id: int) -> None:
    with unit_of_work():
        person = User.get_by_id(user_id)
        held = mails.take_held(person)
        if held:
            details = {"count": f"{len(held)} {'thing' if len(held) == 1 else 'things'}", "lines": _lines(held)}
            mails.post(
                "digest", person.email, f"digest:{held[0].id}", shop_id=person.shop_id, user=person, details=details
            )


def _lines(held: list[Mail]) -> list[list[Any]]:
    """What each tells, with the job it is about: whoever is erased goes from digests, too."""
    ids = {mail.job_id for mail in held}
    about = {
        job.id: {"customer": job.car.customer.name, "car": job.car.title}
        for job in Job.select(Job, Car, Customer).join(Car).join(Customer).where(Job.id.in_(ids))
    }
    return [
        [
            mail.job_id or 0,
            Template(KINDS[mail.kind].subject).safe_substitute(
                about.get(mail.job_id or 0, {}) | json.loads(mail.details)
            ),
        ]
        for mail in held
    ]
