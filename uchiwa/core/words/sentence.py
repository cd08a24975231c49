"""A sentence with what it is made of: a text in English with places, and the values that stand in them."""

from __future__ import annotations

import string
from collections.abc import Callable, Sequence
from typing import Any

_NUMBER = "fdegn%"


class Sentence(str):
    """A sentence in English that remembers its template, so that it can be said in another language.

    Attributes:
        template: with places such as `{seconds:.0f}`.
        values: by place: numbers, names, sentences, or lists of sentences.
    """

    __slots__ = ("template", "values")
    template: str
    values: dict[str, Any]

    def __new__(cls, template: str, **values: Any) -> Sentence:
        """The sentence in English."""
        made = super().__new__(cls, _filled(template, values, str, "."))
        made.template, made.values = template, values
        return made

    def __getnewargs_ex__(self) -> tuple[tuple[str], dict[str, Any]]:
        """By which it is made again in another process."""
        return (self.template,), self.values

    def said(self, translate: Callable[[str], str], decimal: str = ".") -> str:
        """The sentence in another language.

        Args:
            translate: the text of a template in that language.
            decimal: what stands between whole numbers and their fractions.
        """
        return _filled(translate(self.template), self.values, translate, decimal)

    @property
    def data(self) -> dict[str, Any]:
        """As plain data; see `sentence_of`."""
        return {"text": self.template, "values": {key: _plain(value) for key, value in self.values.items()}}


def N_(text: str) -> str:  # noqa: N802 - the name by which texts are gathered for translation
    """Mark a text that is shown to a customer elsewhere, so that it is gathered for translation."""
    return text


def joined(parts: Sequence[str]) -> str:
    """Several parts as an enumeration."""
    return ", ".join(parts)


def sentence_of(data: Any) -> str:
    """A sentence from plain data, or a text as it is."""
    if not isinstance(data, dict):
        return str(data)
    values = data.get("values")
    told = values if isinstance(values, dict) else {}
    return Sentence(str(data.get("text", "")), **{str(key): _read(value) for key, value in told.items()})


def plain_data(text: str) -> Any:
    """A sentence, or a text, as plain data."""
    return text.data if isinstance(text, Sentence) else str(text)


def said_in(text: str, translate: Callable[[str], str], decimal: str = ".") -> str:
    """A sentence, or a text, in another language."""
    return text.said(translate, decimal) if isinstance(text, Sentence) else translate(text)


def _plain(value: Any) -> Any:
    if isinstance(value, (list, tuple)):
        return [plain_data(one) for one in value]
    if isinstance(value, (bool, int)):
        return int(value)
    if isinstance(value, Sentence):
        return value.data
    return str(value) if isinstance(value, str) else float(value)


def _read(value: Any) -> Any:
    if isinstance(value, list):
        return [sentence_of(one) for one in value]
    return sentence_of(value) if isinstance(value, dict) else value


def _filled(template: str, values: dict[str, Any], translate: Callable[[str], str], decimal: str) -> str:
    """The template with its values: numbers by their place's format, the rest in the language."""
    parts: list[str] = []
    for text, name, spec, _ in string.Formatter().parse(template):
        parts.append(text)
        if name is None:
            continue
        value = values.get(name, "")
        if isinstance(value, (list, tuple)):
            parts.append(joined([said_in(one, translate, decimal) for one in value]))
        elif isinstance(value, str):
            parts.append(said_in(value, translate, decimal))
        else:
            shown = format(value, spec or "")
            parts.append(shown.replace(".", decimal) if spec and spec[-1] in _NUMBER else shown)
    return "".join(parts)
