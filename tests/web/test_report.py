"""The report that goes with a revision: what it shows, in whose language, on how many pages, and for how long."""

from __future__ import annotations

import math
import re
import zlib

import numpy as np
import pytest

from tests.web.draft_acts import answer_all, draft, edit
from tests.web.test_round import at_fuel, path  # noqa: F401
from uchiwa.services.glance import PullCurve, glance
from uchiwa.services.languages import LANGUAGES, words_of
from uchiwa.store import customers
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import Revision, Round
from uchiwa.web.report.glance_picture import map_picture, paint, pull_picture
from uchiwa.web.report.report import as_pdf


@pytest.fixture
def returned(at_fuel, scene, path):  # noqa: F811
    """Make a return in a language, with fuel taken, three more tables changed and long words."""

    def act(language: str) -> str:
        with unit_of_work():
            customers.set_language(scene.job.car.customer, language)
        at_fuel.send_form(f"{path}/fuel/take", {"version": draft(scene).version})
        edit(at_fuel, path, scene, "x-1", "2.2 9.9")
        edit(at_fuel, path, scene, "x-0.01", "2.2 9.9", table="lambda_target")
        edit(at_fuel, path, scene, "x+1", "1 2", table="warmup")
        answer_all(at_fuel, path)
        notes = "Please flash **this** and drive as before.\n\n" * 6
        answer = at_fuel.send_form(f"{path}/return", {"version": draft(scene).version, "notes": notes})
        assert answer.status_code == 303
        with unit_of_work():
            return Revision.select().order_by(Revision.id.desc()).get().report

    return act


@pytest.mark.parametrize("language", ["en", "ja"])
def test_it_is_an_archive_document_of_one_to_four_pages(returned, language):
    content = returned(language)
    assert f'<article class="report" lang="{language}"' in content
    data = as_pdf("A report", content)
    streams = re.findall(rb"stream\r?\n(.*?)\r?\nendstream", data, re.S)
    texts = []
    for stream in streams:
        try:
            texts.append(zlib.decompress(stream))
        except zlib.error:
            texts.append(stream)
    assert 1 <= len(re.findall(rb"/Type\s*/Page\b", b"\n".join([data, *texts]))) <= 4
    (told,) = [text for text in texts if b"pdfaid" in text]
    assert b'pdfaid:part="3"' in told
    assert b'pdfaid:conformance="U"' in told
    assert any(b"/OutputIntents" in text for text in texts)


@pytest.mark.parametrize("language", LANGUAGES)
def test_what_was_done_is_said_plainly_in_the_customers_language(returned, language):
    said = {
        "en": "Fuel: corrected to what was measured", "de": "Kraftstoff: an", "es": "Combustible: corregido",
        "fr": "Carburant : corrigé", "ja": "燃料：測定結果に合わせて",
    }  # fmt: skip
    content = returned(language)
    assert said[language] in content
    mark = re.escape(words_of(language).decimal)
    (done,) = re.findall(f"<li>({said[language]}.*?)</li>", content)
    assert re.search(rf"[+−]\d+{mark}\d", done)
    assert "{count}" not in content


def test_the_map_of_errors_carries_its_colours_itself(returned, scene):
    """A PDF's drawings do not see the page's style: a colour by class alone would be black."""
    content = returned("en")
    with unit_of_work():
        (one,) = glance(scene.job, Round.get_by_id(scene.round.id)).maps
    fills = [square.fill for square in map_picture(one).squares]
    assert len(set(fills)) > 1
    for fill in set(fills):
        assert f'fill="{fill}"' in content
    assert [paint(0.0), paint(math.nan), paint(12.0), paint(-40.0)] == ["#FFFFFF", "#EDEBE5", "#D4A853", "#7F90B9"]
    drawn = re.findall(r"<(?:rect|circle|polyline)\b[^>]*>", content)
    assert all("fill=" in shape for shape in drawn)


def test_pulls_lie_over_each_other_and_the_gain_is_their_mean_where_both_were():
    speed = np.arange(2000.0, 6001.0, 500.0)
    before = PullCurve(1, speed, np.where(speed > 5000, np.nan, 200.0), "road")
    now = PullCurve(3, speed, np.where(speed < 2600, np.nan, 220.0), "road")
    picture = pull_picture((before, now))
    assert [number for number, _ in picture.lines] == [1, 3]
    assert [len(points.split()) for _, points in picture.lines] == [7, 7]
    assert picture.gain_percent == pytest.approx(10.0)
    assert pull_picture((now,)).gain_percent is None
    assert pull_picture(()) is None
