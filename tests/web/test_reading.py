import json
import struct

import numpy as np
import pytest

from tests.conftest import make_log
from tests.store.conftest import log_text
from uchiwa.core.viewing.pyramid import InMemory
from uchiwa.core.viewing.window import value_at
from uchiwa.services.importing import import_log
from uchiwa.standin.cars import pike_base
from uchiwa.standin.logger import write_delimited
from uchiwa.store import accounts, jobs, links, samples
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import FoundInLog, LogNote


@pytest.fixture
def log(scene):
    """An imported log."""
    found, _ = scene.receive(log_text())
    import_log(found.id)
    return found


@pytest.fixture
def second(scene):
    found, _ = scene.receive(log_text(2), "second.csv")
    import_log(found.id)
    return found


@pytest.fixture
def here(scene):
    return f"/jobs/{scene.job.id}/rounds/1/read"


def whole(log, key):
    with unit_of_work():
        recording = samples.read([log], [key])[0]
    return recording.rasters[0].time, recording.quantities[key].values


def ask(client, address, **more):
    answer = client.get(address, params=more, headers={"x-fragment": "yes"})
    return answer.status_code, answer.json()


def unpacked(content):
    (length,) = struct.unpack("<I", content[:4])
    head = json.loads(content[4 : 4 + length])
    at = 4 + length
    for trace in head["traces"]:
        size = trace["points"]
        trace["x"] = np.frombuffer(content, "<f4", size, at) + (0.0 if head["by"] == "speed" else head["start"])
        trace["y"] = np.frombuffer(content, "<f4", size, at + 4 * size)
        at += 8 * size
    assert at == len(content)
    return head


def test_the_page_opens_the_rounds_latest_log_as_a_document(client, log, here):
    page = client.get(here)
    assert page.status_code == 200
    assert page.url.query == f"log={log.id}".encode()
    assert "Reading" in page.text
    assert "lambda_measured" in page.text


def test_strips_carry_the_logs_own_samples_figures_and_axes(client, log, here):
    show = "engine_speed;lambda_measured,lambda_target,coolant_temperature"
    answer = client.get(f"{here}/strips", params={"log": log.id, "show": show, "start": 10, "end": 20, "pad": 0.5})
    data = unpacked(answer.content)
    time, speed = whole(log, "engine_speed")
    trace = data["traces"][0]
    inside = (time >= 5) & (time <= 25)
    assert trace["all"]
    sent = (trace["x"] >= 4.9999) & (trace["x"] <= 25.0001)
    assert trace["x"][sent] == pytest.approx(time[inside], abs=1e-4)
    assert trace["y"][sent] == pytest.approx(speed[inside])
    assert trace["points"] < inside.sum() + 2 * 64
    seen = speed[(time >= 10) & (time <= 20)]
    assert trace["view"] == {"low": seen.min(), "high": seen.max(), "mean": pytest.approx(seen.mean())}
    assert trace["whole"]["high"] == speed.max()
    assert [[axis["unit"] for axis in strip] for strip in data["axes"]] == [["rpm"], ["1", "degC"]]
    assert len({len(axis["ticks"]) for strip in data["axes"] for axis in strip}) == 1


def test_values_at_the_cursors_are_the_cores(client, log, here):
    keys = ["engine_speed", "lambda_measured", "fuel_error"]
    _, found = ask(client, f"{here}/at", log=log.id, show="fuel", key=keys, at=12.34, other=50.2, table="ve_main")
    values = found["logs"][0]["values"]
    for key in keys[:2]:
        time, signal = whole(log, key)
        for name, moment in (("value", 12.34), ("other", 50.2)):
            assert values[key][name] == value_at(InMemory(time), InMemory(signal), moment)[1]
    assert values["fuel_error"]["value"] == pytest.approx((values["lambda_measured"]["value"] - 1) * 100)
    cell = found["logs"][0]["cell"]
    assert cell["x"] == values["engine_speed"]["value"]
    assert 1 < len(cell["trail"]) <= 240


def test_a_passed_limit_is_named_at_the_cursor(client, scene, here):
    text = log_text(mixture=1.4)
    log, _ = scene.receive(text)
    import_log(log.id)
    _, found = ask(client, f"{here}/at", log=log.id, key="lambda_measured", at=10)
    assert found["logs"][0]["values"]["lambda_measured"]["limit"] == "the wideband's lean end"


