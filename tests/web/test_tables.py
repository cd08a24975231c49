"""Tables edited, compared, reviewed and returned over HTTP."""

from __future__ import annotations

import json
import re

import pytest

from tests.store.conftest import log_text
from tests.web.draft_acts import FRAGMENT, answer_all, content, draft, edit, give_image
from tests.web.drawer import drawer_of
from uchiwa.core.tables.interchange import calibration_json
from uchiwa.services import importing
from uchiwa.standin.cars import pike_base
from uchiwa.store import draft_steps, drafts, jobs, links, revisions
from uchiwa.store.database import database, unit_of_work
from uchiwa.store.models import Event, LogFile, User


def test_the_page_shows_values_change_and_evidence(client, scene, path):
    log, _ = scene.receive(log_text())
    importing.import_log(log.id)
    for show in ("value", "change", "evidence"):
        for table in ("ve_main", "warmup", "lambda_target"):
            page = client.get(f"{path}/tables", params={"table": table, "show": show})
            assert page.status_code == 200
            shape = pike_base().table(table).shape
            assert page.text.count('role="gridcell"') == shape[0] * shape[1]
    page = client.get(f"{path}/tables?table=ve_main").text
    assert "never" in page
    assert 'class="trail"' in page
    assert client.get(f"{path}/tables?table=nothing").status_code == 400
    assert client.get(f"{path}/tables?table=constants").status_code == 200
    cell = client.get(f"{path}/tables/cell", params={"table": "ve_main", "i": 3, "j": 3})
    assert "the engine was here" in cell.text


def test_an_edit_answers_with_the_cells_that_look_different(client, scene, path):
    answer = edit(client, path, scene, "x-2", "4.4 5.4", why="hot day").json()
    assert (answer["version"], answer["touched"]) == (2, 2)
    assert {(i, j) for i, j, *_ in answer["cells"]} >= {(4, 4), (5, 4)}
    assert "touched" in answer["cells"][0][3]
    before, after = pike_base().table("spark_main").grid, content(scene).table("spark_main").grid
    assert after[4, 4] == pytest.approx(before[4, 4] - 2)
    assert (after != before).sum() == 2
    with unit_of_work():
        event = Event.select().where(Event.kind == "edit").get()
    assert event.sentence == "Spark advance: x-2 in 2 cells (hot day)"
    assert json.loads(event.inputs)["line"] == "x-2"
    plain = client.send_form(f"{path}/tables/edit", {"table": "spark_main", "cells": "4.4", "line": "14", "version": 2})
    assert plain.status_code == 303


@pytest.mark.parametrize(
    ("fields", "said"),
    [
        ({"line": "x**"}, "not a formula"),
        ({"line": "x/0"}, "this gives no number"),
        ({"cells": "99.1"}, "no cell in column 100"),
        ({"cells": ""}, "no cell is chosen"),
        ({"cells": "a"}, "is not a cell"),
        ({"table": "nothing"}, "there is no table"),
        ({"line": ""}, "the cell line is empty"),
    ],
)
def test_a_bad_edit_is_said_and_changes_nothing(client, scene, path, fields, said):
    answer = client.send_form(
        f"{path}/tables/edit",
        {"table": "spark_main", "cells": "4.4", "line": "x-1", "version": 1} | fields,
        headers=FRAGMENT,
    )
    assert answer.status_code == 400
    assert said in answer.json()["said"]
    assert draft(scene).version == 1


def test_a_stale_edit_is_refused_with_what_changed(client, scene, path):
    edit(client, path, scene, "x-2", why="mine")
    answer = edit(client, path, scene, "x+3", version=1)
    assert answer.status_code == 409
    assert "What was done meanwhile: Tuner: Spark advance: x-2 in 1 cell (mine)." in answer.json()["said"]
    assert content(scene).table("spark_main").grid[4, 4] == pytest.approx(
        pike_base().table("spark_main").grid[4, 4] - 2
    )


def test_undo_and_redo_go_all_the_way_and_an_edit_ends_redoing(client, scene, path):
    start = draft(scene).calibration_id
    contents = [start]
    for line in ("x-1", "x-2", "smooth 40", "x*1.02"):
        assert edit(client, path, scene, line, "4.4 5.4 6.4").status_code == 200
        contents.append(draft(scene).calibration_id)

    def step(which):
        return client.send_form(
            f"{path}/tables/{which}", {"table": "spark_main", "version": draft(scene).version}, headers=FRAGMENT
        )

    for wanted in reversed(contents[:-1]):
        assert step("undo").status_code == 200
        assert draft(scene).calibration_id == wanted
    assert step("undo").status_code == 409
    for wanted in contents[1:]:
        answer = step("redo")
        assert draft(scene).calibration_id == wanted
    assert answer.json()["redo"] == ""
    assert step("redo").status_code == 409
    step("undo")
    step("undo")
    edit(client, path, scene, "x+9")
    assert step("redo").status_code == 409
    step("undo")
    assert draft(scene).calibration_id == contents[2]


