"""The one error that bad input leads to."""

from __future__ import annotations


class BadInput(ValueError):
    """Input that cannot be used, said in one line: what is wrong, where, and what to do.

    Args:
        what: what is wrong, as a clause without a full stop.
        where: the place (a line, a channel, a path in a file), if there is one.
        advice: what the person can do about it, as a clause without a full stop.
    """

    def __init__(self, what: str, *, where: str | None = None, advice: str | None = None) -> None:
        self.what = what
        self.where = where
        self.advice = advice
        super().__init__(str(self))

    def __str__(self) -> str:
        said = f"{self.where}: {self.what}" if self.where else self.what
        if self.advice:
            said = f"{said}; {self.advice}"
        said = " ".join(said.split())
        return said if said.endswith((".", "?", "!")) else f"{said}."


def in_one_line(error: BaseException) -> str:
    """What an error says, as one line; its kind where it says nothing."""
    return " ".join(str(error).split()) or type(error).__name__
