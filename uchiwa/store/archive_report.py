"""A report that came with an archive, with nothing in it but what our own reports are made of."""

from __future__ import annotations

import re

import nh3

from uchiwa.core.errors import BadInput

LONGEST = 1_000_000
DEEPEST = 40
_TAG = re.compile(r"<(/?)([A-Za-z][A-Za-z0-9]{0,15})\b([^<>]{0,20000})>")
_WITHOUT_END = frozenset({"br", "hr"})
_TAGS = {
    "article",
    "h1",
    "h2",
    "h3",
    "p",
    "dl",
    "dt",
    "dd",
    "div",
    "ul",
    "ol",
    "li",
    "table",
    "thead",
    "tbody",
    "tr",
    "th",
    "td",
    "figure",
    "figcaption",
    "span",
    "b",
    "strong",
    "em",
    "code",
    "pre",
    "blockquote",
    "hr",
    "br",
    "a",
    "svg",
    "line",
    "text",
    "polyline",
    "circle",
}
_ATTRIBUTES = {
    "*": {"class"},
    "a": {"href"},
    "svg": {"viewBox", "role", "aria-label", "font-family", "font-size", "fill"},
    "line": {"x1", "x2", "y1", "y2", "stroke", "stroke-width"},
    "text": {"x", "y", "text-anchor"},
    "polyline": {"points", "fill", "stroke", "stroke-width", "stroke-dasharray"},
    "circle": {"cx", "cy", "r", "fill"},
}


def clean_report(report: str) -> str:
    """A report from elsewhere, cleaned.

    Raises:
        BadInput: it is larger or nested deeper than any report of ours; cleaning it could take for ever.
    """
    if len(report) > LONGEST:
        raise BadInput(f"a report is longer than {LONGEST / 1e6:.0f} MB")
    open_tags: list[str] = []
    for closing, name, rest in _TAG.findall(report):
        tag = name.lower()
        if tag in _WITHOUT_END or rest.endswith("/"):
            continue
        if not closing:
            open_tags.append(tag)
        elif open_tags and open_tags[-1] == tag:
            open_tags.pop()
        else:
            raise BadInput(f"a report closes <{tag}> where it is not open")
        if len(open_tags) > DEEPEST:
            raise BadInput("a report is nested too deeply")
    return nh3.clean(report, tags=_TAGS, attributes=_ATTRIBUTES, url_schemes={"http", "https", "mailto"})
