"""When a server that a test has started itself may be spoken to."""

from __future__ import annotations

import socket
import subprocess
import time
from pathlib import Path


def until_listening(path: str | Path, process: subprocess.Popen[bytes], within_s: float = 60.0) -> None:
    """Wait until a process takes connections at its socket: the file of it is there a moment before."""
    deadline = time.monotonic() + within_s
    while True:
        with socket.socket(socket.AF_UNIX) as trying:
            try:
                return trying.connect(str(path))
            except OSError:
                assert process.poll() is None, "the server has ended"
                assert time.monotonic() < deadline, "the server does not listen"
        time.sleep(0.05)
