"""How a connection to the database is encrypted: not on this machine; elsewhere always, to a server that proves who it is."""

from __future__ import annotations

import ipaddress
import ssl
from functools import lru_cache
from typing import Any

from uchiwa.settings import read_settings
from uchiwa.store.place import Place


def encryption(place: Place) -> dict[str, Any]:
    """What the driver is told.

    Raises:
        OSError: the file of the settings' authority cannot be read.
    """
    if all(_is_here(host) for host, _ in place.nodes):
        return {"ssl_disabled": True}
    settings = read_settings()
    return {"ssl": _context(str(settings.db_authority or ""), settings.db_verified)}


def _is_here(host: str) -> bool:
    if host == "localhost":
        return True
    try:
        return ipaddress.ip_address(host).is_loopback
    except ValueError:
        return False


@lru_cache(maxsize=4)
def _context(authority: str, verified: bool) -> ssl.SSLContext:
    """One for all connections: to read the authorities' certificates takes 40 ms."""
    made = ssl.create_default_context(cafile=authority or None)
    if not verified:
        made.check_hostname = False
        made.verify_mode = ssl.CERT_NONE
    return made
