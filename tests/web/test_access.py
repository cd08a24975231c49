"""Every route, as everybody who must not get through: the table follows from the router, so that no route is forgotten."""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import ExitStack
from dataclasses import dataclass
from typing import Any

import pytest
from fastapi.routing import APIRoute

from tests.store.conftest import Scene, log_text, ready
from tests.web.conftest import Client
from uchiwa.core.live.opening import Opening
from uchiwa.core.tables.interchange import calibration_json
from uchiwa.services import shelf
from uchiwa.standin.cars import pike_base
from uchiwa.store import (
    accounts,
    api_tokens,
    briefs,
    jobs,
    links,
    live_passing,
    messages,
    notes,
    people,
    second_factor,
    sessions,
)
from uchiwa.store.database import database, unit_of_work
from uchiwa.store.models import ALL, Customer, LiveSession, User
from uchiwa.store.shelf import EntryDescription
from uchiwa.web.api import jobs as api_jobs
from uchiwa.web.api import revisions as api_revisions
from uchiwa.web.api import work as api_work
from uchiwa.web.api.caller import PATH, RequiredScope
from uchiwa.web.app import _ROUTES, create_app

SECRET = "Zyxwvut"
OPEN = ("/sign-in", "/sign-out", "/forgotten", "/begin/", "/join/", "/reset/", "/healthz", "/readyz")
OWNERS = ("/shop/people", "/shop/settings", "/shop/audit", "/shop/customers")
OPERATORS = ("/operation",)
READERS_OWN = ("/account", "/settings/", "/sign-out")
NOT_COMPARED = {"attempt", "flash", "web_session", "audit_entry", "worker_beat", "estimate", "mail"}
LONG = "seven quiet herons wait"
ROUTES = sorted(
    {(route.path, method) for module in _ROUTES for route in module.router.routes if isinstance(route, APIRoute)
     for method in route.methods if method != "HEAD"}
)  # fmt: skip


@dataclass
class Target:
    """A shop with something to hide in every corner, and what its addresses are made of."""

    scene: Scene
    token: str
    values: dict[str, Any]

    def address(self, path: str) -> str:
        """A route's address in this shop."""
        return re.sub(r"\{(\w+)(?::\w+)?\}", lambda match: str(self.values[match[1]]), path)


@pytest.fixture
def target(scene: Scene) -> Target:
    with unit_of_work():
        Customer.update(name=f"{SECRET} driver").execute()
        scene.job = jobs.find(scene.user.shop_id, scene.job.id)
        briefs.keep(scene.round, briefs.standard(scene.job, scene.round))
        messages.write(scene.job, f"{SECRET} message", scene.user)
        token = links.make(scene.job)
    log = ready(scene.receive(log_text(size=400), f"{SECRET}.csv")[0])
    with unit_of_work():
        note = notes.write(log, scene.user, (1.0, 2.0), f"{SECRET} note", shown=True)
    begun = live_session(scene)
    with unit_of_work():
        words = EntryDescription(f"{SECRET} map", f"{SECRET} words", SECRET)
        entry = shelf.put_file(scene.user, calibration_json.dumps(pike_base()).encode(), f"{SECRET}.json", words)
        api_tokens.make(scene.user, f"{SECRET} program", ["read"], 30)
        api_token = api_tokens.of_person(scene.user)[0]
    known = {
        "session_id": begun.id, "job_id": scene.job.id, "number": 1, "log_id": log.id, "note_id": note.id, "entry_id": entry.id,
        "token_id": api_token.id, "person_id": scene.user.id,
        "customer_id": scene.job.car.customer_id, "shop_id": scene.user.shop_id, "mail_id": 1, "table_id": "ve_main", "name": "boost", "token": token,
        "kind": "hex", "sheet": "torque", "size": "small", "one": "1", "revision": 0, "event_id": 1, "key": "x", "what": "x",
    }  # fmt: skip
    return Target(scene, token, known)


def live_session(scene: Scene) -> LiveSession:
    """One that is over and has been read, with words that only its shop and its customer may see."""
    opening = Opening.read({"channels": [{"name": "Engine speed", "unit": "rpm"}], "mark": SECRET, "drive": SECRET})
    session, _ = live_passing.begin(scene.job, scene.round, opening)
    rows = ",".join(f"[{n / 10},{900 + n}]" for n in range(60))
    live_passing.take(session, [(1, f'{{"batch":1,"rows":[{rows}]}}'.encode(), 60)])
    return session


def checksums() -> dict[str, int]:
    """Of every table whose rows only somebody with leave may change; of links without when they were used last."""
    with unit_of_work():
        names = [
            model._meta.table_name for model in ALL if model._meta.table_name not in NOT_COMPARED | {"customer_link"}
        ]
        found = {name: database.execute_sql(f"CHECKSUM TABLE `{name}`").fetchone()[1] for name in names}
        query = "SELECT COUNT(*), SUM(revoked_at IS NOT NULL) FROM customer_link"
        return found | {"customer_link": database.execute_sql(query).fetchone()}


