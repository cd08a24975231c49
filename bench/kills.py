"""`python -m bench.kills [COUNT [SEED]]`: kill -9 of web, worker or database, or a full disk, while somebody works.

Each time one act is sent (upload, import, edit, take, freeze, return, mail) and a victim is killed at a random moment of it.
The one who works sends the same again, as a person would, until it is answered. Then everything is compared with what must be
there: nothing that was answered may be lost, nothing be there twice, nothing be stuck for longer than a lease. Prints a table.
"""

from __future__ import annotations

import os
import random
import shutil
import signal
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

from bench.fire import EMAIL, Fire, patient, until
from bench.fuzzer import PASSWORD
from bench.processes import by_kind
from bench.screenshots import wait_until_well
from uchiwa.standin.mailbox import open_mailbox
from uchiwa.store import accounts, server
from uchiwa.store.database import connect_to, database, unit_of_work
from uchiwa.store.models import LogFile
from uchiwa.store.place import Place, free_port

COUNT = 100
VICTIMS = ("web", "worker", "database")
FULL = "full disk"


@dataclass
class Outcome:
    """What became of one act."""

    act: str
    victim: str
    seconds: float
    during: bool
    wrong: list[str] = field(default_factory=list)


ACTS = ("upload", "import", "edit", "take", "freeze", "return", "mail")
_FULL_S, _FREE_BYTES = 2.0, 60_000_000
_running: list[threading.Thread] = []
_LONGEST_S = {"upload": 0.8, "import": 0.7, "edit": 0.05, "take": 0.25, "freeze": 0.2, "return": 0.2, "mail": 0.8}


def killing(what: str, delay: float, home: Path, killed: list[float]) -> Callable[[], None]:
    """What begins when an act begins: after a while the victim dies, or the disk is full for two seconds; notes when."""

    def run() -> None:
        time.sleep(delay)
        killed.append(time.monotonic())
        if what == FULL:
            fill(home / "last", 0)
            time.sleep(_FULL_S)
            (home / "last").unlink()
            return
        for one in by_kind(os.environ["UCHIWA_HOME"])[what]:
            try:
                os.kill(one.id, signal.SIGKILL)
            except ProcessLookupError:
                continue

    def begin() -> None:
        thread = threading.Thread(target=run, daemon=True)
        _running.append(thread)
        thread.start()

    return begin


def fill(path: Path, leave: int) -> None:
    """Take all of a disk but so many bytes."""
    with path.open("wb", buffering=0) as file:
        try:
            while shutil.disk_usage(path.parent).free > leave:
                file.write(b"\0" * min(1 << 20, max(4096, shutil.disk_usage(path.parent).free - leave)))
        except OSError:
            return


def print_table(found: list[Outcome]) -> None:
    """By act and victim: how often, the longest wait, and what went wrong."""
    print(
        f"{'act':8} {'victim':10} {'times':>5} {'before it was answered':>22} {'median s':>9} {'longest s':>10}  wrong"
    )
    for act in ACTS:
        for victim in (*VICTIMS, FULL):
            some = [one for one in found if (one.act, one.victim) == (act, victim)]
            if some:
                seconds = [one.seconds for one in some]
                wrong = "; ".join(text for one in some for text in one.wrong) or "nothing"
                print(
                    f"{act:8} {victim:10} {len(some):5} {sum(one.during for one in some):22} {statistics.median(seconds):9.1f} {max(seconds):10.1f}  {wrong}"
                )
    print(
        f"{len(found)} in all, {sum(one.during for one in found)} before the act was answered, "
        f"{sum(bool(one.wrong) for one in found)} wrong"
    )


def main() -> None:
    """Start everything, do it, and print."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else COUNT
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else random.SystemRandom().randrange(1 << 30)
    full = os.environ.get("UCHIWA_KILLS_FULL") == "yes"
    print(f"seed {seed}, {count} times", flush=True)
    rng = random.Random(seed)
    with tempfile.TemporaryDirectory(prefix="uchiwa-kills-") as folder:
        if full:
            subprocess.run(["mount", "-t", "tmpfs", "-o", "size=2g", "tmpfs", folder], check=True)
        try:
            found = _run(Path(folder), rng, count, full=full)
        finally:
            if full:
                subprocess.run(["umount", "-l", folder], check=False)
    print_table(found)
    sys.exit(any(one.wrong for one in found))


def _tell_why(folder: Path) -> None:
    """What the logs say, for whoever has to find out."""
    rows = patient(
        lambda: [(log.id, log.state, log.attempts, log.message, log.lease_until) for log in LogFile.select()][-3:]
    )
    print("logs", rows, shutil.disk_usage(folder), flush=True)
    for path in (folder / "serve.log", folder / "home" / "mariadb.log"):
        print(path.name, *path.read_text(errors="replace").splitlines()[-12:], sep="\n    ", flush=True)


def _run(folder: Path, rng: random.Random, count: int, *, full: bool) -> list[Outcome]:
    port, mail_port = free_port(8940), free_port(8960)
    os.environ |= {"UCHIWA_HOME": str(folder / "home"), "UCHIWA_PORT": str(port), "UCHIWA_DB_PORT": str(free_port(8950)),
                   "UCHIWA_WEB_PROCESSES": "2", "UCHIWA_MAIL_HOST": "127.0.0.1", "UCHIWA_MAIL_PORT": str(mail_port),
                   "UCHIWA_MAIL_SECURITY": "none"}  # fmt: skip
    os.environ.pop("UCHIWA_DB_FAST", None)
    address = f"http://127.0.0.1:{port}"
    mailbox = Path(tempfile.mkdtemp(prefix="uchiwa-mailbox-"))
    with (folder / "serve.log").open("wb") as log, open_mailbox(mailbox, mail_port):
        process = subprocess.Popen([sys.executable, "-m", "uchiwa", "serve"], stdout=log, stderr=log)
        try:
            wait_until_well(address)
            place = Place.load()
            assert place is not None
            connect_to(place)
            with unit_of_work():
                accounts.create_user(accounts.create_shop("Fire"), EMAIL, "Tuner", PASSWORD)
            fire = Fire(address, mailbox, rng)
            if full:
                fill(folder / "most", _FREE_BYTES)
            found: list[Outcome] = []
            for number in range(count):
                act = ACTS[number % len(ACTS)]
                victim = FULL if full else rng.choice(VICTIMS)
                begun, killed = time.monotonic(), list[float]()
                victim_dies = killing(victim, rng.uniform(0, _LONGEST_S[act]), folder, killed)
                try:
                    wrong = fire.act(act, victim_dies)
                except TimeoutError as error:
                    wrong = [str(error)]
                    _tell_why(folder)
                for thread in _running:
                    thread.join()
                during = bool(killed) and killed[0] < fire.answered
                found.append(Outcome(act, victim, time.monotonic() - begun, during, wrong))
                print(
                    f"{number + 1:4} {act:8} {victim:10} {found[-1].seconds:6.1f} s  {'; '.join(wrong) or 'well'}",
                    flush=True,
                )
                until(lambda: server.running() and bool(by_kind(os.environ["UCHIWA_HOME"])["web"]), "starting again")
            return found
        finally:
            process.send_signal(signal.SIGINT)
            try:
                process.wait(60)
            except subprocess.TimeoutExpired:
                process.kill()
            database.close_all()


if __name__ == "__main__":
    main()
