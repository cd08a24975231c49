"""Sending mails beside the imports, in a thread of the worker's own, so that neither waits for the other."""

from __future__ import annotations

import logging
import threading

import pymysql
from peewee import PeeweeException
from playhouse.pool import MaxConnectionsExceeded

from uchiwa.services.mail.sending import send_next
from uchiwa.settings import Settings, read_settings
from uchiwa.store.database import database

_LOOK_S = 1.0
_log = logging.getLogger("uchiwa.mail")


def begin(over: threading.Event) -> threading.Thread | None:
    """Send what is due until told to stop; nothing without a mail server."""
    settings = read_settings()
    if not settings.mail_host:
        return None
    thread = threading.Thread(target=_send_all, args=(settings, over), name="mail", daemon=True)
    thread.start()
    return thread


def _send_all(settings: Settings, over: threading.Event) -> None:
    while not over.is_set():
        try:
            while not over.is_set() and send_next(settings):
                pass
        except (PeeweeException, pymysql.MySQLError, MaxConnectionsExceeded, OSError) as error:
            _log.warning("mails have to wait, the database does not answer: %s", error)
            database.close()
        except Exception:
            _log.exception("a mail could not be written")
        over.wait(_LOOK_S)
