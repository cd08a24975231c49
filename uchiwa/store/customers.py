"""Customers: how they are reached, what there is of them, and forgetting them."""

from __future__ import annotations

import json
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from peewee import fn

from uchiwa.core.errors import BadInput
from uchiwa.store import jobs, mails, shelf
from uchiwa.store.addresses import address_typed
from uchiwa.store.locks import lock_job
from uchiwa.store.models import (
    Car,
    Customer,
    CustomerLink,
    Draft,
    Event,
    Flash,
    Job,
    LogFile,
    Mail,
    Message,
    Revision,
    StoredCalibration,
)
from uchiwa.store.rows import first, rows

PAGE = 50


def set_email(customer: Customer, email: str) -> None:
    """Where a customer is told by mail; empty for nowhere.

    Raises:
        BadInput: that is no address.
    """
    address = address_typed(email) if email.strip() else ""
    Customer.update(email=address).where(Customer.id == customer.id).execute()


def set_language(customer: Customer, language: str) -> None:
    """In which language a customer's pages are; the tuner's own words stay as they are."""
    Customer.update(language=language).where(Customer.id == customer.id).execute()


def set_reminders(customer: Customer, *, off: bool) -> None:
    """Whether a customer wants no reminders."""
    Customer.update(reminders_off=off).where(Customer.id == customer.id).execute()


def find(shop_id: int, customer_id: int) -> Customer | None:
    """A customer of a shop."""
    return first(Customer.select().where(Customer.id == customer_id, Customer.shop == shop_id))


_NAME_LETTERS = 3
"""A word of a customer's name that has so many is theirs wherever it stands."""


@dataclass(frozen=True)
class CustomerRow:
    """A customer in the list: how many jobs, logs and bytes there are of them, and when something moved last."""

    customer: Customer
    jobs: int
    moved_at: datetime | None
    logs: int = 0
    size: int = 0


def of_shop(shop_id: int, search: str = "", skip: int = 0) -> list[CustomerRow]:
    """A page of a shop's customers by name, in two queries.

    Args:
        search: only those with this in their name or address.
        skip: after so many.
    """
    query = Customer.select().where(Customer.shop == shop_id)
    if search.strip():
        query = query.where(Customer.name.contains(search.strip()) | Customer.email.contains(search.strip()))
    found = list(query.order_by(Customer.name, Customer.id).limit(PAGE + 1).offset(skip or None))
    ids = [customer.id for customer in found]
    counts = (
        Car.select(Car.customer, fn.COUNT(Job.id), fn.MAX(Job.moved_at)).join(Job).where(Car.customer.in_(ids)).group_by(Car.customer)
    )  # fmt: skip
    sizes = (
        Car.select(Car.customer, fn.COUNT(LogFile.id), fn.SUM(LogFile.size)).join(Job).join(LogFile)
        .where(Car.customer.in_(ids), LogFile.source.is_null()).group_by(Car.customer)
    )  # fmt: skip
    number = {key: (int(count), moved) for key, count, moved in rows(counts)}
    size = {key: (int(count), int(total or 0)) for key, count, total in rows(sizes)}
    return [
        CustomerRow(customer, *number.get(customer.id, (0, None)), *size.get(customer.id, (0, 0))) for customer in found
    ]


def jobs_of(customer: Customer) -> list[Job]:
    """A customer's jobs with their cars, oldest first."""
    return list(Job.select(Job, Car).join(Car).where(Car.customer == customer).order_by(Job.id))


def what_is_kept(customer: Customer) -> dict[str, Any]:
    """What is kept of a customer beside their jobs' archives, to be given to them: messages, links and mails."""
    ids = [job.id for job in jobs_of(customer)]
    messages = Message.select().where(Message.job.in_(ids)).order_by(Message.id)
    links = CustomerLink.select().where(CustomerLink.job.in_(ids)).order_by(CustomerLink.id)
    sent = Mail.select().where(Mail.job.in_(ids), Mail.user.is_null()).order_by(Mail.id)
    return {
        "name": customer.name,
        "email": customer.email,
        "reminders": not customer.reminders_off,
        "jobs": ids,
        "messages": [
            {"job": message.job_id, "at": f"{message.at}", "by_customer": message.author_id is None, "text": message.text}
            for message in messages
        ],
        "links": [
            {"job": link.job_id, "made_at": f"{link.made_at}", "used_at": f"{link.seen_at}", "ended_at": f"{link.revoked_at}"}
            for link in links
        ],
        "mails": [
            {"job": mail.job_id, "to": mail.recipient, "what": mail.kind, "sent_at": f"{mail.sent_at}"} | {"details": json.loads(mail.details)}
            for mail in sent
        ],
    }  # fmt: skip


def erase(customer: Customer, confirmed: str) -> int:
    """Forget a customer: jobs, logs, calibrations, messages, links and mails; how many jobs there were.

    Args:
        customer: of whom nothing stays, but in backups from before.
        confirmed: their name, typed.

    Raises:
        BadInput: the name is another.
    """
    if " ".join(confirmed.split()).casefold() != " ".join(customer.name.split()).casefold():
        raise BadInput("that is not the customer's name", advice="type it as it stands above, to confirm")
    found = jobs_of(customer)
    words = [word for word in str(customer.name).split() if len(word) >= _NAME_LETTERS]
    ids, names = [job.id for job in found], [str(customer.name), *words, *(str(job.car.title) for job in found)]
    mails.forget_jobs(customer.shop_id, ids)
    shelf.forget_origin(ids, names)
    # Sentences that wait for somebody's next page may name anybody.
    Flash.delete().where(fn.INSTR(Flash.text, customer.name) > 0).execute()
    for job in found:
        lock_job(job.id)
        calibrations = _calibrations_of(job)
        jobs.drop(job)
        _drop_unused(calibrations)
    Customer.delete().where(Customer.id == customer.id).execute()
    return len(found)


def _calibrations_of(job: Job) -> set[int]:
    revisions = Revision.select(Revision.calibration).where(Revision.job == job)
    drafts = Draft.select(Draft.calibration).where(Draft.job == job)
    steps = Event.select(Event.before, Event.after).where(Event.job == job)
    single = {int(one) for query in (revisions, drafts) for (one,) in rows(query)}
    return single | {int(one) for pair in rows(steps) for one in pair if one is not None}


def _drop_unused(ids: set[int]) -> None:
    """Contents that no other job of the shop has."""
    used = {
        int(one)
        for query in (
            Revision.select(Revision.calibration).where(Revision.calibration.in_(list(ids))),
            Draft.select(Draft.calibration).where(Draft.calibration.in_(list(ids))),
            Event.select(Event.before).where(Event.before.in_(list(ids))),
            Event.select(Event.after).where(Event.after.in_(list(ids))),
        )
        for (one,) in rows(query)
    }
    gone = ids - used
    if gone:
        StoredCalibration.delete().where(StoredCalibration.id.in_(list(gone))).execute()
