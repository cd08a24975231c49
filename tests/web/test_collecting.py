"""Brief, customer page, recognition remembered, car file and thresholds over HTTP."""

from __future__ import annotations

import re

import pytest

from tests.store.conftest import log_text, sweep
from uchiwa.core.logs.readers import read_recordings
from uchiwa.standin.cars import calibrated
from uchiwa.standin.fleet import car_named
from uchiwa.standin.simulate import simulate
from uchiwa.store import briefs, jobs, links, uploads
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import BriefPattern, CustomerLink, LogChannel, LogFile, Message, Round


@pytest.fixture
def path(scene) -> str:
    return f"/jobs/{scene.job.id}/rounds/1"


@pytest.fixture
def customer(client, scene, path):
    """The customer's address, after the standard brief has been sent."""
    answer = client.send_form(
        f"{path}/brief", {"channel": [one.quantity for one in standard(scene).asked], "drive": ["warm_idle", "cruise"]}
    )
    assert answer.status_code == 303
    found = re.search(r"http://[^\"]+(/c/[\w-]+)", client.get(f"{path}/brief").text)
    return found[1]


def standard(scene):
    with unit_of_work():
        return briefs.standard(jobs.find(scene.user.shop_id, scene.job.id), scene.round)


def idle(*, seconds: float = 100, revision: int = 0) -> bytes:
    car = car_named("corvid-pike")
    log = simulate(car, calibrated(car), "warm_idle", 2, revision=f"corvid-pike, revision {revision}")
    keep = log.rasters[0].time < seconds
    from uchiwa.standin.defects import rows

    return car.logger.write(rows(log, keep))


def state_of(log_id: int = 0) -> LogFile:
    with unit_of_work():
        return LogFile.get_by_id(log_id) if log_id else LogFile.select().order_by(LogFile.id.desc()).first()


def test_the_brief_is_sent_with_a_link_that_is_shown_once_and_kept_hashed(client, scene, path, customer):
    assert "it is not shown again" not in client.get(f"{path}/brief").text
    with unit_of_work():
        kept = CustomerLink.get()
    assert customer.split("/")[-1] not in kept.token_hash
    assert len(kept.token_hash) == 64
    assert "Warm idle" in client.get(customer).text


def test_channels_taken_off_and_conditions_typed_stay(client, scene, path):
    client.send_form(
        f"{path}/brief",
        {
            "channel": ["engine_speed"],
            "drive": ["warm_idle"],
            "warm_idle-seconds": "45",
            "warm_idle-how": "Let it idle.",
            "note": "Thanks!",
        },
    )
    with unit_of_work():
        brief = briefs.of_round(Round.get())
    assert [one.quantity for one in brief.asked] == ["engine_speed"]
    assert [one.kind.value for one in brief.to_drive] == ["warm_idle"]
    assert brief.to_drive[0].acceptance.seconds == 45
    assert (brief.to_drive[0].how, brief.note) == ("Let it idle.", "Thanks!")
    client.send_form(f"{path}/brief/standard", {"purpose": "fuel"})
    with unit_of_work():
        assert briefs.of_round(Round.get()) == standard(scene)


def test_patterns_are_kept_and_fitted(client, scene, path, customer):
    client.send_form(f"{path}/brief/pattern", {"name": "  Road   fuel "})
    with unit_of_work():
        assert BriefPattern.get().name == "Road fuel"
    client.send_form(f"{path}/brief/standard", {"purpose": "idle"})
    with unit_of_work():
        pattern = BriefPattern.get().id
    client.send_form(f"{path}/brief/fit", {"pattern": str(pattern)})
    with unit_of_work():
        assert briefs.of_round(Round.get()).purpose == "fuel"
    assert client.send_form(f"{path}/brief/pattern", {"name": " "}).status_code == 400


def test_a_log_from_link_to_accepted(client, customer):
    sent = client.send_form(f"{customer}/logs/upload", files={"files": ("idle.csv", idle())})
    assert sent.status_code == 303
    sweep()
    page = client.get(customer).text
    assert "✓ accepted" in page
    assert "is-done" in page
    assert state_of().accepted
    assert state_of().by_customer


def test_a_cold_log_is_told_in_plain_words_and_is_not_used(client, customer, scene):
    cold = log_text().replace(",90,", ",41,")
    client.send_form(f"{customer}/logs/upload", files={"files": ("cold.csv", cold)})
    sweep()
    page = client.get(customer).text
    assert "The engine was still cold all the time. Please drive until it is warm" in page
    assert not state_of().accepted
    assert "Asked to record again" in client.get("/").text
    path = f"/jobs/{scene.job.id}/rounds/1/logs"
    client.send_form(f"{path}/{state_of().id}/accept", {"accepted": "true"})
    assert state_of().accepted
    assert state_of().decided


