"""`uchiwa serve`: database, worker and web together, and nothing left running afterwards."""

from __future__ import annotations

import logging
import os
import signal
import subprocess
import sys
import threading

import click
import uvicorn

from uchiwa.settings import read_settings
from uchiwa.store import server
from uchiwa.store.database import connect_to
from uchiwa.store.place import port_is_free
from uchiwa.store.schema import migrate

_WAIT_S = 15
_log = logging.getLogger("uchiwa.serve")


def serve(*, with_demo: bool) -> None:
    """Start everything, serve until Ctrl-C or SIGTERM, and stop everything that was started here."""
    from uchiwa.web.app import create_app
    from uchiwa.web.protocol import PunctualProtocol

    settings = read_settings()
    if not port_is_free(settings.port):
        raise OSError(f"port {settings.port} is taken: stop what listens there, or set UCHIWA_PORT")
    # uvicorn raises the signal that stopped it once more when it is done; this makes it end here, not at once.
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    ours = not server.running()
    watch: Watch | None = None
    try:
        place = server.start()
        connect_to(place)
        migrate()
        if with_demo:
            _load_demo()
        worker = _start_worker()
        watch = Watch(worker)
        watch.start()
        click.echo(f"\nUchiwa is at {settings.public_address}/   (Ctrl-C stops it)")
        uvicorn.run(
            create_app(place.secret_key, demo=with_demo, settings=settings),
            host="127.0.0.1",
            port=settings.port,
            http=PunctualProtocol,
            log_level="warning",
            proxy_headers=False,
            timeout_graceful_shutdown=_WAIT_S,
        )
    finally:
        for one in (signal.SIGINT, signal.SIGTERM):
            signal.signal(one, signal.SIG_IGN)
        if watch is not None:
            watch.stop()
            _end(watch.worker)
        if ours:
            server.stop()


def _load_demo() -> None:
    from uchiwa import demo

    if not demo.loaded():
        click.echo("Driving the stand-in cars for the demo data, about a minute …")
        demo.load(click.echo)
    click.echo(f"Sign in with {demo.EMAIL} and the password {demo.PASSWORD}")


def _start_worker() -> subprocess.Popen[bytes]:
    return subprocess.Popen(
        [sys.executable, "-m", "uchiwa", "work", "--parent", str(os.getpid())], start_new_session=True
    )


class Watch(threading.Thread):
    """Starts worker and database again when the process of one of them has died; a busy one is left alone."""

    def __init__(self, worker: subprocess.Popen[bytes]) -> None:
        super().__init__(daemon=True)
        self.worker = worker
        self._over = threading.Event()

    def run(self) -> None:
        """Look once a second until told to stop."""
        while not self._over.wait(1.0):
            try:
                if server.process_id() is None:
                    server.start()
            except Exception as error:  # it is tried again in a second, and the health page says what is wrong
                _log.warning("the database does not start: %s", error)
            if self.worker.poll() is not None and not self._over.is_set():
                self.worker = _start_worker()

    def stop(self) -> None:
        """Look no more."""
        self._over.set()
        self.join(20)


def _end(process: subprocess.Popen[bytes]) -> None:
    process.terminate()
    try:
        process.wait(_WAIT_S)
    except subprocess.TimeoutExpired:
        process.kill()
        process.wait()