def test_jumps(client, log, here):
    time, speed = whole(log, "engine_speed")
    _, found = ask(client, f"{here}/extreme", log=log.id, key="engine_speed", which="highest")
    assert (found["at"], found["value"]) == (time[speed.argmax()], speed.max())
    condition = "engine_speed > 3000 and throttle_position > 20"
    _, first = ask(client, f"{here}/moment", log=log.id, condition=condition, at=-1)
    _, after = ask(client, f"{here}/moment", log=log.id, condition=condition, at=first["at"])
    _, back = ask(client, f"{here}/moment", log=log.id, condition=condition, at=after["at"], direction="previous")
    assert (first["number"], after["number"], back["at"]) == (1, 2, first["at"])
    holds = (speed > 3000) & (whole(log, "throttle_position")[1] > 20)
    assert first["at"] == time[holds.argmax()]
    for text, said in (
        ("engine_speed", "not a condition"),
        ("nosuch > 1", "character 1"),
        ("knock_level > 1", "no knock level"),
    ):
        status, answer = ask(client, f"{here}/moment", log=log.id, condition=text, at=0)
        assert status == 400
        assert said in answer["said"]


def test_cells_cloud_brush_and_distribution_agree_with_the_samples(client, log, here):
    time, speed = whole(log, "engine_speed")
    _, cloud = ask(
        client,
        f"{here}/scatter",
        log=log.id,
        x="engine_speed",
        y="manifold_pressure",
        colour="fuel_error",
        where="engine_speed > 2000",
    )
    assert cloud["samples"] == int((speed > 2000).sum()) == sum(cloud["points"]["count"])
    _, brushed = ask(
        client, f"{here}/brush", log=log.id, x="engine_speed", y="manifold_pressure", box=[3000, 9000, 0, 500]
    )
    assert brushed["samples"] == int((speed >= 3000).sum())
    assert all(speed[(time >= a) & (time <= b)].max() >= 3000 for a, b in brushed["spans"])
    _, spread = ask(client, f"{here}/distribution", log=log.id, x="engine_speed", start=10, end=20)
    assert spread["total"] == pytest.approx(10.05, abs=0.11)
    _, cells = ask(client, f"{here}/cells", log=log.id, table="ve_main", cells="5.4 6.4")
    assert cells["count"] == len(cells["spans"])
    status, answer = ask(client, f"{here}/cells", log=log.id, table="ve_main", cells="5;4")
    assert (status, "not a cell" in answer["said"]) == (400, True)


def test_two_logs_are_laid_over_each_other(client, log, second, here):
    _, plan = ask(client, here, log=[log.id, second.id], show="fuel")
    assert [one["name"] for one in plan["logs"]] == ["drive.csv", "second.csv"]
    _, found = ask(client, f"{here}/at", log=[log.id, second.id], key="engine_speed", at=30)
    for answer, one in zip(found["logs"], (log, second), strict=True):
        time, speed = whole(one, "engine_speed")
        assert answer["values"]["engine_speed"]["value"] == speed[np.abs(time - 30).argmin()]
    _, by_marker = ask(client, here, log=log.id, by="marker")
    assert by_marker["logs"][0]["places"] == []
    status, answer = ask(client, here, log=list(range(1, 9)))
    assert (status, "too many" in answer["said"]) == (400, True)


def test_arrangements_by_purpose_and_by_person(client, log, here):
    _, plan = ask(client, here, log=log.id, show="fuel")
    assert plan["arrangement"] == "fuel"
    _, changed = ask(client, f"{here}/arrange", log=log.id, show=plan["show"], do="add", key="coolant_temperature")
    assert changed["show"].endswith(";coolant_temperature")
    assert client.send_form(f"{here}/keep", {"name": "mine", "show": changed["show"]}).json() == {"name": "mine"}
    _, again = ask(client, here, log=log.id, show="mine")
    assert (again["arrangement"], again["kept"]) == ("mine", ["mine"])
    status, answer = ask(client, here, log=log.id, show="engine_speed,manifold_pressure,coolant_temperature")
    assert (status, "2 axes" in answer["said"]) == (400, True)
    _, found = ask(client, f"{here}/find", log=log.id, show=plan["show"], typed="cool")
    assert found[0]["key"] == "coolant_temperature"


def test_a_channel_that_the_log_lacks_is_said_and_nothing_breaks(client, log, here):
    _, plan = ask(client, here, log=log.id, show="engine_speed;knock_level,knock_over_limit")
    missing = [one["missing"] for one in plan["strips"][1]]
    assert missing[0] == {str(log.id): "This log has no knock level."}
    assert "from which" in missing[1][str(log.id)]
    answer = client.get(f"{here}/strips", params={"log": log.id, "show": plan["show"], "start": 0, "end": 9})
    assert [one["key"] for one in unpacked(answer.content)["traces"]] == ["engine_speed"]