def test_pasting_reads_any_spreadsheets_text(client, scene, path):
    fields = {"table": "spark_main", "cells": "3.5", "version": 1, "text": "20\t21\n22\t23\n", "joining": "replace"}
    answer = client.send_form(f"{path}/tables/paste", fields, headers=FRAGMENT).json()
    assert sorted(answer["chosen"]) == [[3, 4], [3, 5], [4, 4], [4, 5]]
    grid = content(scene).table("spark_main").grid
    assert grid[4:6, 3:5].tolist() == [[22, 23], [20, 21]]
    for text, said in (("1\tx", "pasted line 1, cell 2"), ("1\t2\n3", "pasted line 2"), ("", "nothing to paste")):
        bad = client.send_form(f"{path}/tables/paste", fields | {"version": 2, "text": text}, headers=FRAGMENT)
        assert bad.status_code == 400
        assert said in bad.json()["said"]
    assert client.send_form(f"{path}/tables/paste", fields | {"joining": "divide"}, headers=FRAGMENT).status_code == 400


def test_pins_hold_against_edits_and_on_fuel_alike(client, scene, path):
    log, _ = scene.receive(log_text())
    importing.import_log(log.id)
    pin = {"table": "ve_main", "cells": "2.2 3.2", "version": 1}
    assert "2 cells pinned" in client.send_form(f"{path}/tables/pin", pin, headers=FRAGMENT).json()["said"]
    assert edit(client, path, scene, "x+1", "2.2 3.2 4.2", "ve_main").status_code == 200
    assert (content(scene).table("ve_main").grid != pike_base().table("ve_main").grid).sum() == 1
    fuel = client.get(f"{path}/fuel?view=proposed").text
    assert fuel.count("state-pinned") == 2
    assert "2 cells freed" in client.send_form(f"{path}/tables/pin", pin, headers=FRAGMENT).json()["said"]


def test_breakpoints_change_in_all_tables_that_share_them_and_fuel_follows(client, scene, path):
    log, _ = scene.receive(log_text())
    importing.import_log(log.id)
    x = "600 900 1200 1600 2000 2400 2800 3200 3600 4000 4500 5000 5500 6000 7000"
    y = "20 30 40 50 60 70 80 90 100 120 140 160 180"
    fields = {"table": "ve_main", "version": 1, "x": x, "y": y, "others": "true"}
    assert client.send_form(f"{path}/tables/breakpoints", fields).status_code == 303
    changed = content(scene)
    for one in ("ve_main", "spark_main", "lambda_target"):
        assert changed.table(one).x.breakpoints[-1] == 7000
    assert client.get(f"{path}/fuel").status_code == 200
    assert "7000" in client.get(f"{path}/fuel").text
    taken = client.send_form(f"{path}/fuel/take", {"version": draft(scene).version})
    assert taken.status_code == 303
    assert content(scene).table("ve_main").x.breakpoints[-1] == 7000
    bad = client.send_form(f"{path}/tables/breakpoints", fields | {"version": 3, "x": "600 500"})
    assert "500 does not rise above 600" in bad.text


def test_the_drawer_shows_when_the_engine_was_in_the_chosen_cells(client, scene, path):
    assert client.get(f"{path}/tables/moments", params={"table": "ve_main", "cells": "4.4"}).status_code == 400
    log, _ = scene.receive(log_text())
    importing.import_log(log.id)
    everywhere = " ".join(f"{i}.{j}" for i in range(15) for j in range(13))
    told = drawer_of(client.get(f"{path}/tables/moments", params={"table": "ve_main", "cells": everywhere}))
    with unit_of_work():
        assert told.seconds == pytest.approx(LogFile.get_by_id(log.id).duration_s, rel=0.02)
    page = client.get(f"{path}/tables/cell", params={"table": "ve_main", "i": 4, "j": 4}).json()["margin"]
    seconds = float(re.search(r'data-fact="seconds">([\d.]+) s', page)[1])
    told = drawer_of(client.get(f"{path}/tables/moments", params={"table": "ve_main", "cells": "4.4"}))
    assert told.seconds == pytest.approx(seconds, abs=0.3 * told.moments)
    assert len(told.traces) == 3


HOSTILE = (
    "<script>alert(1)</script> [a](javascript:alert(1)) ![b](https://x.example/y.png) <b onclick=x>c</b>\n\n- **fine**"
)


