"""The token of a form in a body that comes in pieces, found in time proportional to the bytes.

The body is searched with `bytearray.find` from where the last search ended, so that no byte is gone over twice for the
number of pieces. Only the first field of that name counts: whoever sends another before it has not sent our form.
"""

from __future__ import annotations

from abc import ABC, abstractmethod

PLACE_BYTES = 16_384
"""A form's token ends before so many bytes of its body."""
LONGEST = 128
"""Characters that a token may have."""
_FIELD = b'name="csrf"\r\n'
_HEADERS_END = b"\r\n\r\n"
_HEADERS_LONGEST = 512


class TokenSearch(ABC):
    """A search that goes on with every piece.

    Attributes:
        token: what was found; empty until then, and if there is none.
        ended: whether it was found, or cannot be found any more.
    """

    def __init__(self) -> None:
        self.token = ""
        self.ended = False

    @abstractmethod
    def look(self, seen: bytearray, *, whole: bool) -> None:
        """Go on, with all that has come so far.

        Args:
            whole: whether the body has ended.
        """

    def _end(self, value: bytes = b"") -> None:
        self.ended = True
        if len(value) <= LONGEST and value.isalnum():
            self.token = value.decode("ascii")


class MultipartSearch(TokenSearch):
    """In `multipart/form-data` (RFC 7578): the field's header, the end of the headers, the end of the value."""

    def __init__(self) -> None:
        super().__init__()
        self._marks = iter((_FIELD, _HEADERS_END, b"\r\n"))
        self._mark = next(self._marks)
        self._from = self._begins = 0

    def look(self, seen: bytearray, *, whole: bool) -> None:
        """Go on, with all that has come so far."""
        while not self.ended:
            place = seen.find(self._mark, self._from, PLACE_BYTES)
            if place < 0:
                length = min(len(seen), PLACE_BYTES)
                self._from = max(self._begins, length - len(self._mark) + 1)
                self.ended = whole or length == PLACE_BYTES or self._too_far(length)
                return
            following = next(self._marks, None)
            if following is None:
                self._end(bytes(seen[self._begins : place]))
                return
            # The line that names the field may be the last of the headers: its own end belongs to theirs.
            self._begins = place + len(self._mark) - (2 if following is _HEADERS_END else 0)
            self._mark, self._from = following, self._begins

    def _too_far(self, length: int) -> bool:
        """Whether the field has begun and does not go on as our forms' do."""
        if self._mark is _FIELD:
            return False
        return length - self._begins > (_HEADERS_LONGEST if self._mark is _HEADERS_END else LONGEST + 2)


class UrlencodedSearch(TokenSearch):
    """In `application/x-www-form-urlencoded`: the field at the beginning or behind an ampersand, to the next one."""

    def __init__(self) -> None:
        super().__init__()
        self._from = 0
        self._begins: int | None = None

    def look(self, seen: bytearray, *, whole: bool) -> None:
        """Go on, with all that has come so far."""
        if self._begins is None:
            self._begins = self._field(seen)
            if self._begins is None:
                self.ended = whole or len(seen) >= PLACE_BYTES
                return
            self._from = self._begins
        end = seen.find(b"&", self._from, PLACE_BYTES)
        if end >= 0 or whole:
            self._end(bytes(seen[self._begins : end if end >= 0 else len(seen)]))
            return
        self._from = min(len(seen), PLACE_BYTES)
        self.ended = self._from - self._begins > LONGEST or self._from == PLACE_BYTES

    def _field(self, seen: bytearray) -> int | None:
        """Where its value begins."""
        if self._from == 0 and seen.startswith(b"csrf="):
            return 5
        place = seen.find(b"&csrf=", self._from, PLACE_BYTES)
        if place >= 0:
            return place + 6
        self._from = max(0, min(len(seen), PLACE_BYTES) - 5)
        return None


def search_for(content_type: str) -> TokenSearch | None:
    """The search in a body of a type; None where forms have no such type."""
    kind = content_type.partition(";")[0].strip().lower()
    if kind == "multipart/form-data":
        return MultipartSearch()
    return UrlencodedSearch() if kind == "application/x-www-form-urlencoded" else None