def test_notes_reach_the_customer_only_if_shown(client, visitor, log, here, scene):
    listed = client.send_form(f"{here}/notes/{log.id}", {"start": 3, "end": 5, "text": "Here it hesitates <b>"}).json()
    assert listed[0]["text"] == "Here it hesitates <b>"
    with unit_of_work():
        token = links.make(scene.job)
    assert "hesitates" not in visitor.get(f"/c/{token}").text
    client.send_form(f"{here}/notes/{log.id}/{listed[0]['id']}", {"do": "show"})
    page = visitor.get(f"/c/{token}").text
    assert "Here it hesitates &lt;b&gt;" in page
    assert client.send_form(f"{here}/notes/{log.id}/{listed[0]['id']}", {"do": "drop"}).json() == []
    assert client.send_form(f"{here}/notes/{log.id}", {"start": 3, "end": 5, "text": ""}).status_code == 400


def test_nothing_of_another_shop_is_read(client, scene, here, log):
    with unit_of_work():
        shop = accounts.create_shop("Other")
        other = accounts.create_user(shop, "other@example.org", "Other", "a long enough password")
        job = jobs.create(other, "X", "Pike", "", pike_base())
    assert client.get(f"/jobs/{job.id}/rounds/1/read?log={log.id}").status_code == 404
    client.send_form("/sign-out")
    client.learn_token()
    client.sign_in("other@example.org", "a long enough password")
    for path in (
        "",
        "/strips?start=0&end=9&show=engine_speed",
        "/at?key=engine_speed&at=1",
        "/moment?condition=engine_speed>1&at=0",
    ):
        separator = "&" if "?" in path else "?"
        assert client.get(f"{here}{path}{separator}log={log.id}").status_code == 404
        assert client.get(f"/jobs/{job.id}/rounds/1/read{path}{separator}log={log.id}").status_code == 404
    assert client.send_form(f"{here}/notes/{log.id}", {"start": 1, "end": 1, "text": "x"}).status_code == 404
    with unit_of_work():
        assert LogNote.select().count() == 0


def test_computed_channels_are_tried_kept_used_and_dropped(client, log, here):
    tried = client.send_form("/shop/channels/try", {"name": "half", "formula": "engine_speed / 2", "log": log.id}).text
    assert "<svg" in tried
    wrong = client.send_form("/shop/channels/try", {"formula": "engine_speed + wrong", "log": log.id}).text
    assert "<mark>wrong</mark>" in wrong
    assert client.send_form("/shop/channels", {"name": "half", "formula": "engine_speed / 2 +"}).status_code == 400
    assert (
        client.send_form("/shop/channels", {"name": "half", "formula": "engine_speed / 2", "unit": "rpm"}).status_code
        == 303
    )
    _, found = ask(client, f"{here}/at", log=log.id, key=["half", "engine_speed"], at=20)
    values = found["logs"][0]["values"]
    assert values["half"]["value"] == values["engine_speed"]["value"] / 2
    _, names = ask(client, "/shop/channels/names", typed="hal")
    assert names[0]["key"] == "half"
    assert client.send_form("/shop/channels/half/drop").status_code == 303
    client.get("/shop/channels")
    assert "half" not in client.get("/shop/channels").text.split("These come with")[0]


def test_checks_of_ones_own_find_what_their_condition_says(client, scene):
    wrong = client.send_form("/shop/checks/own", {"name": "revs", "condition": "engine_sped > 4000"})
    assert wrong.status_code == 400
    assert "engine_sped" in wrong.text
    kept = client.send_form(
        "/shop/checks/own",
        {"name": "revs", "condition": "engine_speed > 3000 and pressure_ratio > 0", "severity": "note"},
    )
    assert kept.status_code == 303
    client.send_form(
        "/shop/checks/own",
        {"name": "lively", "condition": "rate(engine_speed) > 100", "seconds": "0,5", "severity": "note"},
    )
    log, _ = scene.receive(log_text())
    import_log(log.id)
    with unit_of_work():
        found = [
            finding.tuner
            for finding in FoundInLog.select().where(FoundInLog.log == log, FoundInLog.rule == "own check")
        ]
    assert len(found) == 1
    assert found[0].startswith("lively: ")
    assert client.send_form("/shop/checks/own", {"name": "revs", "drop": "yes"}).status_code == 303
    assert "lively" in client.get("/shop/checks").text


PULL_FROM_S, PULL_TO_S = 20.0, 28.0


@pytest.fixture
def pulled(scene):
    """A log with one full-load pull from 2000 to 6000 rpm in a minute of cruise, marked by the driver at its start."""
    time = np.arange(1200) / 20.0
    pulls = (time >= PULL_FROM_S) & (time <= PULL_TO_S)
    log = make_log(
        engine_speed=np.where(pulls, 2000.0 + 500.0 * (time - PULL_FROM_S), 2000.0),
        manifold_pressure=np.where(pulls, 150.0, 55.0),
        throttle_position=np.where(pulls, 100.0, 18.0),
        coolant_temperature=90.0,
        lambda_measured=np.where(pulls, 0.80 + 0.01 * (time - PULL_FROM_S), 1.0),
        lambda_target=np.where(pulls, 0.85, 1.0),
        marker=((time >= PULL_FROM_S) & (time < PULL_FROM_S + 0.5)).astype(float),
        rate=20.0,
    )
    found, _ = scene.receive(write_delimited(log), "pull.csv")
    import_log(found.id)
    return found


