"""Zip archives of a few files."""

from __future__ import annotations

import io
import zipfile


def zipped(members: dict[str, bytes]) -> bytes:
    """A zip archive."""
    stream = io.BytesIO()
    with zipfile.ZipFile(stream, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in members.items():
            archive.writestr(name, data)
    return stream.getvalue()
