"""Eight people doing the same at the same moment: no server error, no twin, nothing lost; losers are told."""

from __future__ import annotations

import json
import os
import re
import threading
from collections import Counter
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor

import pytest

from tests.store.conftest import Scene, log_text
from tests.web.conftest import Client
from uchiwa.core.tables.interchange import calibration_json
from uchiwa.services.importing import import_log
from uchiwa.standin.cars import pike_base
from uchiwa.store import drafts, jobs, leases, links, log_states, uploads
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import (
    BriefPattern,
    Car,
    ComputedChannel,
    Customer,
    Draft,
    Event,
    Job,
    LogFile,
    Message,
    Revision,
    Round,
    Shop,
    StoredCalibration,
)

THREADS = 8


def turns(usual: int) -> int:
    """How often an act is raced; `UCHIWA_RACES=50` races all of them so often, as `make accuracy` does."""
    return int(os.environ.get("UCHIWA_RACES", usual))


TIMES = turns(3)


def at_once(client: Client, times: int, act: Callable[[Client, int, int], object]) -> list[list[object]]:
    """What each thread was answered, all of them beginning together, so many times over.

    Args:
        act: sends one request as (client, time, thread).
    """
    clients = []
    for _ in range(THREADS):
        one = Client(client.app, raise_server_exceptions=False)
        one.cookies.update(client.cookies)
        one.token, one.portal = client.token, client.portal
        clients.append(one)
    barrier = threading.Barrier(THREADS)

    def run(thread: int) -> list[object]:
        answers = []
        for time in range(times):
            barrier.wait(60)
            answers.append(act(clients[thread], time, thread))
        return answers

    with ThreadPoolExecutor(THREADS) as pool:
        return list(pool.map(run, range(THREADS)))


def statuses(answers: list[list[object]]) -> list[list[int]]:
    """Statuses of the answers of each time."""
    by_time = [[one.status_code for one in each] for each in zip(*answers, strict=True)]
    assert all(status < 500 for each in by_time for status in each), by_time
    return by_time


@pytest.fixture
def path(scene: Scene) -> str:
    return f"/jobs/{scene.job.id}/rounds/1"


@pytest.fixture
def at_fuel(scene: Scene) -> Scene:
    log, _ = scene.receive(log_text())
    import_log(log.id)
    return scene


def current(scene: Scene) -> Draft:
    with unit_of_work():
        return drafts.current(scene.job)


def test_cars_are_taken_on_once_for_each_form(client, scene):
    base = calibration_json.dumps(pike_base())

    def create(one, time, thread):
        form = {"customer": f"Customer {time}", "car": "Pike", "once": f"form-{time}-{thread % 4}"}
        return one.send_form("/jobs/new", form, files={"calibration": ("base.json", base)})

    answers = at_once(client, TIMES, create)
    assert {status for each in statuses(answers) for status in each} == {303}
    for time in range(TIMES):
        places = {answers[thread][time].headers["location"] for thread in (0, 4)}
        assert len(places) == 1
    with unit_of_work():
        assert Customer.select().where(Customer.name.startswith("Customer ")).count() == TIMES
        assert Job.select().count() == 1 + 4 * TIMES
        assert StoredCalibration.select().count() == 1
        assert Car.select().count() == Job.select().count()


def test_the_same_log_is_kept_once_and_different_ones_all(client, scene, path):
    def send(one, time, thread):
        text = log_text(time * 2 + thread % 2, size=60)
        return one.send_form(f"{path}/logs/upload", files={"files": (f"{thread}.csv", text)})

    assert {status for each in statuses(at_once(client, TIMES, send)) for status in each} == {303}
    with unit_of_work():
        assert LogFile.select().count() == 2 * TIMES
        assert LogFile.select().where(LogFile.state == log_states.STORED).count() == 2 * TIMES


