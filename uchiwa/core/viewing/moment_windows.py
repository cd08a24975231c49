"""Short windows of a log, side by side, that show some moments of it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

SHORTEST_S, LONGEST_S = 4.0, 20.0
_BEFORE_AND_AFTER_S = 1.5


@dataclass(frozen=True)
class MomentWindow:
    """A window from `start` to `end`, s, with the parts of it that it is shown for."""

    start: float
    end: float
    spans: tuple[tuple[float, float], ...]


def moment_windows(
    spans: Sequence[tuple[float, float]], start: float, end: float, most: int = 6
) -> tuple[MomentWindow, ...]:
    """Windows of one common length around the longest of some moments, in the order of time.

    The length is that of the longest moment with 1.5 s on either side, between 4 and 20 s, so that slopes compare and
    two seconds are seen as two seconds. Moments that fall into a window already chosen share it.

    Args:
        spans: first and last moment of each, s.
        start, end: of the log, s.
        most: windows, 1 or more.

    Returns:
        None for no spans.
    """
    if not spans or end <= start:
        return ()
    longest = max(last - first for first, last in spans)
    length = min(max(longest + 2 * _BEFORE_AND_AFTER_S, SHORTEST_S), LONGEST_S, end - start)
    chosen: list[tuple[float, float]] = []
    for first, last in sorted(spans, key=lambda span: (span[0] - span[1], span[0])):
        if any(a <= first < b for a, b in chosen):
            continue
        middle = (first + min(last, first + length)) / 2
        begin = min(max(middle - length / 2, start), end - length)
        if all(begin + length <= a or begin >= b for a, b in chosen):
            chosen.append((begin, begin + length))
        if len(chosen) == most:
            break
    return tuple(
        MomentWindow(
            a, b, tuple((max(first, a), min(last, b)) for first, last in sorted(spans) if last >= a and first <= b)
        )
        for a, b in sorted(chosen)
    )
