"""Customers' pages in their language: nothing missing, numbers by locale, and what a tuner wrote left alone."""

from __future__ import annotations

import gzip
import json
import pickle
import re
import string
from datetime import timedelta

import pytest

from tests.store.conftest import log_text, ready, sweep
from tests.texts import gathered
from tests.web.conftest import client, scene, visitor  # noqa: F401
from uchiwa.core.briefs.coverage import LIGHT
from uchiwa.core.errors import BadInput
from uchiwa.core.logs.readers import read_recordings
from uchiwa.core.words.sentence import N_, Sentence, plain_data, sentence_of
from uchiwa.services.languages import LANGUAGES, _catalogue, words_of
from uchiwa.store import briefs, customers, findings, links
from uchiwa.store.clock import now
from uchiwa.store.database import unit_of_work

OTHERS = [one for one in LANGUAGES if one != "en"]


def places(text: str) -> list[tuple[str, str]]:
    return sorted((name, spec or "") for _, name, spec, _ in string.Formatter().parse(text) if name is not None)


@pytest.mark.parametrize("language", OTHERS)
def test_every_text_that_a_customer_may_see_is_translated_with_its_places(language):
    known = _catalogue(language)
    texts = gathered()
    assert len(texts) > 300
    assert sorted(texts - set(known)) == []
    assert sorted(set(known) - texts) == []
    assert [text for text in texts if places(text) != places(known[text])] == []
    same = [text for text in texts if known[text] == text and len(re.sub(r"\{.*?\}", "", text)) > 24]
    assert same == []


def test_numbers_and_sentences_within_sentences_are_said_in_the_language():
    german = words_of("de")
    said = Sentence(
        "The logger wrote {hertz:.1f} rows a second, and steady driving needs at least {wanted:.0f}. Please choose a faster rate or fewer channels.",
        hertz=3.25,
        wanted=4,
    )
    assert "3,2 Zeilen je Sekunde" in german.say(said)
    wanted = Sentence(
        "Still wanted: {wanted}.", wanted=[Sentence("{band} around {low} rpm", band=LIGHT, low=3000), "odd words"]
    )
    assert wanted == "Still wanted: light throttle around 3000 rpm, odd words."
    assert german.say(wanted) == "Noch gewünscht: wenig Gas um 3000/min, odd words."
    assert words_of("ja").say(wanted) == "残り：3000 rpm付近で小さなスロットル, odd words。"
    assert sentence_of(json.loads(json.dumps(plain_data(wanted)))).said(german.text) == german.say(wanted)


def test_a_capital_begins_a_line_and_the_tuners_words_stay():
    german = words_of("de")
    assert german.say("Coolant") == "Kühlmittel"
    assert german.say("Mind the third corner") == "Mind the third corner"
    assert words_of("xx").say(N_("Send a log")) == "Send a log"
    assert german.ago(now() - timedelta(hours=3, minutes=1)) == "vor 3 h"
    assert german.date(now().replace(year=2026, month=3, day=2)) == "2. März 2026"


def test_a_sentence_comes_whole_out_of_another_process():
    said = Sentence("it has {count} rows of {name}", count=3, name="{odd}")
    again = pickle.loads(pickle.dumps(said))
    assert (again, again.template, again.values) == (said, said.template, said.values)


UNREADABLE = (
    b"", b"time,rpm\n1,2\n", b"time,rpm\na,b\nc,d\n", b"time [s],MAP [kPa]\n0,1\n1,2\n", b"PK\x03\x04\x00\x00" * 40,
    bytes(range(256)) * 4, b"MDF     4.10" + bytes(300), b"words\nand more words\n", gzip.compress(b"time,rpm\n0,1\n")[:-9],
    b"rpm,map\n1,2\n1,3\n2,3\n", b"PAR1" + bytes(64), b"time [furlong],rpm\n0,1\n1,2\n2,3\n",
    b"(0.0) can0 123#00\n(0.1) can0 123#01\n" * 40,
)  # fmt: skip


@pytest.mark.parametrize("data", UNREADABLE, ids=range(len(UNREADABLE)))
def test_why_a_file_cannot_be_read_is_known_in_every_language(data):
    with pytest.raises(BadInput) as caught:
        read_recordings(data, "drive.bin")
    for language in OTHERS:
        say = words_of(language).say
        for part in (caught.value.what, caught.value.advice):
            assert say(part) != part, language


def test_a_refused_log_says_why_in_the_customers_language(client, scene):  # noqa: F811
    with unit_of_work():
        customers.set_language(scene.job.car.customer, "de")
        token = links.make(scene.job)
    sent = client.send_form(f"/c/{token}/logs/upload", files={"files": ("empty.csv", b"time,rpm\n1,2\n")})
    assert sent.status_code == 303
    sweep()
    assert "Es hat nur eine Zeile; zeichnen Sie mindestens einige Sekunden auf." in client.get(f"/c/{token}").text
    assert (
        "It has only one row; record at least a few seconds." in client.get(f"/jobs/{scene.job.id}/rounds/1/logs").text
    )
    client.send_form(f"/c/{token}/logs/upload", files={"files": ("again.csv", b"time,rpm\n1,2\n")})
    assert "again.csv ist dieselbe Datei wie empty.csv, die schon hier ist." in client.get(f"/c/{token}").text


@pytest.mark.parametrize("language", list(LANGUAGES))
def test_the_phones_page_speaks_it(client, scene, language):  # noqa: F811
    with unit_of_work():
        briefs.keep(scene.round, briefs.standard(scene.job, scene.round))
        token = links.make(scene.job)
    answer = client.send_form(f"/jobs/{scene.job.id}/customer", {"email": "", "language": language})
    assert answer.status_code == 303
    log = ready(scene.receive(log_text(size=300, mixture=1.3))[0])
    with unit_of_work():
        found = findings.of_logs([log])[log.id]
    page = client.get(f"/c/{token}").text
    say = words_of(language).say
    assert f'<html lang="{language}"' in page
    for text in ("Steady cruise", "Send a log", "How to do it", "Your logs", *(one.customer for one in found)):
        assert say(text) in page.replace("&#39;", "'").replace("&#34;", '"'), text
    assert re.search(r'data-words="\{', page)
    live = client.get(f"/c/{token}/live").text
    assert say("Nothing is being recorded") in live


def test_a_finding_is_said_in_the_language_of_today(client, scene):  # noqa: F811
    """It is kept with what it is made of, so that a language that is chosen later speaks it, too."""
    log = ready(scene.receive(log_text(size=300))[0])
    with unit_of_work():
        kept = [
            finding.customer for finding in findings.of_logs([log])[log.id] if isinstance(finding.customer, Sentence)
        ]
        customers.set_language(scene.job.car.customer, "ja")
        token = links.make(scene.job)
    assert kept
    assert words_of("ja").say(kept[0]) in client.get(f"/c/{token}").text
    assert kept[0] not in client.get(f"/c/{token}").text
