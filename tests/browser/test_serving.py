"""Starting and stopping: nothing is left running, and nothing is lost."""

from __future__ import annotations

import os
import signal
import socket
import subprocess
import sys
import time
from pathlib import Path

import pytest

from tests.browser.conftest import until
from tests.browser.served_home import WELL

pytestmark = pytest.mark.browser


def test_a_process_that_was_just_starting_ends_with_its_parent(tmp_path):
    """Its parent may be gone before it comes to look for it."""
    script = (
        "import multiprocessing as m, os, sys, time; from uchiwa.parent import end_with_parent\n"
        "def child():\n time.sleep(1); end_with_parent(); time.sleep(60)\n"
        "if __name__ == '__main__':\n"
        " one = m.get_context('fork').Process(target=child); one.start(); print(one.pid, flush=True); os._exit(0)"
    )
    gone = subprocess.run([sys.executable, "-c", script], stdout=subprocess.PIPE, text=True, check=True)
    until(lambda: not Path(f"/proc/{gone.stdout.strip()}").exists(), 20)


def test_a_taken_port_is_said(tmp_path):
    with socket.create_server(("127.0.0.1", 0)) as listener:
        port = listener.getsockname()[1]
        done = subprocess.run(
            [sys.executable, "-m", "uchiwa", "serve"],
            env=os.environ | {"UCHIWA_HOME": str(tmp_path / "home"), "UCHIWA_PORT": str(port)},
            capture_output=True,
            text=True,
        )
    assert done.returncode == 1
    assert done.stderr == f"Failed: port {port} is taken: stop what listens there, or set UCHIWA_PORT\n"
    assert not (tmp_path / "home").exists()


def test_a_kill_in_the_middle_of_an_import_loses_nothing(home):
    log = home.step("import_under_fire", "make", "first")
    for victim in ("database", "worker"):
        percent = home.step("import_under_fire", "kill", victim, log)
        assert 30 <= percent < 100
        assert home.step("import_under_fire", "wait", log) == {"same": True, "rows": 120_000, "raw": True}
        home.wait_for(WELL)


def test_killed_web_processes_are_missed_at_once_and_so_is_the_one_they_come_from(home):
    """Also right after they were asked for a sign of life, when the answer would be waited for."""
    web = home.those("web")
    assert len(web) == 2
    for pid in web:  # a stopped process is asked and does not answer; then it dies
        os.kill(pid, signal.SIGSTOP)
    time.sleep(1.5)
    for pid in web:
        os.kill(pid, signal.SIGKILL)
    home.wait_for(WELL, 30)  # uvicorn alone would wait 120 s
    before = set(home.those("web") + home.those("worker"))
    (loaded,) = home.those("loaded")
    os.kill(loaded, signal.SIGKILL)  # without it nobody would learn of the others' end: all are begun anew
    until(lambda: before.isdisjoint(home.those("web") + home.those("worker")), 60)
    home.wait_for(WELL, 60)


def test_an_import_goes_on_after_all_was_killed_and_stopping_leaves_nothing_running(home):
    """The stop is asked for as systemd does; the other tests of served homes stop theirs as Ctrl-C does."""
    log = home.step("import_under_fire", "make", "second")
    home.end(signal.SIGKILL)
    until(lambda: not home.those("worker") and not home.those("web"), 30)
    assert home.stop_database() == "The database is stopped.\n"
    assert home.left(40) == []
    home.begun()
    assert home.step("import_under_fire", "wait", log)["same"]
    assert len(home.running()) >= 5
    home.end(signal.SIGTERM)
    assert home.left() == []
    assert (home.home / "mariadb").is_dir()