def test_notes_are_markdown_and_nothing_else(client, scene, path, visitor):
    with unit_of_work():
        token = links.make(scene.job)
    edit(client, path, scene, "x-2", "4.4")
    answer_all(client, path)
    assert client.send_form(f"{path}/return", {"version": 2, "notes": HOSTILE}).status_code == 303
    for address in (
        f"{path}/return",
        f"/c/{token}",
        f"/jobs/{scene.job.id}/revisions/1/report",
        f"/jobs/{scene.job.id}",
    ):
        page = client.get(address).text
        assert "<strong>fine</strong>" in page, address
        for bad in ("<script>alert", 'href="javascript', "<img", "<b onclick"):
            assert bad not in page, (address, bad)


def test_units_are_those_of_the_person(client, scene, path):
    log, _ = scene.receive(log_text())
    importing.import_log(log.id)
    client.send_form("/settings/units", {"measures": "imperial", "mixture": "afr"})
    fuel = client.get(f"{path}/fuel").text
    assert "psi / rpm" in fuel
    assert re.search(r"\d+ rpm × [\d.]+ psi", fuel)
    page = client.get(f"{path}/tables?table=lambda_target").text
    assert "psi / rpm" in page
    assert "14.70" in page
    assert edit(client, path, scene, "12.5", "4.4", "lambda_target").status_code == 200
    assert content(scene).table("lambda_target").grid[4, 4] == 0.85
    client.send_form("/settings/units", {"measures": "furlongs"})
    with unit_of_work():
        assert User.get_by_id(scene.user.id).measures == "imperial"


def test_a_constant_is_set_and_undone(client, scene, path):
    fields = {"constant": "injector_flow", "value": "7,5", "version": 1, "why": "new injectors"}
    assert client.send_form(f"{path}/tables/constant", fields).status_code == 303
    assert content(scene).constant("injector_flow") == 7.5
    for value, said in (("much", "not a number"), ("7.5", "changes nothing")):
        bad = client.send_form(f"{path}/tables/constant", fields | {"version": 2, "value": value})
        assert bad.status_code == 400
        assert said in bad.text


def test_any_two_are_compared_and_single_changes_taken_across(client, scene, path):
    edit(client, path, scene, "x-2", "4.4 5.4")
    edit(client, path, scene, "x+1", "1.1", "ve_main")
    page = client.get(f"{path}/compare?table=spark_main").text
    assert "Spark advance: 2 cells changed" in page
    steps = re.findall(r'value="(step:\d+)"', page)
    assert client.get(f"{path}/compare", params={"a": steps[-1], "b": "draft"}).status_code == 200
    take = {"source": "revision:0", "table": "spark_main", "cells": "4.4", "version": draft(scene).version}
    assert client.send_form(f"{path}/compare/take", take).status_code == 303
    assert (content(scene).table("spark_main").grid != pike_base().table("spark_main").grid).sum() == 1
    other = pike_base()
    other = other.with_table(other.table("warmup").with_grid(other.table("warmup").grid + 1))
    sent = client.send_form(f"{path}/compare/file", files={"file": ("other.json", calibration_json.dumps(other))})
    assert sent.status_code == 303
    against = client.get(sent.headers["location"]).text
    assert "Warm-up factor: 6 cells changed" in against
    bad = client.send_form(f"{path}/compare/file", files={"file": ("x.bin", b"\x00\x01")})
    assert "not calibration JSON" in bad.text
    assert client.get(f"{path}/compare?a=revision:77").status_code == 400
    assert client.send_form(f"{path}/compare/take", take).status_code in (400, 409)
    back = {"revision": 0, "version": draft(scene).version}
    assert client.send_form(f"{path}/tables/go-back", back).status_code == 303
    assert calibration_json.content_hash(content(scene)) == calibration_json.content_hash(pike_base())
    assert client.send_form(f"{path}/tables/go-back", back | {"version": draft(scene).version}).status_code == 400


def test_concerns_are_answered_before_freezing(client, scene, path):
    edit(client, path, scene, "x-8", "5.8")
    page = client.get(f"{path}/review").text
    assert "2 to answer" in page
    assert "a ledge of up to" in page
    assert "this round has no log" in page
    refused = client.send_form(f"{path}/return", {"version": 2})
    assert refused.status_code == 400
    assert "concerns are open" in refused.text
    key = re.search(r'name="concern" value="([0-9a-f]+)"', page)[1]
    assert client.send_form(f"{path}/review/answer", {"concern": key, "reason": " "}).status_code == 400
    answer_all(client, path)
    assert "All answered" in client.get(f"{path}/review").text
    edit(client, path, scene, "x-1", "5.8")
    assert "1 to answer" in client.get(f"{path}/review").text
    answer_all(client, path)
    assert client.send_form(f"{path}/return", {"version": 3}).status_code == 303
    with unit_of_work():
        event = Event.select().where(Event.kind == "freeze").get()
    kept = json.loads(event.inputs)
    assert len(kept["steps"]) == 2
    assert {one["reason"] for one in kept["answers"]} == {"as intended"}
    assert client.get(f"{path}/review").status_code == 200
    assert client.get(f"{path}/tables").status_code == 200
    assert edit(client, path, scene, "x-1").status_code == 409


