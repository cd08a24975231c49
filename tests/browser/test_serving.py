"""Starting and stopping: nothing is left running, and nothing is lost."""

from __future__ import annotations

import json
import os
import signal
import subprocess
import sys
import time
from pathlib import Path

import pytest

from tests.browser.conftest import until
from tests.browser.served_home import WELL, ServedHome

pytestmark = pytest.mark.browser


def test_stopping_leaves_nothing_running_however_it_is_stopped(tmp_path):
    served = ServedHome.of(tmp_path)
    for how in (signal.SIGINT, signal.SIGTERM):
        with served.serving(how):
            running = len(served.running())
        assert running >= 3
        assert served.left() == []
        assert (served.home / "mariadb").is_dir()


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


def test_a_kill_in_the_middle_of_an_import_loses_nothing(tmp_path):
    served = ServedHome.of(tmp_path, safe=True)
    with served.serving():
        log = served.step("import_under_fire", "make")
        for victim in ("database", "worker"):
            percent = int(served.step("import_under_fire", "kill", victim, log))
            assert 30 <= percent < 100
            found = json.loads(served.step("import_under_fire", "wait", log))
            assert found == {"same": True, "rows": 120_000, "raw": True}
            served.wait_for(WELL)
    assert served.left() == []


def test_a_killed_web_process_leaves_an_import_that_the_next_start_finishes(tmp_path):
    served = ServedHome.of(tmp_path, web_processes=2)
    process = served.start()
    try:
        served.wait_for(WELL)
        log = served.step("import_under_fire", "make")
    finally:
        process.kill()
        process.wait(10)
    try:
        with served.serving():
            assert json.loads(served.step("import_under_fire", "wait", log))["same"]
    finally:
        served.stop_database()
    assert served.left() == []


def test_killed_web_processes_are_missed_at_once_and_all_end_with_the_one_that_serves(tmp_path):
    """Also right after they were asked for a sign of life, when the answer would be waited for."""
    served = ServedHome.of(tmp_path, web_processes=2)
    process = served.start()
    try:
        served.wait_for(WELL)
        web = served.those("web")
        assert len(web) == 2
        for pid in web:  # a stopped process is asked and does not answer; then it dies
            os.kill(pid, signal.SIGSTOP)
        time.sleep(1.5)
        for pid in web:
            os.kill(pid, signal.SIGKILL)
        served.wait_for(WELL, 30)  # uvicorn alone would wait 120 s
        before = set(served.those("web") + served.those("worker"))
        (loaded,) = served.those("loaded")
        os.kill(loaded, signal.SIGKILL)  # without it nobody would learn of the others' end: all are begun anew
        until(lambda: before.isdisjoint(served.those("web") + served.those("worker")), 60)
        served.wait_for(WELL, 60)
        process.kill()
        process.wait(10)
        until(lambda: not served.those("worker") and not served.those("web"), 30)
    finally:
        stopped = served.stop_database()
    assert stopped == "The database is stopped.\n"
    assert served.left(40) == []
