"""JSON from outside: what is none says so, wherever JSON is read."""

from __future__ import annotations

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from uchiwa.core.errors import BadInput
from uchiwa.core.json_text import read_json
from uchiwa.core.live.opening import Opening
from uchiwa.core.proposals.fuel.policy import Policy
from uchiwa.core.proposals.policy_file import policy_of
from uchiwa.core.shelf.contents import read_content
from uchiwa.core.tables.a2l import assignment
from uchiwa.core.tables.image import layout_json
from uchiwa.core.tables.interchange import calibration_json
from uchiwa.store.three_way import read_seen
from uchiwa.web.live.sockets import message_of

VALUES = st.recursive(
    st.none() | st.booleans() | st.integers(-(10**15), 10**15) | st.floats(allow_nan=False, allow_infinity=False) | st.text(),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(), inner, max_size=4),
)  # fmt: skip


@given(VALUES)
def test_what_is_json_is_read_as_it_was_written(value):
    for text in (json.dumps(value), json.dumps(value).encode(), b"\xef\xbb\xbf" + json.dumps(value).encode()):
        assert read_json(text, where="x", advice="y") == value


def test_a_fault_is_named_with_its_line():
    with pytest.raises(BadInput, match="the file, line 3: this is not JSON; write some"):
        read_json('{"a": 1,\n\n  no}', where="the file", advice="write some")
    with pytest.raises(BadInput, match="larger than 5 bytes"):
        read_json("[1,2,3]", where="x", advice="y", largest=5)


DEEP = ("[" * 300, "[" * 300 + "]" * 300, '{"a":' * 100_000, '{"format":' * 250 + "1" + "}" * 250, "[" * 1_000_000)


@pytest.mark.parametrize("text", DEEP)
def test_no_depth_of_nesting_breaks_a_reader(text):
    for reader in (
        lambda: read_json(text, where="x", advice="y"),
        lambda: calibration_json.loads(text),
        lambda: layout_json.loads(text),
        lambda: assignment.loads(text),
        lambda: policy_of(Policy, text),
        lambda: Opening.loads(text),
        lambda: read_content(b"  {" + text.encode(), "a.json"),
        lambda: read_seen(text),
        lambda: message_of(text),
    ):
        with pytest.raises(BadInput) as refused:
            reader()
        assert "\n" not in str(refused.value)