def test_the_customer_downloads_confirms_and_is_told_of_a_withdrawal(client, scene, path, visitor):
    with unit_of_work():
        token = links.make(scene.job)
    give_image(client, scene)
    edit(client, path, scene, "x-2", "4.4")
    answer_all(client, path)
    client.send_form(f"{path}/return", {"version": 2, "notes": "Careful."})
    assert "not yet downloaded" in client.get("/").text
    page = client.get(f"/c/{token}").text
    assert "First: flash revision 1" in page
    image = client.get(f"/c/{token}/image")
    assert image.content == client.get(f"/jobs/{scene.job.id}/revisions/1/image.hex").content
    assert "downloaded, not yet flashed" in client.get("/").text
    assert client.get(f"/c/{token}/package.zip").status_code == 200
    assert client.get(f"/c/{token}/report.pdf").content[:5] == b"%PDF-"
    assert client.send_form(f"/c/{token}/flashed", {"number": 2}).status_code == 409
    assert client.send_form(f"/c/{token}/flashed", {"number": 1}).status_code == 303
    assert "First: flash" not in client.get(f"/c/{token}").text
    assert "Revision 1 flashed" in client.get("/").text
    assert client.send_form(f"{path}/return/withdraw", {"why": ""}).status_code == 400
    assert client.send_form(f"{path}/return/withdraw", {"why": "It pings in third gear."}).status_code == 303
    told = client.get(f"/c/{token}").text
    assert "Revision 1 was withdrawn" in told
    assert "It pings in third gear." in told
    assert client.get(f"/c/{token}/image").status_code == 404
    with unit_of_work():
        work = drafts.current(scene.job)
        assert work.base.number == 0
        assert draft_steps.undoable(draft_steps.steps(scene.job)) is not None
    assert "Draft against revision 0" in client.get(f"/jobs/{scene.job.id}/rounds/2/review").text
    assert client.send_form(f"{path}/return/withdraw", {"why": "again"}).status_code == 409


def test_a_log_of_a_withdrawn_revision_stays_measured_against_it(client, scene, path):
    edit(client, path, scene, "x-2", "4.4")
    answer_all(client, path)
    client.send_form(f"{path}/return", {"version": 2})
    with unit_of_work():
        second = jobs.rounds(scene.job)[-1]
        assert revisions.running(scene.job, second).number == 1
    client.send_form(f"{path}/return/withdraw", {"why": "wrong table"})
    with unit_of_work():
        assert revisions.running(scene.job, second).number == 0


def test_another_shop_sees_none_of_it(client, scene, path, visitor):
    from uchiwa.store import accounts

    edit(client, path, scene, "x-2", "4.4")
    with unit_of_work():
        accounts.create_user(accounts.create_shop("Other"), "other@example.org", "Other", "another long password")
    visitor.sign_in("other@example.org", "another long password")
    for address in (f"{path}/tables", f"{path}/compare", f"/jobs/{scene.job.id}/image", f"/jobs/{scene.job.id}/archive.zip",
                    f"/jobs/{scene.job.id}/revisions/0.zip", f"/jobs/{scene.job.id}/revisions/0/report"):  # fmt: skip
        assert visitor.get(address).status_code == 404, address
    assert edit(visitor, path, scene, "x-1").status_code == 404


def test_pages_ask_the_database_as_often_for_many_steps_as_for_few(client, scene, path, monkeypatch):
    def asked(address: str) -> int:
        client.get(address)
        count, execute = [], database.execute_sql
        monkeypatch.setattr(database, "execute_sql", lambda sql, *rest: count.append(sql) or execute(sql, *rest))
        assert client.get(address).status_code == 200
        monkeypatch.setattr(database, "execute_sql", execute)
        return len(count)

    addresses = (
        f"{path}/tables?table=spark_main",
        f"{path}/tables/cell?table=spark_main&i=1&j=1",
        f"{path}/review",
        "/",
    )
    edit(client, path, scene, "x-1", "1.1")
    few = [asked(one) for one in addresses]
    for number in range(7):
        edit(client, path, scene, "x-1", f"{number}.2")
    assert [asked(one) for one in addresses] == few
