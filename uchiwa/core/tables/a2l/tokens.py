"""The words of an A2L file, with comments and the grammar of vendors' parts (A2ML) left out."""

from __future__ import annotations

import re

from uchiwa.core.errors import BadInput

LARGEST = 256 * 2**20
MOST_TOKENS = 30_000_000
_TOKEN = re.compile(
    r'/begin\s+A2ML\b.*?/end\s+A2ML\b|/\*.*?\*/|//[^\n]*|"(?:[^"\\]|\\.|"")*"|/begin|/end|/include|[^\s"]+|"', re.DOTALL
)
_MARKS = (b"\xef\xbb\xbf", b"\xff\xfe", b"\xfe\xff")
ADVICE = "export the description again as ASAP2 1.6 or 1.7"


def as_text(data: bytes, name: str) -> str:
    """The text of an A2L file: in UTF-8 or UTF-16 by its mark, else UTF-8, else Windows-1252, which these files often are.

    Raises:
        BadInput: it is too large, or no text.
    """
    if len(data) > LARGEST:
        raise BadInput(f"a description may have up to {LARGEST // 2**20} MiB", where=name, advice="export less of it")
    try:
        if data.startswith(_MARKS):
            return data.decode("utf-8-sig" if data.startswith(_MARKS[0]) else "utf-16")
        if b"\0" in data[:4096]:
            raise BadInput("this is no text", where=name, advice="choose the .a2l file, not the image it describes")
        try:
            return data.decode("utf-8")
        except UnicodeDecodeError:
            return data.decode("cp1252")
    except UnicodeDecodeError as error:
        said = f"byte {error.start + 1} is none of the text's encoding"
        raise BadInput(said, where=name, advice="save the file as UTF-8") from None


def tokens(text: str, name: str) -> list[str]:
    """The words; strings keep their quotes.

    Raises:
        BadInput: a comment or a string does not end, there are too many words, or another file is to be included.
    """
    found = [one for one in _TOKEN.findall(text) if not (one.startswith(("/*", "//")) and _is_comment(one, text, name))]
    if len(found) > MOST_TOKENS:
        raise BadInput(f"the description has more than {MOST_TOKENS:,} words", where=name, advice="export less of it")
    for wrong, said, advice in (
        ('"', "a text in quotes does not end", ADVICE),
        ("/include", "parts of this description stand in another file (/include)", "put them in, or export it whole"),
    ):
        if wrong in found:
            raise BadInput(said, where=f"{name}, line {line_of(text, found.index(wrong))}", advice=advice)
    return found


def _is_comment(token: str, text: str, name: str) -> bool:
    """Whether a word that begins with a slash is left out."""
    if not token.startswith(("/*", "//")):
        return False
    if token.startswith("/*") and not (token.endswith("*/") and len(token) >= 4):
        line = text.count("\n", 0, text.rfind(token)) + 1
        raise BadInput("a comment does not end", where=f"{name}, line {line}", advice=ADVICE)
    return True


def line_of(text: str, number: int) -> int:
    """The line on which a word stands, by its number; found by reading again, for it is asked only of faulty files."""
    at = 0
    for match in _TOKEN.finditer(text):
        if match[0].startswith(("/*", "//")):
            continue
        if at == number:
            return text.count("\n", 0, match.start()) + 1
        at += 1
    return text.count("\n") + 1


def plain(token: str) -> str:
    """A string without its quotes."""
    if token[:1] != '"':
        return token
    inner = token[1:-1]
    if '"' not in inner and "\\" not in inner:
        return inner
    return re.sub(r'\\(["\'\\])|""', lambda match: match[1] or '"', inner)
