"""What is said when somebody else was quicker."""

from __future__ import annotations


class ConflictError(RuntimeError):
    """What a person wants to change is no longer what they saw; nothing was changed.

    Args:
        text: what happened meanwhile and what to do, in whole sentences.
    """
