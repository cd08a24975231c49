"""`python -m bench.fuzz [SEED [COUNT]]`: mutated uploads and requests by HTTP against the whole application.

Prints the seed, every server error, what took longest, and how long another shop's imports took meanwhile.
"""

from __future__ import annotations

import io
import multiprocessing
import os
import queue
import random
import signal
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from collections import Counter
from collections.abc import Callable

from bench.drives import drive
from bench.fuzzer import PASSWORD, Fuzzer, scene_of
from bench.load import wait_for_imports
from bench.processes import by_kind
from bench.screenshots import wait_until_well
from uchiwa.standin.fleet import car_named
from uchiwa.standin.logger import write_delimited
from uchiwa.store import accounts, jobs, leases, server, uploads
from uchiwa.store.database import connect_to, database, unit_of_work
from uchiwa.store.models import Job, LogFile, Round
from uchiwa.store.place import free_port

COUNT = 3000


class Neighbour(multiprocessing.Process):
    """Another shop's tuner, on a machine of his own as it were: a process whose imports are timed."""

    def __init__(self, job_id: int, round_id: int) -> None:
        super().__init__(daemon=True)
        self.ids = job_id, round_id
        self.over = multiprocessing.Event()
        self.times: multiprocessing.Queue[float] = multiprocessing.Queue()

    def run(self) -> None:
        """One after the other until told to stop."""
        connect_to(server.start())
        with unit_of_work():
            job, round_ = Job.get_by_id(self.ids[0]), Round.get_by_id(self.ids[1])
        seed = 10_000
        while not self.over.is_set():
            seed += 1
            data = write_delimited(drive(seed, 6000)).encode()
            start = time.perf_counter()
            log, _ = uploads.receive(job, round_, f"{seed}.csv", io.BytesIO(data))
            while True:
                with unit_of_work():
                    state = LogFile.get_by_id(log.id).state
                if state in ("ready", "refused"):
                    break
                time.sleep(0.02)
            self.times.put(time.perf_counter() - start)
            self.over.wait(0.5)
        database.close_all()

    def told(self, count: int | None = None) -> list[float]:
        """So many times, as they come; or all that are there."""
        found: list[float] = []
        while count is None or len(found) < count:
            try:
                found.append(self.times.get(timeout=60 if count else 0.1))
            except queue.Empty:
                break
        return found


def worker() -> list[int]:
    """The process id of the worker."""
    return [one.id for one in by_kind(os.environ["UCHIWA_HOME"])["worker"]]


def main(seed: int, count: int) -> int:
    """Print what happened; how many server errors."""
    print(f"seed {seed}, {count} uploads and requests")
    with tempfile.TemporaryDirectory(prefix="uchiwa-fuzz-") as home:
        port = free_port(8593)
        os.environ |= {"UCHIWA_HOME": home, "UCHIWA_DB_PORT": str(free_port(8594)), "UCHIWA_PORT": str(port)}
        address = f"http://127.0.0.1:{port}"
        process = subprocess.Popen([sys.executable, "-m", "uchiwa", "serve"], stdout=subprocess.DEVNULL)
        try:
            wait_until_well(address)
            connect_to(server.start())
            with unit_of_work():
                suffering = accounts.create_user(
                    accounts.create_shop("A"), "a@uchiwa.example", "A", PASSWORD, operator=True
                )
                other = accounts.create_user(accounts.create_shop("B"), "b@uchiwa.example", "B", PASSWORD)
                job = jobs.create(other, "Customer", "Pike", "", car_named("corvid-pike").base())
                round_ = jobs.rounds(job)[0]
            scene = scene_of(suffering)
            neighbour = Neighbour(job.id, round_.id)
            database.close_all()
            neighbour.start()
            usual = sorted(neighbour.told(12))[1:-1]
            before = worker()
            # Those who send are on machines of their own: they are not to take the server's time.
            os.nice(15)
            fuzzers = [Fuzzer(address, suffering.email, seed + number, scene) for number in range(2)]
            begun = time.monotonic()

            def work(fuzzer: Fuzzer) -> None:
                for _ in range(count // 2):
                    act: Callable[[], None] = fuzzer.upload if fuzzer.rng.random() < 0.5 else fuzzer.request
                    act()

            threads = [threading.Thread(target=work, args=(one,)) for one in fuzzers]
            for thread in threads:
                thread.start()
            for thread in threads:
                thread.join()
            print(f"sent in {time.monotonic() - begun:.0f} s")
            meanwhile = neighbour.told()
            wait_for_imports()
            # Machines change their speed from minute to minute: what is usual is measured before and after.
            neighbour.told()
            usual = sorted(usual + neighbour.told(12)[2:])
            neighbour.over.set()
            neighbour.join(60)
            with unit_of_work():
                states = Counter(log.state for log in LogFile.select(LogFile.state))
                worn = LogFile.select().where(LogFile.message == leases.WORN_OUT).count()
            same = worker() == before
            database.close_all()
        finally:
            process.send_signal(signal.SIGINT)
            process.wait(60)
    wrong = sum((one.wrong for one in fuzzers), Counter())
    took = sorted((pair for one in fuzzers for pair in one.took), reverse=True)
    print("answers", dict(sorted(sum((one.answers for one in fuzzers), Counter()).items())))
    print(
        f"server errors {sum(wrong.values())}; longest until an answer began {[(round(t, 2), what) for t, what in took[:5]]}"
    )
    print(f"logs {dict(states)}, given up after three tries {worn}; worker {'never died' if same else 'DIED'}")
    print(f"another shop's imports: usually {statistics.median(usual):.2f} s, meanwhile {statistics.median(meanwhile):.2f} s "
          f"(median of {len(meanwhile)}, longest {max(meanwhile):.2f} s)")  # fmt: skip
    for text, times in wrong.most_common(40):
        print(f"  {times} × {text}")
    return sum(wrong.values())


if __name__ == "__main__":
    main(
        int(sys.argv[1]) if len(sys.argv) > 1 else random.SystemRandom().randrange(10**6),
        int(sys.argv[2]) if len(sys.argv) > 2 else COUNT,
    )