def test_pieces_go_on_where_they_broke_off(client, customer):
    data = log_text(size=34_000).encode()
    assert len(data) > uploads.PIECE
    where = {"name": "long.csv", "size": len(data), "changed": "1"}
    assert client.get(f"{customer}/pieces", params=where).json() == {"received": 0}

    def send(start: int, piece: bytes):
        headers = {"x-csrf": client.token, "content-type": "application/octet-stream"}
        return client.post(f"{customer}/pieces", params={**where, "start": start}, content=piece, headers=headers)

    assert send(0, data[: uploads.PIECE]).json()["done"] is False
    assert client.get(f"{customer}/pieces", params=where).json() == {"received": uploads.PIECE}
    assert send(0, data[: uploads.PIECE]).json()["received"] == uploads.PIECE
    assert send(2 * uploads.PIECE, b"x").status_code == 400
    with unit_of_work():
        assert jobs.round_logs(Round.get()) == []
    assert send(uploads.PIECE, data[uploads.PIECE :]).json() == {"received": len(data), "done": True, "said": ""}
    sweep()
    with unit_of_work():
        assert uploads.whole(state_of()) == data
    assert state_of().state == "ready"
    again = send(0, data[: uploads.PIECE]) and send(uploads.PIECE, data[uploads.PIECE :])
    assert "already here" in again.json()["said"]


def test_a_customer_cannot_flood_the_shop(client, customer, monkeypatch):
    monkeypatch.setattr(uploads, "HOURLY", 1)
    for number in (1, 2):
        client.send_form(f"{customer}/logs/upload", files={"files": (f"{number}.csv", log_text(number))})
    with unit_of_work():
        assert LogFile.select().count() == 1
    headers = {"x-csrf": client.token, "content-type": "application/octet-stream"}
    where = {"name": "a.csv", "size": 4, "start": 0}
    assert client.post(f"{customer}/pieces", params=where, content=b"abcd", headers=headers).status_code == 429


def test_links_end_and_are_renewed(client, path, customer):
    client.send_form(f"{path}/brief/link", {"what": "make"})
    renewed = re.search(r"http://[^\"]+(/c/[\w-]+)", client.get(f"{path}/brief").text)[1]
    assert client.get(customer).status_code == 404
    assert client.get(renewed).status_code == 200
    client.send_form(f"{path}/brief/link", {"what": "revoke"})
    for address in (renewed, f"{renewed}/revision.json", f"{renewed}/pieces?name=a&size=1", "/c/guess"):
        assert client.get(address).status_code == 404


def test_guessing_links_is_slowed_down(client, customer):
    for _ in range(links.GUESSES):
        assert client.get("/c/not-a-link").status_code == 404
    assert client.get("/c/not-a-link").status_code == 429


def test_the_customers_page_says_nothing_to_search_engines_or_other_sites(client, customer):
    answer = client.get(customer)
    assert answer.headers["referrer-policy"] == "no-referrer"
    assert answer.headers["x-robots-tag"] == "noindex"
    assert "default-src 'none'" in answer.headers["content-security-policy"]


def test_forms_of_the_customer_need_the_pages_token(client, customer):
    assert client.post(f"{customer}/message", data={"text": "hello"}, follow_redirects=False).status_code == 403


def test_messages_go_both_ways(client, path, customer):
    client.send_form(f"{customer}/message", {"text": "Is it <b>enough</b>?"})
    client.send_form(f"{path}/brief/message", {"text": "Yes."})
    page = client.get(customer).text
    assert "Is it &lt;b&gt;enough&lt;/b&gt;?" in page
    assert "Yes." in page
    assert "Is it &lt;b&gt;enough" in client.get(f"{path}/brief").text
    client.send_form(f"{customer}/message", {"text": "   "})
    with unit_of_work():
        assert Message.select().count() == 2


def test_the_revision_can_be_downloaded_once_there_is_one(client, scene, path, customer):
    assert client.get(f"{customer}/revision.json").status_code == 404
    client.send_form(f"{path}/return", {"version": "1", "notes": "Flash it."})
    answer = client.get(f"{customer}/revision.json")
    assert answer.status_code == 200
    assert answer.json()["id"] == "corvid-pike"
    page = client.get(customer).text
    assert "Flash it." in page
    assert "Round 2" in page
    assert "Warm idle" in page


