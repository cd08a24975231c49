"""Starting and stopping: nothing is left running, and nothing is lost."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
import urllib.error
import urllib.request
from pathlib import Path

import pytest

from tests.ports import own
from uchiwa.parent import PARENT
from uchiwa.store.place import free_port

pytestmark = pytest.mark.browser


def health(address: str) -> dict[str, str]:
    """What /healthz says, or nothing."""
    try:
        with urllib.request.urlopen(f"{address}/healthz", timeout=3) as answer:
            return json.load(answer)
    except urllib.error.HTTPError as error:
        return json.load(error)
    except OSError:
        return {}


def wait_for(wanted: dict[str, str], address: str, seconds: float = 60) -> None:
    """Until /healthz says what is wanted."""
    deadline = time.monotonic() + seconds
    while health(address) != wanted:
        assert time.monotonic() < deadline, health(address)
        time.sleep(0.2)


def left(home: Path, seconds: float = 10) -> list[str]:
    """What of a home still runs when there was a moment to end."""
    deadline = time.monotonic() + seconds
    while ours(home) and time.monotonic() < deadline:
        time.sleep(0.1)
    return ours(home)


def ours(home: Path) -> list[str]:
    """Command lines of running processes that belong to a home or to the served application."""
    return [command for _, command in processes_of(home)]


def test_stopping_leaves_nothing_running_however_it_is_stopped(tmp_path):
    home = tmp_path / "home"
    port = free_port(own(8591))
    environment = os.environ | {
        "UCHIWA_HOME": str(home),
        "UCHIWA_PORT": str(port),
        "UCHIWA_WEB_PROCESSES": "1",
        "UCHIWA_DB_PORT": str(free_port(own(8611))),
    }
    for how in (signal.SIGINT, signal.SIGTERM):
        process = subprocess.Popen([sys.executable, "-m", "uchiwa", "serve"], env=environment, cwd=tmp_path)
        try:
            wait_for({"database": "ok", "worker": "ok"}, f"http://127.0.0.1:{port}")
            running = len(ours(home))
        finally:
            process.send_signal(how)
            process.wait(60)
        assert running >= 3
        assert left(home) == []
        assert (home / "mariadb").is_dir()


def test_the_worker_ends_when_its_parent_is_killed(tmp_path):
    home = tmp_path / "home"
    port = free_port(own(8591))
    environment = os.environ | {
        "UCHIWA_HOME": str(home),
        "UCHIWA_PORT": str(port),
        "UCHIWA_WEB_PROCESSES": "1",
        "UCHIWA_DB_PORT": str(free_port(own(8615))),
    }
    process = subprocess.Popen([sys.executable, "-m", "uchiwa", "serve"], env=environment, cwd=tmp_path)
    try:
        wait_for({"database": "ok", "worker": "ok"}, f"http://127.0.0.1:{port}")
        process.kill()
        process.wait(10)
        deadline = time.monotonic() + 30
        while any("uchiwa work" in command for command in ours(home)):
            assert time.monotonic() < deadline
            time.sleep(0.3)
    finally:
        stopped = subprocess.run(
            [sys.executable, "-m", "uchiwa", "db", "stop"], env=environment, capture_output=True, text=True
        )
    assert stopped.stdout == "The database is stopped.\n"
    assert left(home, 40) == []


def test_a_process_that_was_just_starting_ends_with_its_parent(tmp_path):
    """Its parent may be gone before it comes to look for it."""
    script = "import os, time; from uchiwa.parent import end_with_parent; end_with_parent(); time.sleep(30)"
    gone = subprocess.run([sys.executable, "-c", "import os; print(os.getpid())"], capture_output=True, text=True)
    begun = time.monotonic()
    done = subprocess.run([sys.executable, "-c", script], env=os.environ | {PARENT: gone.stdout.strip()}, check=False)
    assert done.returncode == -signal.SIGTERM
    assert time.monotonic() - begun < 20


def test_a_taken_port_is_said(tmp_path, served):
    port = served.rsplit(":", 1)[1]
    done = subprocess.run(
        [sys.executable, "-m", "uchiwa", "serve"],
        env=os.environ | {"UCHIWA_HOME": str(tmp_path / "home"), "UCHIWA_PORT": port},
        capture_output=True,
        text=True,
    )
    assert done.returncode == 1
    assert done.stderr == f"Failed: port {port} is taken: stop what listens there, or set UCHIWA_PORT\n"
    assert not (tmp_path / "home").exists()


def under_fire(environment: dict[str, str], *words: str) -> str:
    """Run a step of `import_under_fire` in the served home."""
    root = Path(__file__).parents[2]
    done = subprocess.run(
        [sys.executable, "-m", "tests.browser.import_under_fire", *words],
        env=environment,
        cwd=root,
        capture_output=True,
        text=True,
    )
    assert done.returncode == 0, done.stderr[-1500:]
    return done.stdout.strip().splitlines()[-1]


@pytest.mark.parametrize("victim", ["worker", "database"])
def test_a_kill_in_the_middle_of_an_import_loses_nothing(tmp_path, victim):
    home = tmp_path / "home"
    port = free_port(own(8591))
    environment = os.environ | {
        "UCHIWA_HOME": str(home),
        "UCHIWA_PORT": str(port),
        "UCHIWA_WEB_PROCESSES": "1",
        "UCHIWA_DB_PORT": str(free_port(own(8617))),
    }
    environment.pop("UCHIWA_DB_FAST", None)
    process = subprocess.Popen([sys.executable, "-m", "uchiwa", "serve"], env=environment, cwd=tmp_path)
    try:
        wait_for({"database": "ok", "worker": "ok"}, f"http://127.0.0.1:{port}")
        log = under_fire(environment, "make")
        percent = int(under_fire(environment, "kill", victim, log))
        assert 40 <= percent < 100
        assert json.loads(under_fire(environment, "wait", log)) == {"same": True, "rows": 120_000, "raw": True}
        wait_for({"database": "ok", "worker": "ok"}, f"http://127.0.0.1:{port}")
    finally:
        process.send_signal(signal.SIGINT)
        process.wait(60)
    assert left(home) == []


def test_a_killed_web_process_leaves_an_import_that_the_next_start_finishes(tmp_path):
    home = tmp_path / "home"
    port = free_port(own(8591))
    environment = os.environ | {
        "UCHIWA_HOME": str(home),
        "UCHIWA_PORT": str(port),
        "UCHIWA_DB_PORT": str(free_port(own(8619))),
    }
    for number in range(2):
        process = subprocess.Popen([sys.executable, "-m", "uchiwa", "serve"], env=environment, cwd=tmp_path)
        try:
            wait_for({"database": "ok", "worker": "ok"}, f"http://127.0.0.1:{port}")
            if number == 0:
                log = under_fire(environment, "make")
                process.kill()
                process.wait(10)
            else:
                assert json.loads(under_fire(environment, "wait", log))["same"]
        finally:
            if number == 1:
                process.send_signal(signal.SIGINT)
                process.wait(60)
                subprocess.run([sys.executable, "-m", "uchiwa", "db", "stop"], env=environment, check=True)
    assert left(home) == []


def test_web_processes_killed_at_any_moment_are_missed_at_once(tmp_path):
    """Also right after they were asked for a sign of life, when the answer would be waited for."""
    home = tmp_path / "home"
    port = free_port(own(8591))
    environment = os.environ | {
        "UCHIWA_HOME": str(home),
        "UCHIWA_PORT": str(port),
        "UCHIWA_WEB_PROCESSES": "2",
        "UCHIWA_DB_PORT": str(free_port(own(8621))),
    }
    process = subprocess.Popen([sys.executable, "-m", "uchiwa", "serve"], env=environment, cwd=tmp_path)
    try:
        wait_for({"database": "ok", "worker": "ok"}, f"http://127.0.0.1:{port}")
        web = [pid for pid, command in processes_of(home) if "spawn_main" in command]
        assert len(web) == 2
        for pid in web:  # a stopped process is asked and does not answer; then it dies
            os.kill(pid, signal.SIGSTOP)
        time.sleep(1.5)
        for pid in web:
            os.kill(pid, signal.SIGKILL)
        wait_for({"database": "ok", "worker": "ok"}, f"http://127.0.0.1:{port}", 40)
    finally:
        process.send_signal(signal.SIGINT)
        process.wait(60)


def processes_of(home: Path) -> list[tuple[int, str]]:
    """The running processes of a home: ids and command lines."""
    found = []
    for process in Path("/proc").glob("[0-9]*"):
        try:
            command = (process / "cmdline").read_bytes().replace(b"\0", b" ").decode()
            environment = (process / "environ").read_bytes().decode(errors="replace")
        except OSError:
            continue
        if command and f"UCHIWA_HOME={home}" in environment.split("\0"):
            found.append((int(process.name), command))
    return found
