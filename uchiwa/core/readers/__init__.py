"""From a file's bytes to a Log. `read_log` finds out what kind of file it is."""

from __future__ import annotations

from uchiwa.core.errors import BadInput
from uchiwa.core.log import Log
from uchiwa.core.readers.delimited import read_delimited
from uchiwa.core.readers.sniff import looks_binary
from uchiwa.core.recognise import recognise

READ_LIMIT_BYTES = 160_000_000


def check_size(size: int, name: str) -> None:
    """Raises BadInput if a file of `size` bytes is larger than logs may be."""
    if size > READ_LIMIT_BYTES:
        raise BadInput(
            f"the file has {size / 1e6:.0f} MB, and logs are read up to {READ_LIMIT_BYTES / 1e6:.0f} MB",
            where=name,
            advice="record one drive to a file, or export fewer channels or a lower rate",
        )


def read_log(data: bytes, name: str) -> Log:
    """Read and recognise a log.

    Args:
        data: the whole file.
        name: what the file is called, for messages.

    Raises:
        BadInput: the file is empty, too large, not text, or holds no usable recording.
    """
    check_size(len(data), name)
    if not data.strip():
        raise BadInput("the file is empty", where=name, advice="export the log again and send that file")
    if looks_binary(data):
        raise BadInput(
            "this is not a text file, whatever it is called",
            where=name,
            advice="export the log as delimited text (CSV) from the logger's own program",
        )
    return recognise(read_delimited(data, name))
