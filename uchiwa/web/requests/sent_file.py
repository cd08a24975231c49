"""Files that came with a form whose fields are read as they are."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from starlette.datastructures import UploadFile

from uchiwa.core.errors import BadInput


def sent_file(form: Mapping[str, Any], key: str, most: int) -> tuple[bytes, str]:
    """Bytes and name of a file of the form; no bytes if none was chosen.

    Raises:
        BadInput: it is too large.
    """
    file = form.get(key)
    if not isinstance(file, UploadFile):
        return b"", key
    data, name = file.file.read(most + 1), file.filename or key
    if len(data) > most:
        raise BadInput(f"the {key} is larger than {most // 10**6} MB", where=name, advice="choose another file")
    return data, name
