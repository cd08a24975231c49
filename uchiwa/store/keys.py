"""The installation's secrets: the newest makes everything new, older ones still read what they made."""

from __future__ import annotations

import base64
import hashlib
import hmac

from cryptography.fernet import Fernet, InvalidToken, MultiFernet

_ring: list[str] = []


class NoKeyError(RuntimeError):
    """None of the installation's secrets reads this; it was made with one that has been taken away."""


def use(secret: str, *older: str) -> None:
    """Have this process use these secrets, the newest first."""
    _ring[:] = [secret, *(one for one in older if one)]


def ring() -> tuple[str, ...]:
    """The secrets in use, the newest first.

    Raises:
        NoKeyError: none was given yet.
    """
    if not _ring:
        raise NoKeyError("the installation's secret is not known to this process")
    return tuple(_ring)


def derived(purpose: str, nonce: str, secret: str | None = None) -> str:
    """A token that follows from a secret, by default the newest, and tells nothing of it; 43 characters, 256 bits.

    Args:
        purpose: tokens of different purposes never agree.
        nonce: kept beside what the token opens; worth nothing without the secret.
    """
    key = (secret if secret is not None else ring()[0]).encode()
    digest = hmac.new(key, f"{purpose} {nonce}".encode(), hashlib.sha256).digest()
    return base64.urlsafe_b64encode(digest).rstrip(b"=").decode()


def sealed(text: str) -> str:
    """A text that only this installation can read, as Fernet writes it (AES in CBC mode with an HMAC)."""
    return _box().encrypt(text.encode()).decode()


def opened(box: str) -> str:
    """What was sealed, with the newest secret or an older one.

    Raises:
        NoKeyError: it was sealed with another.
    """
    try:
        return _box().decrypt(box.encode()).decode()
    except InvalidToken:
        raise NoKeyError("this was sealed with a secret that has been taken away") from None


def sealed_anew(box: str) -> str:
    """The same, sealed with the newest secret."""
    return sealed(opened(box))


def _box() -> MultiFernet:
    return MultiFernet([Fernet(base64.urlsafe_b64encode(_key_of(one))) for one in ring()])


def _key_of(secret: str) -> bytes:
    return hashlib.sha256(f"sealed {secret}".encode()).digest()
