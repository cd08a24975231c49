"""The blocks of an A2L file: a keyword, the words that follow it, and the blocks within."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, field

from uchiwa.core.errors import BadInput
from uchiwa.core.tables.a2l.tokens import ADVICE, line_of, plain, tokens

_DEEPEST = 40
_BEGIN, _END = "/begin", "/end"
_MARKS = frozenset({_BEGIN, _END})
_SKIPPED = frozenset({"IF_DATA", "A2ML", "ANNOTATION", "VARIANT_CODING", "USER_RIGHTS", "FRAME"})


@dataclass(slots=True)
class Block:
    """One block.

    Attributes:
        keyword: such as `CHARACTERISTIC`.
        at: number of its first word in the file.
        words: that stand in it, but for those of blocks within.
        blocks: within it.
    """

    keyword: str
    at: int
    words: list[str] = field(default_factory=list)
    blocks: list[Block] = field(default_factory=list)

    def of(self, keyword: str) -> Iterator[Block]:
        """The blocks of a keyword within."""
        return (block for block in self.blocks if block.keyword == keyword)

    @property
    def name(self) -> str:
        """Its first word, by which others refer to it; empty if it has none."""
        return plain(self.words[0]) if self.words else ""


def _wrong(stack: list[Block], mark: str, keyword: str) -> str:
    """Why a mark cannot stand where it does; empty if it can."""
    if mark != _END:
        return "" if len(stack) < _DEEPEST else f"blocks lie more than {_DEEPEST} deep in each other"
    if len(stack) == 1:
        return f"/end {keyword} closes no block"
    return "" if keyword == stack[-1].keyword else f"/end {keyword} within {stack[-1].keyword}"


def read_blocks(text: str, name: str) -> Block:
    """All blocks of a file, within one without a keyword.

    Raises:
        BadInput: a block does not end, ends without having begun, or blocks lie too deep in each other; says the line.
    """
    found = tokens(text, name)
    whole = here = Block("", 0)
    stack, skipped, at = [whole], "", 0

    def refuse(said: str, number: int) -> BadInput:
        return BadInput(said, where=f"{name}, line {line_of(text, number)}", advice=ADVICE)

    for mark in [number for number, word in enumerate(found) if word in _MARKS]:
        if not skipped:
            here.words += found[at:mark]
        at = mark + 2
        keyword = found[mark + 1] if mark + 1 < len(found) else ""
        if skipped:
            if found[mark] == _END and keyword == skipped:
                skipped = ""
        elif found[mark] != _END and keyword in _SKIPPED:
            skipped = keyword
        elif said := _wrong(stack, found[mark], keyword):
            raise refuse(said, mark)
        elif found[mark] == _END:
            stack.pop()
            here = stack[-1]
        else:
            here.blocks.append(Block(keyword, mark))
            here = here.blocks[-1]
            stack.append(here)
    if skipped or len(stack) > 1:
        raise refuse(f"the block {skipped or here.keyword} does not end: the file may be cut off", len(found))
    here.words += found[at:]
    return whole
