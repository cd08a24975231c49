"""No text can keep a regular expression busy for longer than in proportion to its length."""

from __future__ import annotations

import re
import time
from typing import Any

import pytest

from tests.patterns import compiled, hostile, inline, text_of

SIZES = (4_096, 16_384, 65_536)
AT_ONCE_S = 0.004
"""What takes less at 4 kB does not grow with the square: eight million steps take longer."""
MOST = 8.0
"""Four times the text may cost four times as much; with the square it would be sixteen."""


def cost(pattern: re.Pattern[Any], text: Any) -> float:
    """Processor time of looking for all that a pattern matches, s; the least of three where it is long."""
    least = float("inf")
    for _ in range(3):
        began = time.process_time()
        pattern.search(text)
        pattern.fullmatch(text)
        pattern.sub(text[:0], text)
        least = min(least, time.process_time() - began)
        if least < AT_ONCE_S or least > 1.0:
            break
    return least


def grows_with_the_square(
    pattern: re.Pattern[Any], sizes: tuple[int, ...] = SIZES, at_once_s: float = AT_ONCE_S
) -> tuple[str, str, str] | None:
    """A shape of text for which it does."""
    for shape in sorted(hostile(pattern)):
        before = 0.0
        for size in sizes:
            now = cost(pattern, text_of(pattern, shape, size))
            if now < at_once_s:
                break
            if before and now > MOST * before:
                return shape
            before = now
    return None


def test_every_pattern_is_linear():
    patterns = compiled()
    assert len(patterns) > 60
    wrong = {name: grows_with_the_square(pattern) for name, pattern in patterns.items()}
    assert {name: shape for name, shape in wrong.items() if shape is not None} == {}


def test_every_pattern_is_held_by_a_module_so_that_it_is_found():
    assert inline() == []


@pytest.mark.parametrize(
    "text",
    [
        r"\s*=", r"^\s*(VERSION\s|NS_\s*:)", r"/\*.*?\*/", r"/begin\s+A2ML\b.*?/end\s+A2ML\b",
        r"idle.*air|air.*idle", r'"(?:[^"\\]|\\.)*"',
    ],
)  # fmt: skip
def test_one_that_is_not_is_seen(text):
    pattern = re.compile(text, re.DOTALL | re.MULTILINE)
    assert grows_with_the_square(pattern, (512, 2048), 0.0) is not None
