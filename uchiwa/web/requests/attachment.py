"""Answers that a browser keeps as a file."""

from __future__ import annotations

import re
from urllib.parse import quote

from fastapi.responses import Response

_NO_FILE_NAME = re.compile(r"[^A-Za-z0-9._ ()-]+")


def as_file(data: bytes | str, name: str, kind: str) -> Response:
    """A file to be kept, under a name of any letters (RFC 6266)."""
    plain = _NO_FILE_NAME.sub("_", name) or "file"
    told = f'attachment; filename="{plain}"'
    if plain != name:
        told += f"; filename*=UTF-8''{quote(name, safe='')}"
    return Response(data, media_type=kind, headers={"content-disposition": told})
