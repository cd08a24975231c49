"""The `uchiwa` command called in this process, as if it had been one of its own."""

from __future__ import annotations

import subprocess
import sys
from contextlib import chdir
from pathlib import Path
from unittest import mock

from click.testing import CliRunner

from uchiwa.cli import main


def called(*arguments: str, cwd: Path) -> subprocess.CompletedProcess[str]:
    """What `uchiwa` does in a folder: exit code, output and errors."""
    code = 0
    with chdir(cwd), CliRunner().isolation() as streams, mock.patch.object(sys, "argv", ["uchiwa", *arguments]):
        try:
            main()
        except SystemExit as end:
            code = end.code if isinstance(end.code, int) else int(end.code is not None)
        out, err = (streams[at].getvalue().decode() for at in (0, 1))
    return subprocess.CompletedProcess(arguments, code, out, err)
