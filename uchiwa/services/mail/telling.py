"""Who is told what: posts mails in the transaction of what they tell of."""

from __future__ import annotations

from typing import Any

from uchiwa.services.mail.kinds import KINDS
from uchiwa.store import mails, people
from uchiwa.store.models import Car, Customer, Job, LogFile, OneTimeLink, User
from uchiwa.store.people import DIGEST


def tell_customer(kind: str, job: Job, once: str, **details: Any) -> None:
    """Tell a job's customer, if their address is known and the job is open."""
    if not mails.enabled() or job.closed:
        return
    customer = Customer.select().join(Car).where(Car.id == job.car_id).get()
    mails.post(kind, customer.email, once, shop_id=job.shop_id, job=job, details=details)


def tell_tuners(kind: str, job: Job, once: str, *, but: User | None = None, **details: Any) -> None:
    """Tell whoever has the job in hand, or everybody who works in the shop; each as they wish it."""
    if not mails.enabled():
        return
    for person in people.concerned(job):
        if but is None or person.id != but.id:
            tell_tuner(kind, job, person, once, **details)


def tell_tuner(kind: str, job: Job, person: User, once: str, **details: Any) -> None:
    """Tell one of the shop's people about a job, as they wish it."""
    if person.told_by_mail == people.NEVER:
        return
    mails.post(
        kind, person.email, f"{once}:{person.id}", shop_id=job.shop_id, job=job, user=person, details=details,
        held=person.told_by_mail == DIGEST,
    )  # fmt: skip


def tell_person(
    kind: str, person: User, once: str, *, link: OneTimeLink | None = None, address: str | None = None, **details: Any
) -> None:
    """Tell a person about their own account, at another address than theirs if one is given; whatever they wish otherwise."""
    mails.post(kind, address or person.email, once, shop_id=person.shop_id, user=person, link=link, details=details)


def tell_invited(link: OneTimeLink, **details: Any) -> None:
    """Send an invitation."""
    mails.post("invitation", link.email, f"invitation:{link.id}", shop_id=link.shop_id, link=link, details=details)


def log_refused(log: LogFile, why: str) -> None:
    """A log could not be read, or may not be used: tell who sent it, and the tuner."""
    job = Job.get_by_id(log.job_id)
    if log.by_customer:
        tell_customer("log-refused", job, f"log-refused:{log.id}", log=log.name, why=why, round=_round(log))
    tell_tuners("log-unfit", job, f"log-unfit:{log.id}", log=log.name, why=why, round=_round(log))


def log_accepted(log: LogFile) -> None:
    """A customer's log has come and can be used: tell the tuner."""
    if log.by_customer:
        job = Job.get_by_id(log.job_id)
        tell_tuners("log-in", job, f"log-in:{log.id}", log=log.name, round=_round(log))


def _round(log: LogFile) -> int:
    return int(log.round.number)


def title_of(kind: str) -> str:
    """What a kind of mail tells, in a few words."""
    return KINDS[kind].title if kind in KINDS else kind
