"""E-mail addresses as people type them."""

from __future__ import annotations

import re
import unicodedata

from uchiwa.core.errors import BadInput
from uchiwa.core.words.plain_text import one_line

LONGEST = 190
_FORM = re.compile(r"[^\s@<>()\[\],;:\\\"\x00-\x1f\x7f]{1,64}@[^\s@<>()\[\],;:\\\"\x00-\x1f\x7f]{1,120}")


def address_typed(text: str) -> str:
    """An address in the one form in which it is kept and compared.

    Raises:
        BadInput: it has not the form of an address.
    """
    address = unicodedata.normalize("NFC", text).strip().lower()
    if (
        len(address) > LONGEST
        or not _FORM.fullmatch(address)
        or ".." in address
        or address.endswith(".")
        or one_line(address) != address
    ):
        raise BadInput(f"“{text.strip()[:60]}” is not an e-mail address", advice="type one such as name@place.example")
    return address
