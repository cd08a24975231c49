"""What is said when somebody else was quicker."""

from __future__ import annotations


class ConflictError(RuntimeError):
    """What a person wants to change is no longer what they saw; nothing was changed.

    Args:
        text: what happened meanwhile and what to do, in whole sentences.
    """


class BeingReadError(ConflictError):
    """A log's samples are gone, for it is being read anew at this moment."""

    def __init__(self) -> None:
        super().__init__("This log is being read anew just now. Look again in a moment.")