def test_pieces_of_the_same_file_from_two_windows_make_one_log(client, scene, path):
    data = log_text(5, size=400).encode()

    def send(one, time, thread):
        query = f"name=drive{time}.csv&size={len(data) + time}&changed=1"
        body = data + b" " * time
        half = len(body) // 2
        first = one.post(
            f"{path}/logs/pieces?{query}&start=0",
            content=body[:half],
            headers={"x-csrf": one.token, "content-type": "application/octet-stream"},
        )
        assert first.status_code in (200, 400), first.text
        return one.post(
            f"{path}/logs/pieces?{query}&start={half}",
            content=body[half:],
            headers={"x-csrf": one.token, "content-type": "application/octet-stream"},
        )

    for each in statuses(at_once(client, turns(4), send)):
        assert 200 in each
    with unit_of_work():
        whole = LogFile.select().where(LogFile.state == log_states.STORED)
        assert whole.count() == turns(4)
        for log in whole:
            assert uploads.whole(log).rstrip() == data.rstrip()


def test_briefs_patterns_and_links(client, scene, path):
    def send(one, time, thread):
        match thread % 4:
            case 0:
                return one.send_form(f"{path}/brief", {"note": f"note {time}.{thread}", "channel": ["engine_speed"]})
            case 1:
                return one.send_form(f"{path}/brief/standard", {"purpose": "fuel"})
            case 2:
                return one.send_form(f"{path}/brief/pattern", {"name": f"pattern {time % 3}"})
            case _:
                return one.send_form(f"{path}/brief/link", {"what": "make"})

    assert {status for each in statuses(at_once(client, TIMES, send)) for status in each} == {303}
    with unit_of_work():
        assert BriefPattern.select().count() == 3
        assert links.current(scene.job) is not None


def test_of_two_who_change_the_same_brief_the_later_is_told(client, scene, path):
    client.send_form(f"{path}/brief", {"note": "first", "channel": ["engine_speed"]})

    def send(one, time, thread):
        seen = re.search(r'name="seen" value="([0-9a-f]{16})"', one.get(f"{path}/brief").text)[1]
        barrier.wait(60)
        form = {"note": f"{time}.{thread}", "channel": ["engine_speed"], "seen": seen}
        return one.send_form(f"{path}/brief", form)

    barrier = threading.Barrier(THREADS)
    answers = at_once(client, turns(4), send)
    for each in statuses(answers):
        assert sorted(each) == [303] + [409] * (THREADS - 1)
    lost = next(one for each in zip(*answers, strict=True) for one in each if one.status_code == 409)
    assert "Sent the brief" in lost.text
    assert "Nothing was overwritten" in lost.text


def test_everybody_s_channels_setups_and_checks_survive(client, scene):
    def send(one, time, thread):
        name = f"mine_{time % 4}_{thread}"
        match time % 3:
            case 0:
                return one.send_form("/shop/channels", {"name": name, "formula": "engine_speed / 60", "unit": "Hz"})
            case 1:
                form = {"name": f"setup {thread} {time % 2}", "wishes": "lambda_target = 1"}
                return one.send_form(f"/jobs/{scene.job.id}/setups/own", form)
            case _:
                form = {
                    "name": f"check {thread}",
                    "condition": "engine_speed > 9000",
                    "seconds": "1",
                    "severity": "warning",
                }
                return one.send_form("/shop/checks/own", form)

    answers = at_once(client, TIMES, send)
    assert {status for each in statuses(answers) for status in each} == {303}, [
        re.findall(r'class="(?:problem|plain-words|words|said is-bad)[^>]*>([^<]+)<', one.text)
        for each in answers
        for one in each
        if one.status_code == 400
    ][:3]
    with unit_of_work():
        shop = Shop.get()
        assert ComputedChannel.select().count() == (TIMES + 2) // 3 * THREADS
        assert len(json.loads(shop.own_setups)) == len({time % 2 for time in range(1, TIMES, 3)}) * THREADS
        assert len(json.loads(shop.own_checks)) == THREADS


