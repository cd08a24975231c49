"""Compiled templates, kept beside the compiled modules: compiling one takes ten times as long as rendering it."""

from __future__ import annotations

import os
import sys
from contextlib import suppress
from pathlib import Path

from jinja2 import BytecodeCache, FileSystemBytecodeCache
from jinja2.bccache import Bucket


class _Kept(FileSystemBytecodeCache):
    """Where nothing can be written, as on a full disk, a template is compiled by every process that needs it."""

    def dump_bytecode(self, bucket: Bucket) -> None:
        with suppress(OSError):
            super().dump_bytecode(bucket)


def compiled_beside(folder: Path) -> BytecodeCache | None:
    """Where templates are kept compiled, within a folder's `__pycache__`; None where Python keeps no compiled modules.

    A file is heeded only if it was made from the same text by the same version of Python; whoever may write it may write the
    modules, too.
    """
    if sys.dont_write_bytecode:
        return None
    place = folder / "__pycache__" / "templates"
    with suppress(OSError):
        place.mkdir(parents=True, exist_ok=True)
    return _Kept(str(place)) if os.access(place, os.W_OK) else None