QUERY = {"i": "0", "j": "0", "at": "1", "log": "1", "q": SECRET[:3], "name": "a.csv", "size": "3", "start": "0", "raster": "0",
         "first": "0", "last": "9", "from": "0", "to": "9", "channels": "1", "pixels": "100", "x": "1", "y": "2"}  # fmt: skip
FORM = {"closed": "true", "what": "make", "text": "x", "version": "1", "notes": "x", "name": "x", "role": "owner", "open": "false",
        "email": "x@y.example", "password": LONG, "new": LONG, "number": "0", "how": "never", "theme": "day", "invitation": "1",
        "kind": "brief", "subject": "x", "words": "x", "i": "0", "j": "0", "value": "1", "expression": "x*2", "device": "1",
        "cells": "[[0,0]]", "remind_days": "3", "link_days": "3", "accepted": "true", "why": "x", "confirm": SECRET}  # fmt: skip


def ask(client: Client, target: Target, path: str, method: str):
    address = target.address(path)
    if method == "GET":
        return client.get(address, params=QUERY, follow_redirects=False)
    return client.send_form(address, FORM, params=QUERY)


def is_open(path: str) -> bool:
    return path.startswith(OPEN)


def of_customer(path: str) -> bool:
    return path.startswith("/c/")


@pytest.fixture
def stack() -> Iterator[ExitStack]:
    with ExitStack() as found:
        yield found


@pytest.fixture
def visitors(target: Target, clean_database, stack: ExitStack) -> Iterator[dict[str, Client]]:
    """Everybody who must not get through to the shop."""
    with unit_of_work():
        other = accounts.create_shop("Other")
        accounts.create_user(other, "other@example.org", "Other", LONG)
        gone = accounts.create_user(target.scene.user.shop, "gone@example.org", "Gone", LONG)
        half = accounts.create_user(target.scene.user.shop, "half@example.org", "Half", LONG)
        secret = second_factor.new_secret()
        second_factor.turn_on(half, secret, 0)
        foreign = jobs.create(User.get(User.email == "other@example.org"), "Other driver", "Car", "", pike_base())
        links.make(foreign)
    app = create_app("test-key")
    names = ("nobody", "other shop", "ended session", "locked out", "half signed in")
    clients = {name: Client(app, raise_server_exceptions=False) for name in names}
    first = clients[names[0]]
    stack.enter_context(first)
    for client in clients.values():
        client.portal = first.portal
        client.learn_token()
    assert clients["other shop"].sign_in("other@example.org", LONG).headers["location"] == "/"
    assert clients["locked out"].sign_in("gone@example.org", LONG).headers["location"] == "/"
    assert clients["half signed in"].sign_in("half@example.org", LONG).headers["location"] == "/sign-in/code"
    assert clients["ended session"].sign_in("tuner@example.org", "a long enough password").headers["location"] == "/"
    with unit_of_work():
        sessions.end_of_person(target.scene.user)
        people.disable(gone)
    yield clients


def test_nobody_gets_through_who_must_not(target, visitors):
    before = checksums()
    wrong: list[str] = []
    for who, client in visitors.items():
        for path, method in ROUTES:
            if is_open(path) or of_customer(path):
                continue
            answer = ask(client, target, path, method)
            shut = answer.status_code in (303, 401, 403, 404) if who != "other shop" else True
            foreign = ("{job_id}" in path or "{entry_id}" in path) and answer.status_code not in (400, 403, 404)
            sent_away = answer.status_code == 303 and answer.headers["location"] == "/sign-in"
            if who != "other shop" and not (shut and (answer.status_code != 303 or sent_away)):
                wrong.append(f"{who}: {method} {path} answered {answer.status_code}")
            if who == "other shop" and foreign:
                wrong.append(f"{who}: {method} {path} answered {answer.status_code}")
            if SECRET in answer.text.replace(f'value="{SECRET[:3]}"', ""):
                wrong.append(f"{who}: {method} {path} tells of the shop")
            if answer.status_code >= 500:
                wrong.append(f"{who}: {method} {path} broke with {answer.status_code}")
    assert wrong == []
    changed = {name for name, value in checksums().items() if before[name] != value}
    # What the other shop's owner does to their own shop is theirs to do.
    assert changed <= {
        "shop",
        "user",
        "one_time_link",
        "computed_channel",
        "brief_pattern",
        "customer",
        "recovery_code",
    }
    with unit_of_work():
        assert User.get(User.email == "tuner@example.org").name == "Tuner"
        assert target.scene.user.shop.name == "Shop"
        assert jobs.find(target.scene.user.shop_id, target.scene.job.id).car.customer.name == f"{SECRET} driver"


@pytest.fixture
def reader(target: Target) -> Iterator[Client]:
    with unit_of_work():
        accounts.create_user(target.scene.user.shop, "reader@example.org", "Reader", LONG, "reader")
    with Client(create_app("test-key"), raise_server_exceptions=False) as client:
        assert client.sign_in("reader@example.org", LONG).status_code == 303
        yield client


