"""A controller's description on the shelf, and the layouts that are made of it by what a person says."""

from __future__ import annotations

import re

import pytest

from tests.web.conftest import Client
from tests.web.shop.test_shelf import BASE, put
from uchiwa.core.shelf.contents import ShelfKind
from uchiwa.core.tables.image.content import read_calibration
from uchiwa.core.tables.image.files import write_image
from uchiwa.standin.a2l import description_of
from uchiwa.standin.fleet import car_named
from uchiwa.standin.layouts import image_of, layout_data, layout_of
from uchiwa.store import accounts, shelf
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import ShelfEntry

PIKE = car_named("corvid-pike")
LAYOUT = layout_of(PIKE)
A2L = description_of(LAYOUT).encode()
LIKELY = {"input.EngineSpeed": "engine_speed", "input.IntakePressure": "manifold_pressure"}
VE = next(table for table in LAYOUT.tables if table.role == "volumetric_efficiency").id.upper()
SPARK = next(table for table in LAYOUT.tables if table.role == "spark_advance").id.upper()


@pytest.fixture
def description(client) -> int:
    """One on the shelf."""
    return put(client, A2L, "pike.a2l", name="Pike's own")


def make(client, number: int, form: dict[str, str], files=None):
    return client.send_form(f"/shelf/{number}/layout", form, files=files or {})


def made(answer):
    """The layout on the shelf that an answer leads to, and its entry."""
    assert answer.status_code == 303, answer.text
    with unit_of_work():
        entry = ShelfEntry.get_by_id(int(answer.headers["location"].rpartition("/")[2]))
        return shelf.content(entry).read, entry


def test_what_is_chosen_is_in_the_layout_and_its_image_reads_as_the_cars_own(client, description):
    form = LIKELY | {f"take.{VE}": "volumetric_efficiency", f"take.{SPARK}": "spark_advance", "name": "Two tables"}
    layout, entry = made(make(client, description, form))
    assert (entry.name, entry.kind, entry.origin) == (
        "Two tables",
        ShelfKind.LAYOUT,
        "from the description “Pike's own”",
    )
    assert {table.role for table in layout.tables} == {"volumetric_efficiency", "spark_advance"}
    own, read = PIKE.base(), read_calibration(image_of(PIKE), layout)
    for role in ("volumetric_efficiency", "spark_advance"):
        (theirs,), (ours,) = read.by_role(role), own.by_role(role)[:1]
        assert theirs.grid == pytest.approx(ours.grid, abs=0.02)
    assert "No checksum is known" in entry.words


def test_a_description_of_which_nothing_is_said_gives_what_is_likely(client, description):
    layout, entry = made(make(client, description, {}))
    assert entry.name == layout.title
    assert "volumetric_efficiency" in {table.role for table in layout.tables}
    nothing, _ = made(make(client, description, {"take.NO_SUCH_THING": "spark_advance", "name": "The same"}))
    assert [table.id for table in nothing.tables] == [table.id for table in layout.tables]


def test_a_checksum_is_said_whole_or_not_at_all(client, description):
    (told,) = layout_data(PIKE)["checksums"][:1]
    (low, high), *_ = told["ranges"]
    whole = {"checksum_kind": told["kind"], "checksum_from": low, "checksum_to": high, "checksum_at": told["address"]}
    layout, entry = made(make(client, description, LIKELY | whole))
    assert [checksum.address for checksum in layout.checksums] == [int(told["address"], 16)]
    assert "No checksum is known" not in entry.words
    for missing in ("checksum_from", "checksum_to", "checksum_at"):
        answer = make(client, description, LIKELY | {"name": missing} | whole | {missing: ""})
        assert answer.status_code == 400
        assert "write addresses such as 0x8000" in answer.text
        with unit_of_work():
            assert not ShelfEntry.select().where(ShelfEntry.name == missing).exists()
    # The kind alone is what the form has chosen from the beginning: it says nothing yet.
    layout, _ = made(make(client, description, {"checksum_kind": told["kind"], "name": "none said"}))
    assert layout.checksums == ()


def test_an_image_that_is_sent_along_tells_how_far_the_layout_goes(client, description):
    image = write_image(image_of(PIKE), "hex")
    layout, _ = made(make(client, description, LIKELY, files={"image": ("pike.hex", image)}))
    memory = image_of(PIKE)
    assert (layout.base, layout.size) == (memory.start, memory.end - memory.start)
    broken = make(client, description, {"name": "broken"}, files={"image": ("pike.hex", b":00zz")})
    assert broken.status_code == 400
    assert "pike.hex" in broken.text


def test_only_a_description_of_ones_own_shop_makes_a_layout(client, description, scene):
    other = put(client, BASE, "base.json", name="A calibration")
    for number in (other, description + 1000):
        assert make(client, number, {}).status_code == 404
    with unit_of_work():
        shop = accounts.create_shop("Other")
        stranger = accounts.create_user(shop, "other@example.org", "Other", "a long enough password")
        before = ShelfEntry.select().count()
    with Client(client.app) as elsewhere:
        elsewhere.be_signed_in(stranger)
        assert make(elsewhere, description, {}).status_code == 404
        assert elsewhere.get(f"/shelf/{description}").status_code == 404
    with unit_of_work():
        assert ShelfEntry.select().count() == before


def test_characteristics_are_found_by_name_and_listed_a_page_at_a_time(client, description):
    page = client.get(f"/shelf/{description}").text
    assert f'name="take.{VE}"' in page
    found = client.get(f"/shelf/{description}", params={"q": VE.lower()}).text
    assert set(re.findall(r'name="take\.([^"]+)"', found)) == {VE}
