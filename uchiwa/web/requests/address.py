"""The network address that a request comes from, as attempts are counted by it; and addresses of ours to go on to."""

from __future__ import annotations

import ipaddress

from starlette.types import Scope


def address_of(scope: Scope) -> str:
    """The client's address; of IPv6 the network of 64 bits, for one household has that many."""
    client = scope.get("client")
    host = str(client[0]) if client else "unknown"
    try:
        found = ipaddress.ip_address(host)
    except ValueError:
        return host
    if found.version == 4:
        return str(found)
    mapped = found.ipv4_mapped
    return str(mapped) if mapped is not None else str(ipaddress.ip_network(f"{found}/64", strict=False))


def within(path: str) -> str:
    """A path of ours to go on to; the first page in place of anything that leads elsewhere."""
    return path if path.startswith("/") and not path.startswith(("//", "/\\")) and path.isprintable() else "/"