def test_the_stand_in_car_is_offered_in_the_demo_only(client, customer):
    assert "stand-in car" not in client.get(customer).text
    assert client.send_form(f"{customer}/stand-in", {"drive": "warm_idle"}).status_code == 404
    client.app.state.demo = True
    assert "stand-in car" in client.get(customer).text
    assert client.send_form(f"{customer}/stand-in", {"drive": "warm_idle", "way": "asked"}).status_code == 303
    sweep()
    assert state_of().accepted
    client.send_form(f"{customer}/stand-in", {"drive": "warm_idle", "way": "forgot"})
    sweep()
    assert "does not record coolant" in client.get(customer).text
    assert client.send_form(f"{customer}/stand-in", {"drive": "flying", "way": "asked"}).status_code == 400


def test_a_channel_put_right_once_is_remembered_for_the_next_log(client, scene, path):
    text = log_text().replace("lambda_measured [1]", "AN3 [V]").replace("manifold_pressure [kPa]", "P-IN [kPa]")
    for number in (1, 2):
        client.send_form(
            f"{path}/logs/upload", files={"files": (f"a{number}.csv", text + f"{80 + number}" + "," * 8 + "\n")}
        )
        sweep()
        if number == 1:
            log = state_of()
            page = client.get(f"{path}/logs").text
            assert "not used" in page
            assert (
                client.send_form(
                    f"{path}/logs/{log.id}/channel", {"name": "P-IN", "unit": "kPa", "quantity": "manifold_pressure"}
                ).status_code
                == 303
            )
            sweep()
        with unit_of_work():
            known = {
                channel.name: channel.quantity for channel in LogChannel.select().where(LogChannel.log == state_of().id)
            }
        assert known["P-IN"] == "manifold_pressure"
        assert known["AN3"] is None
    wrong = client.send_form(
        f"{path}/logs/{state_of().id}/channel", {"name": "P-IN", "unit": "kPa", "quantity": "magic"}
    )
    assert wrong.status_code == 400
    client.send_form(f"{path}/logs/{state_of().id}/channel", {"name": "P-IN", "unit": "kPa", "quantity": "auto"})
    sweep()
    with unit_of_work():
        known = {
            channel.name: channel.quantity for channel in LogChannel.select().where(LogChannel.log == state_of().id)
        }
    assert known["P-IN"] is None


def test_a_sensors_points_are_applied_to_logs_already_here_and_to_those_to_come(client, scene, path):
    volts = log_text(mixture=2.0).replace("lambda_measured [1]", "Wideband volts [V]")
    client.send_form(f"{path}/logs/upload", files={"files": ("volts.csv", volts)})
    sweep()
    assert "mixture in volts" in client.get(f"{path}/logs").text
    form = {
        "cylinders": "4",
        "aspiration": "turbo",
        "fuel": "petrol",
        "wideband": "voltage",
        "wideband_line": "own",
        "pressure_sensor": "none",
    }
    kept = client.send_form(
        f"/jobs/{scene.job.id}/car", {**form, "wideband_points": "1,0 V = 0,80\n3.0 1.20\n2.0 1.01"}
    )
    assert kept.status_code == 303
    sweep()
    client.send_form(
        f"{path}/logs/upload",
        files={"files": ("next.csv", volts.replace("drive", "next") + "99,900,40,15,90,2,1,0,0\n")},
    )
    sweep()
    with unit_of_work():
        found = list(LogChannel.select().where(LogChannel.quantity == "lambda_measured"))
    assert len(found) == 2
    assert all(0.95 < one.minimum < one.maximum < 1.05 for one in found)
    page = client.get(f"/jobs/{scene.job.id}/car").text
    assert "1 log" in page or "2 logs" in page
    assert "+0.0067" in page


@pytest.mark.parametrize("typed", ["1.0", "one two", "1 2 3"])
def test_points_that_cannot_be_are_said_and_what_was_typed_stays(client, scene, typed):
    answer = client.send_form(
        f"/jobs/{scene.job.id}/car", {"cylinders": "4", "wideband_points": typed, "displacement": "2.2"}
    )
    assert answer.status_code == 400
    assert "line 1 of the points" in answer.text
    assert typed in answer.text
    assert "2.2" in answer.text