def test_everybody_s_pins_and_conditions_survive(client, at_fuel, path):
    def send(one, time, thread):
        if time % 2:
            return one.send_form(f"{path}/fuel/condition", {"formula": f"engine_speed > {100 * thread + time}"})
        return one.send_form(
            f"{path}/tables/pin", {"table": "ve_main", "version": 1, "cells": f"{thread}.{time // 2 % 12}"}
        )

    assert {status for each in statuses(at_once(client, turns(6), send)) for status in each} == {303}
    with unit_of_work():
        pins = json.loads(Draft.get(Draft.job == at_fuel.job).pins)["ve_main"]
        pressed = Counter(time // 2 % 12 for time in range(0, turns(6), 2))
        assert len(pins) == sum(times % 2 for times in pressed.values()) * THREADS  # a second press unpins
        assert len(json.loads(Round.get(Round.id == at_fuel.round.id).policy)["where"]) == turns(6) // 2 * THREADS


WORDS = ("strength", "limit_percent", "dead_band_percent", "minimum_dwell_s", "minimum_samples", "smoothing",
         "rich_bias_percent", "settle_s")  # fmt: skip


def test_each_word_of_a_policy_is_kept_whoever_changed_another(client, at_fuel, path):
    def send(one, time, thread):
        page = one.get(f"{path}/fuel").text
        seen = re.search(r'name="seen" value="([^"]+)"', page)[1].replace("&#34;", '"')
        whole = {key: str(value) for key, value in json.loads(seen).items() if key in WORDS}
        barrier.wait(60)
        return one.send_form(f"{path}/fuel/policy", whole | {WORDS[thread]: str(time % 4 + 1), "seen": seen})

    barrier = threading.Barrier(THREADS)
    assert {status for each in statuses(at_once(client, turns(4), send)) for status in each} == {303}
    with unit_of_work():
        policy = json.loads(Round.get(Round.id == at_fuel.round.id).policy)
    assert [policy[word] for word in WORDS] == [(turns(4) - 1) % 4 + 1] * THREADS


def test_two_who_change_the_same_word_to_different_things(client, at_fuel, path):
    page = client.get(f"{path}/fuel").text
    seen = re.search(r'name="seen" value="([^"]+)"', page)[1].replace("&#34;", '"')
    assert client.send_form(f"{path}/fuel/policy", {"strength": "50", "seen": seen}).status_code == 303
    late = client.send_form(f"{path}/fuel/policy", {"strength": "70", "seen": seen})
    assert late.status_code == 409
    assert "strength is 50" in late.text
    assert client.send_form(f"{path}/fuel/policy", {"limit_percent": "7", "seen": seen}).status_code == 303
    with unit_of_work():
        policy = json.loads(Round.get(Round.id == at_fuel.round.id).policy)
    assert (policy["strength"], policy["limit_percent"]) == (50, 7)


def test_spark_policies_and_views_do_not_overwrite_each_other(client, at_fuel, path):
    def send(one, time, thread):
        match thread % 4:
            case 0:
                return one.send_form(f"{path}/spark/knock/policy", {"margin": str(1 + time % 3)})
            case 1:
                return one.send_form(f"{path}/spark/pulls/view", {"window": str(100 + time)})
            case 2:
                return one.send_form(f"{path}/spark/torque/policy", {"most": str(1 + time % 3)})
            case _:
                return one.send_form(f"{path}/spark/limit/policy", {"margin": str(1 + time % 3)})

    assert {status for each in statuses(at_once(client, TIMES, send)) for status in each} == {303}
    with unit_of_work():
        kept = json.loads(Round.get(Round.id == at_fuel.round.id).policies)
    assert set(kept) == {"knock", "pulls", "torque", "limit"}
    assert kept["pulls"]["window"] == 100 + TIMES - 1


def test_of_eight_edits_of_one_version_one_is_made(client, scene, path):
    def send(one, time, thread):
        form = {"table": "ve_main", "version": time + 1, "cells": "1.1", "line": f"{40 + time + thread / 10}"}
        return one.send_form(f"{path}/tables/edit", form)

    for each in statuses(at_once(client, TIMES, send)):
        assert sorted(each) == [303] + [409] * (THREADS - 1)
    with unit_of_work():
        assert Event.select().where(Event.kind == jobs.EDIT).count() == TIMES
    assert current(scene).version == TIMES + 1


def test_of_eight_who_take_a_proposal_one_does(client, at_fuel, path):
    def send(one, time, thread):
        if time % 2:
            return one.send_form(f"{path}/tables/undo", {"table": "ve_main", "version": time + 1})
        return one.send_form(f"{path}/fuel/take", {"version": time + 1})

    for each in statuses(at_once(client, turns(4), send)):
        assert sorted(each) == [303] + [409] * (THREADS - 1)


def test_a_round_is_frozen_flashed_and_withdrawn_once(client, scene):
    with unit_of_work():
        token = links.make(scene.job)
    with unit_of_work():
        version = drafts.current(scene.job).version
    for number in range(1, turns(6) + 1):
        path = f"/jobs/{scene.job.id}/rounds/{number}"

        def freeze(one, _time, _thread, path=path, version=version):
            return one.send_form(f"{path}/return", {"version": version, "notes": "Flash it."})

        assert sorted(statuses(at_once(client, 1, freeze))[0]) == [303] + [409] * (THREADS - 1)

        def flash(one, _time, _thread, number=number):
            return one.send_form(f"/c/{token}/flashed", {"number": number})

        assert statuses(at_once(client, 1, flash))[0] == [303] * THREADS
        with unit_of_work():
            assert Event.select().where(Event.kind == "flashed").count() == number
            assert Revision.select().where(Revision.number == number, Revision.job == scene.job).count() == 1

        def withdraw(one, _time, _thread, path=path):
            return one.send_form(f"{path}/return/withdraw", {"why": "It pings."})

        assert sorted(statuses(at_once(client, 1, withdraw))[0]) == [303] + [409] * (THREADS - 1)
        with unit_of_work():
            assert Event.select().where(Event.kind == "withdraw").count() == number
            version = drafts.current(scene.job).version


def test_messages_are_kept_once_for_each_form(client, scene, path):
    with unit_of_work():
        token = links.make(scene.job)

    def send(one, time, thread):
        form = {"text": f"{time}.{thread % 4}", "once": f"{time}.{thread % 4}"}
        where = f"{path}/brief/message" if thread % 4 < 2 else f"/c/{token}/message"
        return one.send_form(where, form)

    assert {status for each in statuses(at_once(client, TIMES, send)) for status in each} == {303}
    with unit_of_work():
        assert Message.select().count() == 4 * TIMES


def test_eight_viewers_compute_once(client, at_fuel, path, monkeypatch):
    from uchiwa.services import fuel, log_cache

    computed = []
    real = fuel.gather
    monkeypatch.setattr(fuel, "gather", lambda *given, **more: computed.append(1) or real(*given, **more))
    log_cache.forget()
    answers = at_once(client, 1, lambda one, _time, _thread: one.get(f"{path}/fuel"))
    assert statuses(answers)[0] == [200] * THREADS
    assert len(computed) == 1


def test_uploads_and_imports_of_one_job_do_not_stop_each_other(client, scene, path):
    """Six files at once, imported as they come, used to end in deadlocks."""

    def send(one, time, thread):
        text = log_text(100 * time + thread, size=200)
        answer = one.send_form(f"{path}/logs/upload", files={"files": (f"{time}-{thread}.csv", text)})
        with unit_of_work():
            waiting = [log.id for log in LogFile.select().where(LogFile.state == log_states.STORED).limit(2)]
        for log_id in waiting:
            import_log(log_id)
        return answer

    assert {status for each in statuses(at_once(client, TIMES, send)) for status in each} == {303}
    for log_id in leases.waiting():
        import_log(log_id)
    with unit_of_work():
        assert LogFile.select().where(LogFile.state == log_states.READY).count() == TIMES * THREADS
