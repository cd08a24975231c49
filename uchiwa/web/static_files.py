"""Style, scripts and fonts at addresses that change with what is in them, so that browsers may keep them for good.

An address without the mark, or with another's, is answered too and asked for anew each time: while several machines are brought
up to date, a page of one may ask another for its files.
"""

from __future__ import annotations

import hashlib
import re
from functools import cache
from pathlib import Path

from fastapi import FastAPI
from fastapi.staticfiles import StaticFiles
from starlette.responses import Response
from starlette.types import Scope

FOLDER = Path(__file__).parent / "static"
PATH = "/static"
_FOR_GOOD = "public, max-age=31536000, immutable"
_ANEW = "no-cache"
_MARK = re.compile(r"^[0-9a-f]{12}/")


class _Kept(StaticFiles):
    """Files that a browser may keep as it is told."""

    def __init__(self, keep: str) -> None:
        super().__init__(directory=FOLDER)
        self._keep = keep

    async def get_response(self, path: str, scope: Scope) -> Response:
        """The file, without the mark of another version before it."""
        answer = await super().get_response(_MARK.sub("", path), scope)
        answer.headers["cache-control"] = self._keep
        return answer


@cache
def address() -> str:
    """Where the files of this version are: modules that import each other by relative paths stay within it."""
    found = hashlib.sha256()
    for path in sorted(one for one in FOLDER.rglob("*") if one.is_file()):
        found.update(path.relative_to(FOLDER).as_posix().encode() + b"\0")
        found.update(hashlib.sha256(path.read_bytes()).digest())
    return f"{PATH}/{found.hexdigest()[:12]}"


def mount_static(app: FastAPI) -> None:
    """Answer for them, at both addresses."""
    app.mount(address(), _Kept(_FOR_GOOD), name="versioned")
    app.mount(PATH, _Kept(_ANEW), name="static")
