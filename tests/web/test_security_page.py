"""The page about security names tests that there are."""

from __future__ import annotations

import re
from pathlib import Path

HERE = Path(__file__).parents[2]
NAMED = re.compile(r"`(test_\w+\.py)::(test_\w+)`")


def test_every_test_that_the_security_page_names_exists():
    named = NAMED.findall((HERE / "docs" / "security.md").read_text())
    assert len(named) > 12
    for file, test in named:
        places = list((HERE / "tests").rglob(file))
        assert any(f"def {test}(" in place.read_text() for place in places), (file, test)
