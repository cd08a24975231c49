"""The words of an A2L file, with comments and the grammar of vendors' parts (A2ML) left out."""

from __future__ import annotations

import re

from uchiwa.core.errors import BadInput

LARGEST = 256 * 2**20
MOST_TOKENS = 30_000_000
# What has a beginning and no end takes all that is left, so that no text is searched twice for the same end.
_TOKEN = re.compile(
    r"""/begin\s{1,999}+A2ML\b(?:.*?/end\s{1,999}+A2ML\b|.*+)|/\*(?:.*?\*/|.*+)|//[^\n]*+"""
    r"""|"(?:[^"\\]|\\.|"")*+(?:"|.*+)|/begin|/end|/include|[^\s"]++""",
    re.DOTALL,
)
_STRING = re.compile(r'\A"(?:[^"\\]|\\.|"")*+"', re.DOTALL)
_ESCAPED = re.compile(r"""\\(["'\\])|\"\"""")
_COMMENTS = ("/*", "//")
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
    everything = _TOKEN.findall(text)
    if len(everything) > MOST_TOKENS:
        raise BadInput(f"the description has more than {MOST_TOKENS:,} words", where=name, advice="export less of it")
    if everything:
        _must_end(everything[-1], text, name)
    words = [one for one in everything if not one.startswith(_COMMENTS)]
    if "/include" in words:
        fault, advice = "parts of this description stand in another file (/include)", "put them in, or export it whole"
        raise BadInput(fault, where=f"{name}, line {line_of(text, words.index('/include'))}", advice=advice)
    return words


def _must_end(last: str, text: str, name: str) -> None:
    """Whether the last word has an end; one that has none reaches to the end of the text."""
    if last.startswith("/*"):
        fault = None if last.endswith("*/") and len(last) >= 4 else "a comment does not end"
    elif last.startswith('"'):
        fault = None if _STRING.fullmatch(last) else "a text in quotes does not end"
    else:
        fault = "a part in A2ML does not end" if last.startswith("/begin") and not _ends_a2ml(last) else None
    if fault is not None:
        line = text.count("\n", 0, len(text) - len(last)) + 1
        raise BadInput(fault, where=f"{name}, line {line}", advice=ADVICE)


def _ends_a2ml(word: str) -> bool:
    return word == "/begin" or (word.endswith("A2ML") and "/end" in word[6:])


def line_of(text: str, number: int) -> int:
    """The line on which a word stands, by its number; found by reading again, for it is asked only of faulty files."""
    at = 0
    for match in _TOKEN.finditer(text):
        if match[0].startswith(_COMMENTS):
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
    return _ESCAPED.sub(lambda match: match[1] or '"', inner)