def test_a_reader_sees_and_changes_nothing(target, reader):
    before = checksums()
    wrong: list[str] = []
    for path, method in ROUTES:
        if is_open(path) or of_customer(path) or path.startswith(READERS_OWN):
            continue
        answer = ask(reader, target, path, method)
        refused = 404 if path.startswith(OPERATORS) and method == "GET" else 403
        if (method == "POST" or path.startswith((*OWNERS, *OPERATORS))) and answer.status_code != refused:
            wrong.append(f"{method} {path} answered {answer.status_code}")
        if answer.status_code >= 500:
            wrong.append(f"{method} {path} broke with {answer.status_code}")
    assert wrong == []
    assert {name for name, value in checksums().items() if before[name] != value} == set()
    page = reader.get(f"/jobs/{target.scene.job.id}/rounds/1/logs")
    assert page.status_code == 200
    assert SECRET in page.text


def test_a_tuner_has_no_owners_page(target, visitor):
    with unit_of_work():
        accounts.create_user(target.scene.user.shop, "second@example.org", "Second", LONG, "tuner")
    visitor.sign_in("second@example.org", LONG)
    before = checksums()
    for path, method in ROUTES:
        if path.startswith(OWNERS):
            assert ask(visitor, target, path, method).status_code == 403, path
        if path.startswith(OPERATORS):
            assert ask(visitor, target, path, method).status_code == 404, path
    assert before == checksums()


@pytest.mark.parametrize("how", ["of another job", "ended", "expired", "made up"])
def test_no_link_opens_what_is_not_its_job(target, visitor, how):
    with unit_of_work():
        second = jobs.create(target.scene.user, "Second driver", "Second car", "", pike_base())
        token = links.make(second)
    if how == "ended":
        token = target.token
        with unit_of_work():
            links.revoke(target.scene.job)
    elif how == "expired":
        token = target.token
        with unit_of_work():
            database.execute_sql("UPDATE customer_link SET expires_at = '2020-01-01'")
    elif how == "made up":
        token = target.token[:-1] + ("A" if target.token[-1] != "A" else "B")
    visitor.learn_token()
    target.values["token"] = token
    before = checksums()
    for path, method in ROUTES:
        if not of_customer(path):
            continue
        answer = ask(visitor, target, path, method)
        assert SECRET not in answer.text, path
        if how != "of another job":
            assert answer.status_code in (404, 429), (path, answer.status_code)
    if how != "of another job":
        assert before == checksums()


def test_the_table_is_whole(target):
    assert len(ROUTES) > 150
    for path, _ in ROUTES:
        target.address(path)


def api_routes() -> list[tuple[str, str, str]]:
    """Path, method and scope of each route of the programming interface, from its router."""
    found = []
    for route in (route for module in (api_jobs, api_work, api_revisions) for route in module.router.routes):
        if isinstance(route, APIRoute):
            (scope,) = {
                part.call.scope for part in every_dependency(route.dependant) if isinstance(part.call, RequiredScope)
            }
            found += [(route.path, method, scope) for method in sorted(route.methods)]
    return found


def every_dependency(dependant: Any) -> Iterator[Any]:
    """It, and all below it."""
    yield dependant
    for part in dependant.dependencies:
        yield from every_dependency(part)


def test_a_token_opens_no_more_than_its_person_may(target, visitor, scene):
    """Route × role × scope: a token made by a tuner, whose role is another when it is used."""
    routes = api_routes()
    assert len(routes) >= 10
    with unit_of_work():
        person = accounts.create_user(
            scene.user.shop, "program@example.org", "Program", "a long enough password", "tuner"
        )
        tokens = {scope: api_tokens.make(person, scope, [scope], 30) for scope in api_tokens.SCOPES}
        revoked = api_tokens.make(person, "revoked", ["read", "send", "fetch"], 30)
        api_tokens.revoke(person, api_tokens.of_person(person)[0].id)
    values = {**target.values, "job_id": scene.job.id, "number": 1, "kind": "fuel"}
    opened = 0
    for role, allowed in api_tokens.ALLOWED.items():
        with unit_of_work():
            User.update(role=role).where(User.id == person.id).execute()
        for path, method, needed in routes:
            address = PATH + re.sub(r"\{(\w+)(?::\w+)?\}", lambda match: str(values[match[1]]), path)
            for scope, token in tokens.items():
                status = visitor.request(method, address, headers={"authorization": f"Bearer {token}"}).status_code
                may = scope == needed and scope in allowed
                assert (status not in (401, 403)) is may, (role, method, address, scope, status)
                opened += may
            assert visitor.request(method, address, headers={"authorization": f"Bearer {revoked}"}).status_code == 401
            assert visitor.request(method, address).status_code == 401
    assert opened > len(routes)


@pytest.mark.parametrize(
    "path", ["/jobs/new/", "/shop/people/", "//evil.example/", "/\\evil.example/", "/sign-in//", "/account/?a=//b/"]
)
def test_no_redirect_leads_elsewhere(client, path):
    answer = client.get(path, headers={"host": "evil.example"}, follow_redirects=False)
    where = answer.headers.get("location", "")
    assert "evil.example" not in where.replace("%5C", "\\")
    assert not where or (where.startswith("/") and not where.startswith(("//", "/\\")))
    if path in ("/jobs/new/", "/shop/people/"):
        assert where == path.rstrip("/")
