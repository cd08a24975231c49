"""What a person sets from outside, by environment variables; docs/architecture.md lists them."""

from __future__ import annotations

import ipaddress
import os
from collections.abc import Mapping
from dataclasses import dataclass
from urllib.parse import urlsplit

from uchiwa.core.errors import BadInput

FIRST_PORT = 8460
DEMO = "UCHIWA_DEMO"
"""Set to “yes” by `uchiwa serve --demo` for the processes it starts."""
_MOST_BY_ITSELF, _MOST_PROCESSES = 4, 32


@dataclass(frozen=True)
class Settings:
    """The settings of the web application.

    Attributes:
        port: of the application, on loopback.
        public_address: scheme and host under which people reach it; all links that leave it begin with this.
        trusted_proxies: addresses or networks whose `X-Forwarded-For` is believed, separated by commas.
        web_processes: that answer requests side by side.
    """

    port: int = FIRST_PORT
    public_address: str = f"http://127.0.0.1:{FIRST_PORT}"
    trusted_proxies: str = ""
    web_processes: int = 1

    @property
    def https(self) -> bool:
        """Whether people reach it over TLS, so that cookies are never to go without."""
        return self.public_address.startswith("https://")


def read_settings(environment: Mapping[str, str] | None = None) -> Settings:
    """The settings of an environment, by default this process' own.

    Raises:
        BadInput: one of them cannot be used.
    """
    given = os.environ if environment is None else environment
    port = given.get("UCHIWA_PORT", str(FIRST_PORT))
    if not port.isdecimal() or not 0 < int(port) < 65536:
        raise BadInput(f"“{port}” is not a port", where="UCHIWA_PORT", advice="set a number from 1 to 65535")
    address = given.get("UCHIWA_PUBLIC_ADDRESS", f"http://127.0.0.1:{int(port)}").rstrip("/")
    parts = urlsplit(address)
    if parts.scheme not in ("http", "https") or not parts.netloc or parts.path or parts.query or parts.fragment:
        raise BadInput(
            f"“{address}” is not an address",
            where="UCHIWA_PUBLIC_ADDRESS",
            advice="set for example https://tune.example",
        )
    proxies = given.get("UCHIWA_TRUSTED_PROXIES", "").strip()
    for one in filter(None, (word.strip() for word in proxies.split(","))):
        try:
            ipaddress.ip_network(one)
        except ValueError:
            raise BadInput(
                f"“{one}” is neither an address nor a network",
                where="UCHIWA_TRUSTED_PROXIES",
                advice="set for example 10.0.0.5, 192.168.3.0/24",
            ) from None
    processes = given.get("UCHIWA_WEB_PROCESSES", str(max(1, min(_MOST_BY_ITSELF, os.cpu_count() or 1))))
    if not processes.isdecimal() or not 0 < int(processes) <= _MOST_PROCESSES:
        raise BadInput(
            f"“{processes}” is not a number of processes",
            where="UCHIWA_WEB_PROCESSES",
            advice=f"set a number from 1 to {_MOST_PROCESSES}",
        )
    return Settings(int(port), address, proxies, int(processes))
