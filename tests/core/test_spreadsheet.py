"""Nothing that is exported as delimited text is run by the spreadsheet that opens it."""

from __future__ import annotations

import csv
import io

import pytest

from uchiwa.core.logs.readers import read_log
from uchiwa.core.logs.writers import write_log
from uchiwa.core.spreadsheet import as_text

EVIL = ["=1+1", "+cmd|' /C calc'!A0", "-2+3", "@SUM(A1)", "\t=1", " =1", "＝1"]


@pytest.mark.parametrize("words", EVIL)
def test_words_that_would_be_run_are_led_by_an_apostrophe(words):
    assert as_text(words) == f"'{words}"
    assert as_text(f"rpm {words}") == f"rpm {words}"
    assert as_text("") == ""


def test_heads_of_an_exported_log_are_words():
    log = read_log(
        b"Time (s),Engine speed (rpm),=HYPERLINK(1),@Load (%)\n"
        + b"".join(b"%d.0,%d,%d,%d\n" % (at, 900 + at, at, at) for at in range(40)),
        "a.csv",
    )
    text = write_log(log, "csv").decode()
    head = next(row for row in csv.reader(io.StringIO(text)) if len(row) > 2)
    assert [cell for cell in head if cell[:1] in "=+-@"] == []
    assert any("HYPERLINK" in cell for cell in head)
    again = read_log(text.encode(), "b.csv")
    assert len(again.rasters[0].channels) == len(log.rasters[0].channels)