def test_a_pull_is_read_against_engine_speed(client, pulled, log, here):
    both = {"log": [pulled.id, log.id], "show": "lambda_measured", "by": "speed"}
    _, found = ask(client, f"{here}/at", key=["lambda_measured", "manifold_pressure"], at=3250, table="ve_main", **both)
    mine, without = found["logs"]
    # 3250 rpm are reached 2.5 s after the pull has begun.
    assert mine["values"]["lambda_measured"]["value"] == pytest.approx(0.825, abs=0.001)
    assert mine["values"]["manifold_pressure"]["value"] == pytest.approx(150.0)
    assert (mine["time"], mine["cell"]) == (None, None)
    assert without["values"]["lambda_measured"]["value"] is None  # that drive has no pull
    data = unpacked(client.get(f"{here}/strips", params=both | {"start": 3000, "end": 4000}).content)
    curve, nothing = data["traces"]
    assert curve["x"][0] == pytest.approx(2000.0, abs=200)
    assert curve["x"][-1] == pytest.approx(6000.0, abs=200)
    inside = (curve["x"] >= 3000) & (curve["x"] <= 4000)
    assert curve["y"][inside] == pytest.approx(0.80 + 0.01 * (curve["x"][inside] - 2000.0) / 500.0, abs=0.003)
    assert (curve["view"]["low"], curve["view"]["high"]) == (
        pytest.approx(0.82, abs=0.002),
        pytest.approx(0.84, abs=0.002),
    )
    assert nothing["points"] == 0
    assert set(nothing["view"].values()) == {None}


@pytest.mark.parametrize(("by", "begins"), [("marker", "marker 1"), ("pull", "pull 1: 2000 to 6000 rpm")])
def test_a_log_is_laid_by_a_marker_or_by_a_pull(client, pulled, here, by, begins):
    _, plan = ask(client, here, log=pulled.id, show="fuel", by=by)
    (place,) = plan["logs"][0]["places"]
    assert begins in str(place)
    _, found = ask(client, f"{here}/at", log=pulled.id, by=by, key="engine_speed", at=2.0)
    assert found["logs"][0]["time"] == pytest.approx(PULL_FROM_S + 2.0, abs=0.3)
    assert found["logs"][0]["values"]["engine_speed"]["value"] == pytest.approx(3000.0, abs=150)


def test_before_a_log_begins_and_after_it_ends_there_is_nothing(client, log, here):
    for at in (-5.0, 1e6):
        _, found = ask(client, f"{here}/at", log=log.id, key="engine_speed", at=at, table="ve_main")
        (mine,) = found["logs"]
        assert mine["values"]["engine_speed"]["value"] is None
        assert mine["cell"] is None
    _, without = ask(client, f"{here}/at", log=log.id, key=["knock_level", "engine_speed"], at=10.0)
    assert without["logs"][0]["values"]["knock_level"]["value"] is None
    assert without["logs"][0]["values"]["engine_speed"]["value"] is not None


def test_traces_are_moved_taken_out_and_an_arrangement_is_dropped(client, log, here):
    show = "engine_speed;manifold_pressure;lambda_measured"
    do = {"log": log.id, "show": show}
    assert (
        ask(client, f"{here}/arrange", do="remove", key="manifold_pressure", **do)[1]["show"]
        == "engine_speed;lambda_measured"
    )
    down = ask(client, f"{here}/arrange", do="down", key="engine_speed", **do)[1]["show"]
    assert down.replace(";", ",").split(",") == ["manifold_pressure", "engine_speed", "lambda_measured"]
    up = ask(client, f"{here}/arrange", do="up", key="engine_speed", **(do | {"show": down}))[1]["show"]
    assert up.replace(";", ",").split(",") == ["engine_speed", "manifold_pressure", "lambda_measured"]
    status, answer = ask(client, f"{here}/arrange", do="add", key=":never heard of", **do)
    assert (status, "no log that is open has “never heard of”" in answer["said"]) == (400, True)
    client.send_form(f"{here}/keep", {"name": "mine", "show": show})
    assert ask(client, here, log=log.id, show="mine")[1]["kept"] == ["mine"]
    client.send_form(f"{here}/keep", {"name": "mine", "drop": "yes"})
    assert ask(client, here, log=log.id, show="fuel")[1]["kept"] == []


def test_a_round_without_a_log_says_so(client, here):
    answer = client.get(here)
    assert answer.status_code == 400
    assert "this round has no log that can be read yet" in answer.text.lower()
