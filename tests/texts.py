"""Every text that a customer may be shown, gathered from templates and code: what a catalogue must hold."""

from __future__ import annotations

from functools import cache
from io import BytesIO
from pathlib import Path

from babel.messages.extract import extract
from jinja2.ext import babel_extract

from uchiwa.core.briefs.standard_brief import _WISHES
from uchiwa.core.quantities.catalogue import QUANTITIES
from uchiwa.web.customer.standin import WAYS

UCHIWA = Path(__file__).parent.parent / "uchiwa"
KEYWORDS = {"_": None, "N_": None, "Sentence": None, "say": None}
CODE = ("core/checks", "core/briefs", "core/logs/readers", "core/logs/recognition/recognise.py", "store/leases.py",
        "services/importing.py", "worker/import_process.py", "services/upload_pieces.py", "core/live", "core/logs/drives.py", "services/languages.py", "store/collected.py",
        "web/customer", "web/report")  # fmt: skip
STAGES = ("reading", "keeping samples", "checking")


@cache
def gathered() -> frozenset[str]:
    """Texts with their places."""
    found: set[str] = set(STAGES)
    for part in CODE:
        place = UCHIWA / part
        for file in [place] if place.is_file() else sorted(place.rglob("*")):
            if file.suffix == ".py":
                rows = extract("python", BytesIO(file.read_bytes()), KEYWORDS, (), {"encoding": "utf-8"})
                found |= {_text(row[1]) for row in rows}
            elif file.suffix == ".html":
                told = babel_extract(BytesIO(file.read_bytes()), ("_",), (), {"encoding": "utf-8", "silent": "false"})
                found |= {_text(row[2]) for row in told}
    found |= {QUANTITIES[wish.quantity].title for wish in _WISHES} | set(WAYS.values())
    found |= {
        QUANTITIES[one].title for one in ("manifold_pressure", "exhaust_temperature", "oil_temperature", "airflow")
    }
    return frozenset(one for one in found if one.strip() and one not in ("", "{told} {rest}", "{drives}"))


def _text(told) -> str:
    first = told if isinstance(told, str) or told is None else told[0]
    return str(first or "")
