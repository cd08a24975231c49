"""`python -m bench.strangers`: what strangers who send bodies in small pieces cost those who wait for a page.

Starts an installation of its own, then prints how long `/readyz` takes at rest, with eight and with thirty strangers who each
send 65 kB to the sign-in form in pieces of 2 kB, and what a thousand such bodies in a row cost the web processes.
"""

from __future__ import annotations

import os
import re
import socket
import statistics
import subprocess
import sys
import tempfile
import threading
import time
from pathlib import Path

import httpx2 as httpx

from bench.processes import by_kind
from uchiwa.store.place import free_port

SIZE, PIECE = 65_536, 2_048
BODIES = 1_000
_LOOKS = 40


def stranger(port: int, cookie: str, kind: str, over: threading.Event | None = None) -> None:
    """Send a body whose length is not told, piece by piece, until it is refused or has ended; again until told to stop."""
    unit = b'name="csrf"\r\n' if kind.startswith("multipart") else b"csrf&"
    body = (unit * (SIZE // len(unit) + 1))[:SIZE]
    head = f"POST /sign-in HTTP/1.1\r\nHost: x\r\nCookie: {cookie}\r\nContent-Type: {kind}\r\nTransfer-Encoding: chunked\r\n\r\n"
    while over is None or not over.is_set():
        with socket.create_connection(("127.0.0.1", port), 30) as line:
            line.settimeout(30)
            try:
                line.sendall(head.encode())
                for at in range(0, SIZE, PIECE):
                    line.sendall(b"%x\r\n%b\r\n" % (PIECE, body[at : at + PIECE]))
                line.sendall(b"0\r\n\r\n")
                line.recv(4096)
            except OSError:
                pass  # refused while it was sending
        if over is None:
            return


def looks(client: httpx.Client) -> list[float]:
    """Seconds of asking for `/readyz`, several times."""
    taken = []
    for _ in range(_LOOKS):
        began = time.perf_counter()
        assert client.get("/readyz").status_code == 200
        taken.append(time.perf_counter() - began)
        time.sleep(0.02)
    return taken


def told(what: str, taken: list[float]) -> None:
    """Print a line."""
    print(f"{what}: median {1e3 * statistics.median(taken):.1f} ms, longest {1e3 * max(taken):.1f} ms")


def spent(home: str) -> tuple[float, float]:
    """Processor seconds and megabytes of the web processes."""
    those = by_kind(home)["web"]
    ticks = os.sysconf("SC_CLK_TCK")
    seconds = sum(
        sum(map(int, Path(f"/proc/{one.id}/stat").read_text().rpartition(")")[2].split()[11:13])) for one in those
    )
    return seconds / ticks, sum(one.megabytes for one in those)


def main() -> None:
    """Measure."""
    with tempfile.TemporaryDirectory(prefix="uchiwa-strangers-") as home:
        port = free_port(8560)
        environment = os.environ | {"UCHIWA_HOME": home, "UCHIWA_PORT": str(port), "UCHIWA_DB_FAST": "yes"}
        server = subprocess.Popen([sys.executable, "-m", "uchiwa", "serve"], env=environment, stdout=subprocess.DEVNULL)
        client = httpx.Client(base_url=f"http://127.0.0.1:{port}", timeout=60, trust_env=False)
        try:
            deadline = time.monotonic() + 120
            while True:
                try:
                    if client.get("/readyz").status_code == 200:
                        break
                except httpx.TransportError:
                    pass
                assert time.monotonic() < deadline
                time.sleep(0.3)
            page = client.get("/sign-in")
            assert re.search(r'name="csrf" content="([^"]+)"', page.text)
            cookie = page.headers["set-cookie"].partition(";")[0]
            told("at rest", looks(client))
            for number in (8, 30):
                for kind in ("multipart/form-data; boundary=x", "application/x-www-form-urlencoded"):
                    over = threading.Event()
                    crowd = [threading.Thread(target=stranger, args=(port, cookie, kind, over)) for _ in range(number)]
                    for one in crowd:
                        one.start()
                    time.sleep(0.5)
                    told(f"{number} strangers, {kind.partition(';')[0]}", looks(client))
                    over.set()
                    for one in crowd:
                        one.join()
            before = spent(home)
            for _ in range(BODIES):
                stranger(port, cookie, "multipart/form-data; boundary=x")
            after = spent(home)
            print(
                f"{BODIES} bodies in a row: {1e3 * (after[0] - before[0]) / BODIES:.2f} ms of processor time each, "
                f"{after[1] - before[1]:+.1f} MB in all"
            )
        finally:
            server.terminate()
            server.wait(60)


if __name__ == "__main__":
    main()
