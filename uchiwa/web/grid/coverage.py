"""Coverage as a small grid: one square for each wanted cell, fuller the longer it was visited."""

from __future__ import annotations

from dataclasses import dataclass

from uchiwa.core.briefs.coverage import Coverage


@dataclass(frozen=True)
class Square:
    """A square: `level` is 0 unwanted, 1 wanted, 2 begun, 3 covered."""

    level: int
    title: str


def squares(coverage: Coverage) -> list[list[Square]]:
    """Rows of squares, the highest load first, cut to the columns and rows that hold wanted cells."""
    wanted = set(coverage.wanted)
    if not wanted:
        return []
    table = coverage.table
    columns = range(min(i for i, _ in wanted), max(i for i, _ in wanted) + 1)
    rows = range(max(j for _, j in wanted), min(j for _, j in wanted) - 1, -1)
    result: list[list[Square]] = []
    for j in rows:
        line: list[Square] = []
        for i in columns:
            seconds = float(coverage.seconds[j, i])
            level = 0 if (i, j) not in wanted else 3 if seconds >= coverage.enough else 2 if seconds > 0 else 1
            at = f"{table.x.breakpoints[i]:g} {table.x.unit}"
            if table.y is not None:
                at += f", {table.y.breakpoints[j]:g} {'' if table.y.unit == '1' else table.y.unit}".rstrip()
            line.append(Square(level, f"{at}: {seconds:.0f} s"))
        result.append(line)
    return result
