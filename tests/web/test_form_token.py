"""The token of a form, found in pieces of any size and in time proportional to the bytes."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from uchiwa.web.requests.form_token import PLACE_BYTES, search_for

MULTIPART, PLAIN = "multipart/form-data; boundary=x", "application/x-www-form-urlencoded"
TOKEN = "0123456789abcdef" * 4


class Counting(bytearray):
    """Bytes that count how far they were searched."""

    searched = 0

    def find(self, mark, start=0, end=None) -> int:
        """As bytes do."""
        place = super().find(mark, start, end if end is not None else len(self))
        Counting.searched += (place if place >= 0 else len(self)) - min(start, len(self))
        return place

    def startswith(self, prefix, *bounds) -> bool:
        """As bytes do."""
        Counting.searched += len(prefix)
        return super().startswith(prefix, *bounds)


def found(kind: str, body: bytes, size: int) -> tuple[str, bool]:
    """What a search finds in a body that comes in pieces of a size, and whether it ended."""
    search, seen = search_for(kind), bytearray()
    assert search is not None
    for at in range(0, max(len(body), 1), size):
        seen += body[at : at + size]
        search.look(seen, whole=at + size >= len(body))
        if search.ended:
            break
    return search.token, search.ended


def part(name: str, value: bytes, more: bytes = b"") -> bytes:
    return (
        b'--x\r\nContent-Disposition: form-data; name="' + name.encode() + b'"\r\n' + more + b"\r\n" + value + b"\r\n"
    )


FIRST = part("csrf", TOKEN.encode()) + part("a", b"z" * 400)
BODIES = [
    (MULTIPART, FIRST, TOKEN),
    (MULTIPART, part("b", b"1") + FIRST, TOKEN),
    (MULTIPART, part("csrf", TOKEN.encode(), b"Content-Type: text/plain\r\nX-More: 1\r\n"), TOKEN),
    (MULTIPART, part("csrf", b""), ""),
    (MULTIPART, part("csrf", b"a" * 200), ""),
    (MULTIPART, part("csrf", b"two words"), ""),
    (MULTIPART, part("other", TOKEN.encode()), ""),
    (MULTIPART, part("csrf", TOKEN.encode())[:-1], ""),
    (PLAIN, f"csrf={TOKEN}&a=1".encode(), TOKEN),
    (PLAIN, f"a=1&csrf={TOKEN}".encode(), TOKEN),
    (PLAIN, f"csrf={TOKEN}".encode(), TOKEN),
    (PLAIN, f"xcsrf={TOKEN}&a=1".encode(), ""),
    (PLAIN, b"csrf=&a=1", ""),
    (PLAIN, b"csrf=" + b"a" * 500, ""),
    (PLAIN, b"", ""),
    (PLAIN, b"a=" + b"z" * PLACE_BYTES + f"&csrf={TOKEN}&b=1".encode(), ""),
    (MULTIPART, part("a", b"z" * PLACE_BYTES) + FIRST, ""),
]


@pytest.mark.parametrize(("kind", "body", "token"), BODIES)
@pytest.mark.parametrize("size", [1, 2, 3, 7, 64, 10_000])
def test_it_is_found_however_the_body_comes(kind, body, token, size):
    assert found(kind, body, size) == (token, True)


@given(st.sampled_from((MULTIPART, PLAIN)), st.lists(st.sampled_from(
    (b'name="csrf"\r\n', b"csrf=", b"&csrf=", b"&", b"\r\n", b"\r\n\r\n", b"ab12", b"\r", b"z" * 50)
), max_size=60), st.integers(1, 40))  # fmt: skip
def test_pieces_change_nothing(kind, parts, size):
    body = b"".join(parts)
    assert found(kind, body, size)[0] == found(kind, body, len(body) + 1)[0]


@pytest.mark.parametrize("kind", [MULTIPART, PLAIN])
@pytest.mark.parametrize(
    "unit", [b'name="csrf"\r\n', b"\r\n", b"csrf", b"&csrf", b"&", b"a", b'name="csrf"\r\nx: y\r\n']
)
def test_no_byte_is_gone_over_for_each_piece(kind, unit):
    body = unit * (PLACE_BYTES // len(unit))
    for size in (1, 16, 2048):
        Counting.searched = 0
        search, seen = search_for(kind), Counting()
        for at in range(0, len(body), size):
            seen += body[at : at + size]
            search.look(seen, whole=False)
            if search.ended:
                break
        # Each look goes back by less than a mark's length.
        assert Counting.searched <= 2 * len(body) + 16 * (len(body) // size + 1), (size, Counting.searched)


def test_other_types_have_no_form():
    assert search_for("application/json") is None
    assert search_for("") is None
    assert search_for("Multipart/Form-Data;boundary=q") is not None
