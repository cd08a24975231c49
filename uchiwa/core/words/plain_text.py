"""Text as people type it or programs send it, without what cannot be seen: one form for names, and one for longer text.

Names stand in headers of mails, in heads of files and beside other names; a character that turns the direction of writing, or
one that ends a line, makes them say something else there (Unicode Technical Report 36, sections 2.1 and 2.6). Words that mails
read as encoded (RFC 2047, `=?charset?q?text?=`) are no names.
"""

from __future__ import annotations

import re
import unicodedata

_ENCODED_WORD = re.compile(r"=\?")
_LINE_PARTS = ("\n", "\t")
_JOINERS = ("\u200c", "\u200d")
"""Needed within words of some scripts; longer text keeps them."""


def one_line(text: str) -> str:
    """A name: composed characters (NFC), no controls, no format or bidirectional marks, no encoded words, single spaces."""
    composed = unicodedata.normalize("NFC", text)
    visible = "".join(one if _is_seen(one) else " " if one.isspace() else "" for one in composed)
    return " ".join(_ENCODED_WORD.sub("= ?", visible).split())


def has_encoded_word(text: str) -> bool:
    """Whether a mail program could take a part of a text for an encoded word."""
    return _ENCODED_WORD.search(text) is not None


def many_lines(text: str) -> str:
    """Longer text: composed characters, line ends as line feeds, no other controls, no bidirectional marks."""
    composed = unicodedata.normalize("NFC", text.replace("\r\n", "\n").replace("\r", "\n"))
    return "".join(one for one in composed if _is_seen(one) or one in _LINE_PARTS or one in _JOINERS)


def _is_seen(character: str) -> bool:
    """Not of the categories Cc, Cf, Cs, Co, Cn, Zl, Zp."""
    category = unicodedata.category(character)
    return category[0] != "C" and category not in ("Zl", "Zp")
