"""`uchiwa serve`: database, worker and web together, and nothing left running afterwards."""

from __future__ import annotations

import logging
import os
import signal
import sys
import threading
import time
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from multiprocessing.context import ForkServerProcess

import click
import uvicorn

from uchiwa import forking
from uchiwa.core.errors import in_one_line
from uchiwa.figures import gather_in, serve_figures
from uchiwa.log_output import begin_logging
from uchiwa.parent import end_with_parent
from uchiwa.services import joining
from uchiwa.settings import DEMO, Settings, read_settings
from uchiwa.store import one_time_links, second_factor, server
from uchiwa.store.database import connect_to, unit_of_work
from uchiwa.store.place import Place, free_port, port_is_free
from uchiwa.store.schema import migrate
from uchiwa.web_processes import serve_from

_WAIT_S = 15
WS_LIMIT_BYTES = 300_000
"""Of one message over a WebSocket: a batch of a live session, and a little more."""
_BUSY_S = 120
_PORT_WAIT_S = 3.0
_MAILBOX_APART = 40
_log = logging.getLogger("uchiwa.serve")


def serve(*, with_demo: bool) -> None:
    """Start everything, serve until Ctrl-C or SIGTERM, and stop everything that was started here."""
    settings = read_settings()
    begin_logging(settings)
    if not _comes_free(settings.port):
        raise OSError(f"port {settings.port} is taken: stop what listens there, or set UCHIWA_PORT")
    # uvicorn raises the signal that stopped it once more when it is done; this makes it end here, not at once.
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    os.environ[DEMO] = "yes" if with_demo else "no"
    gather_in(settings)
    forking.begin_loading()
    ours = not server.running()
    watch: Watch | None = None
    beside = ExitStack()
    try:
        place = server.start()
        connect_to(place)
        migrate()
        if place.older_secret_keys:
            second_factor.seal_all_anew()
        if with_demo:
            _load_demo()
            beside.enter_context(_mailbox(settings))
        else:
            _offer_the_first_shop(settings)
        worker = _start_worker()
        watch = Watch(worker)
        watch.start()
        click.echo(f"\nUchiwa is at {settings.public_address}/   (Ctrl-C stops it)")
        figures = serve_figures(settings)
        if figures is not None:
            beside.callback(figures.shutdown)
        serve_from(
            uvicorn.Config(
                "uchiwa.web.app:served",
                factory=True,
                workers=settings.web_processes,
                host="127.0.0.1",
                port=settings.port,
                loop="uvloop",
                http="uchiwa.web.requests.protocol:PunctualProtocol",
                log_level="warning",
                proxy_headers=False,
                ws="websockets-sansio",
                ws_max_size=WS_LIMIT_BYTES,
                timeout_graceful_shutdown=_WAIT_S,
                timeout_worker_healthcheck=_BUSY_S,
            )
        )
    finally:
        for one in (signal.SIGINT, signal.SIGTERM):
            signal.signal(one, signal.SIG_IGN)
        if watch is not None:
            watch.stop()
            _end(watch.worker)
        beside.close()
        if ours:
            server.stop()


def _comes_free(port: int) -> bool:
    """Whether a port is free, or comes free in a moment, as when the processes of a killed run are just ending."""
    deadline = time.monotonic() + _PORT_WAIT_S
    while not port_is_free(port):
        if time.monotonic() > deadline:
            return False
        time.sleep(0.2)
    return True


def _load_demo() -> None:
    """Load the demo data where everything is loaded already; who stops this one stops that, while the database is there."""
    loading = forking.context().Process(target=_demo, args=(dict(os.environ),))
    loading.start()
    try:
        loading.join()
    finally:
        if loading.is_alive():
            _end(loading)
            click.echo("Stopped. What is loaded stays; the next start goes on with the rest.")
    if loading.exitcode:
        raise SystemExit(loading.exitcode)


def _demo(environment: dict[str, str]) -> None:
    forking.begin_forked("uchiwa demo", environment)
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # a Ctrl-C is for the one that ends it
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    end_with_parent()
    from uchiwa import demo

    place = Place.load()
    if place is not None:
        connect_to(place)
    if not demo.loaded():
        click.echo("Driving the stand-in cars for the demo data, about a minute …")
        try:
            demo.load(click.echo)
        except Exception as error:
            click.echo(
                f"Failed: the demo data are not all there: {in_one_line(error)}. The next start goes on.", err=True
            )
            sys.exit(1)
    click.echo(f"Sign in with {demo.EMAIL} and the password {demo.PASSWORD}")
    sys.stdout.flush()


@contextmanager
def _mailbox(settings: Settings) -> Iterator[None]:
    """A stand-in for the mail server, unless a real one is set; the processes that are started know of it."""
    if settings.mail_host:
        yield
        return
    from uchiwa.standin.mailbox import HOST, open_mailbox

    port = free_port(settings.port + _MAILBOX_APART)
    with open_mailbox(settings.home.resolve() / "mailbox", port):
        os.environ |= {"UCHIWA_MAIL_HOST": HOST, "UCHIWA_MAIL_PORT": str(port), "UCHIWA_MAIL_SECURITY": "none"}
        yield


def _offer_the_first_shop(settings: Settings) -> None:
    """As long as there is nobody: print the address at which the first shop and its owner are made."""
    with unit_of_work():
        link = joining.first_run()
        if link is None:
            return
        token = one_time_links.token_of(link)
    click.echo(
        f"\nThere is no shop yet. Make it, and your account, at this address; it works once, within a day:\n"
        f"  {settings.public_address}/{link.kind}/{token}"
    )


def _work(environment: dict[str, str]) -> None:
    os.setsid()  # a Ctrl-C is for the one that ends it
    forking.begin_forked("uchiwa worker", environment)
    from uchiwa.worker import worker

    worker.work()


def _start_worker() -> ForkServerProcess:
    process: ForkServerProcess = forking.context().Process(target=_work, args=(dict(os.environ),))
    process.start()
    return process


class Watch(threading.Thread):
    """Starts worker and database again when the process of one of them has died; a busy one is left alone."""

    def __init__(self, worker: ForkServerProcess) -> None:
        super().__init__(daemon=True)
        self.worker = worker
        self._over = threading.Event()

    def run(self) -> None:
        """Look once a second until told to stop."""
        while not self._over.wait(1.0):
            try:
                if server.looked_after_here() and server.process_id() is None:
                    server.start()
            except Exception as error:  # it is tried again in a second, and the health page says what is wrong
                _log.warning("the database does not start: %s", error)
            if not self.worker.is_alive() and not self._over.is_set():
                self.worker = _start_worker()

    def stop(self) -> None:
        """Look no more."""
        self._over.set()
        self.join(20)


def _end(process: ForkServerProcess) -> None:
    process.terminate()
    process.join(_WAIT_S)
    if process.is_alive():
        process.kill()
        process.join()
