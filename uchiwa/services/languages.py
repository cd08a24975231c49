"""What customers are told, in their own language: gettext catalogues by Babel, numbers and dates by locale."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import datetime
from functools import cache, cached_property
from pathlib import Path
from typing import Any

from babel import Locale
from babel.dates import format_date
from babel.messages.pofile import read_po

from uchiwa.core.words.sentence import N_, Sentence, said_in
from uchiwa.store.clock import now

FOLDER = Path(__file__).parent.parent / "locale"
ENGLISH = "en"
LANGUAGES = {"en": "English", "de": "Deutsch", "es": "Español", "fr": "Français", "ja": "日本語"}
"""Languages of customers' pages, each called as its speakers call it."""
_AGO = (
    (60.0, N_("{n} s ago")),
    (60.0, N_("{n} min ago")),
    (24.0, N_("{n} h ago")),
    (7.0, N_("{n} d ago")),
    (9.0, N_("{n} w ago")),
)


@cache
def _catalogue(language: str) -> Mapping[str, str]:
    path = FOLDER / f"{language}.po"
    if language == ENGLISH or not path.is_file():
        return {}
    with path.open("rb") as file:
        read = read_po(file, locale=language)
    return {str(one.id): str(one.string) for one in read if one.id and one.string and not one.fuzzy}


_POINT = re.compile(r"(?<=\d)\.(?=\d)")


@dataclass(frozen=True)
class Words:
    """A language, as pages ask for texts in it.

    Attributes:
        language: one of `LANGUAGES`.
    """

    language: str = ENGLISH

    @cached_property
    def _locale(self) -> Locale:
        return Locale.parse("en_GB" if self.language == ENGLISH else self.language)

    @cached_property
    def decimal(self) -> str:
        """What stands between whole numbers and their fractions."""
        return str(self._locale.number_symbols["latn"]["decimal"])

    def text(self, text: str) -> str:
        """A text in this language; as it is where nobody has translated it, as what a tuner has written."""
        known = _catalogue(self.language)
        found = known.get(text)
        if found is None and text[:1].isupper():
            small = known.get(text[:1].lower() + text[1:])
            found = small[:1].upper() + small[1:] if small else None
        return text if found is None else found

    def say(self, text: str, **values: Any) -> str:
        """A text or a sentence in this language, with values in its places."""
        if values:
            return Sentence(text, **values).said(self.text, self.decimal)
        return said_in(text, self.text, self.decimal)

    def number(self, value: float, digits: int = 0) -> str:
        """A number with its decimal mark."""
        return f"{value:.{digits}f}".replace(".", self.decimal).replace("-", "−")

    def figures(self, text: str) -> str:
        """A text of figures, such as a span, with the language's decimal mark."""
        return _POINT.sub(self.decimal, text)

    def ago(self, moment: datetime | None) -> str:
        """How long ago, in one figure and one unit; a date for what is older than nine weeks."""
        if moment is None:
            return ""
        amount = max(0.0, (now() - moment).total_seconds())
        for size, template in _AGO:
            if amount < size:
                return self.say(template, n=int(amount))
            amount /= size
        return self.date(moment)

    def date(self, moment: datetime) -> str:
        """A date as people of the language write it."""
        return str(format_date(moment, format="long", locale=self._locale))

    def capital(self, text: str) -> str:
        """A text that begins a line."""
        return text[:1].upper() + text[1:] if text[:1].isalpha() else text


@cache
def words_of(language: str) -> Words:
    """The words of a language; English for one that is not there."""
    return Words(language if language in LANGUAGES else ENGLISH)