def test_in_which_cell_the_car_idles_is_told(client, scene, customer):
    client.send_form(f"{customer}/logs/upload", files={"files": ("idle.csv", idle())})
    sweep()
    page = client.get(f"/jobs/{scene.job.id}/car").text
    assert re.search(r"The car idles at <strong class=\"num\">900 rpm, (20|30) kPa", page)


def test_thresholds_are_the_shops_own(client, scene, path):
    assert client.send_form("/shop/checks", {"short_log": "500"}).status_code == 303
    client.send_form(f"{path}/logs/upload", files={"files": ("idle.csv", idle())})
    sweep()
    assert "too short" in client.get(f"{path}/logs").text
    assert client.send_form("/shop/checks", {"short_log": "soon"}).status_code == 400
    client.send_form("/shop/checks", {"what": "standard", "short_log": "500"})
    client.send_form(f"{path}/logs/{state_of().id}/again")
    sweep()
    assert "too short" not in client.get(f"{path}/logs").text


def test_several_recordings_in_a_file_become_several_logs(client, scene, path):
    text = log_text()
    client.send_form(f"{path}/logs/upload", files={"files": ("two.csv", text + "\n" + log_text(2))})
    sweep()
    with unit_of_work():
        names = [log.name for log in jobs.round_logs(Round.get())]
        states = {log.state for log in jobs.round_logs(Round.get())}
    assert names == ["two.csv, 1 of 2", "two.csv, 2 of 2"]
    assert states == {"ready"}
    raw = client.get(f"{path}/logs/{state_of().id}/raw").content
    assert raw.decode() == text + "\n" + log_text(2)
    client.send_form(f"{path}/logs/{state_of().id}/again")
    sweep()
    with unit_of_work():
        assert [log.name for log in jobs.round_logs(Round.get())] == names


@pytest.mark.parametrize("kind", ["csv", "parquet", "mf4"])
def test_logs_go_out_in_open_formats(client, scene, path, kind):
    client.send_form(f"{path}/logs/upload", files={"files": ("drive.csv", log_text())})
    sweep()
    answer = client.get(f"{path}/logs/{state_of().id}/as/{kind}")
    assert answer.status_code == 200
    back = read_recordings(answer.content, f"drive.{kind}")[0]
    assert (
        back.quantities["engine_speed"].values.tolist()
        == read_recordings(log_text().encode(), "a")[0].quantities["engine_speed"].values.tolist()
    )
    assert client.get(f"{path}/logs/{state_of().id}/as/exe").status_code == 404


def test_logs_are_found_by_drive_finding_and_name_and_one_can_be_the_baseline(client, scene, path, customer):
    for name, data in (("idle.csv", idle()), ("road.csv", log_text())):
        client.send_form(f"{path}/logs/upload", files={"files": (name, data)})
    sweep()

    def rows(query: str) -> list[str]:
        return re.findall(r"show=\d+[^>]*>([\w.]+)</a>", client.get(f"{path}/logs?{query}").text)

    assert rows("") == ["idle.csv", "road.csv"]
    assert rows("drive=warm_idle") == ["idle.csv"]
    assert rows("q=road") == ["road.csv"]
    assert rows("q=missing") == ["road.csv"]
    assert rows("q=nothing+like+it") == []
    client.send_form(f"{path}/logs/{state_of().id}/baseline", {"baseline": "true"})
    assert "runs well" in client.get(f"{path}/logs").text


def test_another_shop_sees_nothing_of_it(client, scene, path, customer):
    from uchiwa.store import accounts

    client.send_form(f"{path}/logs/upload", files={"files": ("a.csv", log_text())})
    sweep()
    log = state_of()
    with unit_of_work():
        accounts.create_user(accounts.create_shop("Other"), "other@example.org", "Other", "another long password")
    client.send_form("/sign-out")
    assert client.sign_in("other@example.org", "another long password").status_code == 303
    for address in (
        f"{path}/brief",
        f"{path}/logs",
        f"/jobs/{scene.job.id}/car",
        f"{path}/logs/{log.id}/as/csv",
        f"{path}/logs/pieces?name=a&size=1",
    ):
        assert client.get(address).status_code == 404, address
    for address in (
        f"{path}/brief",
        f"{path}/brief/link",
        f"{path}/brief/standard",
        f"{path}/logs/{log.id}/channel",
        f"/jobs/{scene.job.id}/car",
    ):
        answer = client.send_form(
            address, {"what": "make", "purpose": "fuel", "name": "MAP", "quantity": "", "cylinders": "4"}
        )
        assert answer.status_code == 404, address
