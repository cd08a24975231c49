"""A home of its own that `uchiwa serve` runs in, and what of it is running."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
import urllib.error
import urllib.request
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from bench.processes import by_kind
from tests.ports import own
from uchiwa.store.place import free_port

WELL = {"database": "ok", "worker": "ok"}


@dataclass
class ServedHome:
    """A folder, the ports of its server and its database, and the environment that says so."""

    home: Path
    port: int
    environment: dict[str, str] = field(repr=False)
    process: subprocess.Popen[bytes] | None = None
    _steps: subprocess.Popen[str] | None = field(default=None, repr=False)

    @classmethod
    def of(cls, folder: Path, *, web_processes: int = 1, safe: bool = False) -> ServedHome:
        """A home that has not begun.

        Args:
            folder: in which the home is made.
            web_processes: how many answer.
            safe: whether the database writes through to the disk, so that it may be killed.
        """
        port = free_port(own(8591))
        environment = os.environ | {
            "UCHIWA_HOME": str(folder / "home"),
            "UCHIWA_PORT": str(port),
            "UCHIWA_WEB_PROCESSES": str(web_processes),
            "UCHIWA_DB_PORT": str(free_port(own(8611))),
        }
        if safe:
            environment.pop("UCHIWA_DB_FAST", None)
        return cls(folder / "home", port, environment)

    @property
    def address(self) -> str:
        """Where it is served."""
        return f"http://127.0.0.1:{self.port}"

    def start(self) -> subprocess.Popen[bytes]:
        """Serve; does not wait until it answers."""
        return subprocess.Popen([sys.executable, "-m", "uchiwa", "serve"], env=self.environment, cwd=self.home.parent)

    def begun(self) -> ServedHome:
        """Have it served, if it is not; and well."""
        if self.process is None or self.process.poll() is not None:
            self.process = self.start()
        self.wait_for(WELL)
        return self

    def end(self, how: signal.Signals) -> None:
        """Ask it to stop, or kill it, and wait."""
        assert self.process is not None
        self.process.send_signal(how)
        self.process.wait(120)  # a busy machine takes its time

    def wait_for(self, wanted: dict[str, str], seconds: float = 60) -> None:
        """Until /healthz says what is wanted."""
        deadline = time.monotonic() + seconds
        while self.health() != wanted:
            assert time.monotonic() < deadline, self.health()
            time.sleep(0.2)

    def health(self) -> dict[str, str]:
        """What /healthz says, or nothing."""
        try:
            with urllib.request.urlopen(f"{self.address}/healthz", timeout=3) as answer:
                return json.load(answer)
        except urllib.error.HTTPError as error:
            return json.load(error)
        except OSError:
            return {}

    def stop_database(self) -> str:
        """Stop the database alone; what was said."""
        done = subprocess.run(
            [sys.executable, "-m", "uchiwa", "db", "stop"], env=self.environment, capture_output=True, text=True
        )
        assert done.returncode == 0, done.stderr[-1500:]
        return done.stdout

    def step(self, module: str, function: str, *words: object) -> Any:
        """Have a function of a module of these tests called in the served home; what it gives."""
        if self._steps is None:
            self._steps = subprocess.Popen(
                [sys.executable, "-m", "tests.browser.steps"], env=self.environment, cwd=Path(__file__).parents[2], text=True,
                stdin=subprocess.PIPE, stdout=subprocess.PIPE,
            )  # fmt: skip
        self._steps.stdin.write(json.dumps([module, function, *words]) + "\n")
        self._steps.stdin.flush()
        told = json.loads(self._steps.stdout.readline())
        assert "failed" not in told, told["failed"]
        return told["done"]

    def _no_more_steps(self) -> None:
        if self._steps is not None:
            self._steps.stdin.close()
            self._steps.wait(30)
            self._steps.stdout.close()
            self._steps = None

    def processes(self) -> list[tuple[int, str]]:
        """The running processes of the home: ids and command lines."""
        found = []
        for process in Path("/proc").glob("[0-9]*"):
            try:
                command = (process / "cmdline").read_bytes().replace(b"\0", b" ").decode()
                environment = (process / "environ").read_bytes().decode(errors="replace")
            except OSError:
                continue
            if command and f"UCHIWA_HOME={self.home}" in environment.split("\0"):
                found.append((int(process.name), command))
        return found

    def those(self, kind: str) -> list[int]:
        """Ids of the running processes of one kind."""
        return [one.id for one in by_kind(self.home)[kind]]

    def running(self) -> list[str]:
        """Command lines of the running processes."""
        return [command for _, command in self.processes()]

    def left(self, seconds: float = 10) -> list[str]:
        """What still runs when there was a moment to end."""
        self._no_more_steps()
        deadline = time.monotonic() + seconds
        while self.running() and time.monotonic() < deadline:
            time.sleep(0.1)
        return self.running()
