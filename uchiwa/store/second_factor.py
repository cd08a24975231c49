"""The second factor: codes of a generator by time (TOTP, RFC 6238), and recovery codes that work once each."""

from __future__ import annotations

import hashlib
import secrets
from datetime import UTC, datetime

import pyotp
from peewee import fn

from uchiwa.store import keys
from uchiwa.store.clock import now
from uchiwa.store.database import unit_of_work
from uchiwa.store.models import RecoveryCode, User

ISSUER = "Uchiwa"
CODES = 10
_EITHER_SIDE = 1
_ALPHABET = "abcdefghjkmnpqrstuvwxyz23456789"
_LONG = 10


def new_secret() -> str:
    """A generator's secret in base 32."""
    return pyotp.random_base32()


def address_of(secret: str, email: str) -> str:
    """The address that generators read as a picture (otpauth, as they all understand it)."""
    return pyotp.TOTP(secret).provisioning_uri(name=email, issuer_name=ISSUER)


def step_of(secret: str, code: str) -> int | None:
    """The interval of 30 s that a code belongs to, if it is one of now or of the intervals either side."""
    digits = "".join(code.split())
    totp = pyotp.TOTP(secret)
    at = int(now().replace(tzinfo=UTC).timestamp()) // totp.interval
    for step in range(at - _EITHER_SIDE, at + _EITHER_SIDE + 1):
        moment = datetime.fromtimestamp(step * totp.interval, UTC)
        if digits.isascii() and digits.isdigit() and secrets.compare_digest(totp.at(moment), digits):
            return step
    return None


def turn_on(user: User, secret: str, step: int) -> list[str]:
    """Ask for codes of this generator from now on; the recovery codes, which are shown once."""
    User.update(second_factor=keys.sealed(secret), second_step=step).where(User.id == user.id).execute()
    return new_recovery_codes(user)


def turn_off(user: User) -> None:
    """Ask for the password only from now on."""
    User.update(second_factor="", second_step=None).where(User.id == user.id).execute()
    RecoveryCode.delete().where(RecoveryCode.user == user).execute()


def new_recovery_codes(user: User) -> list[str]:
    """Recovery codes in place of those from before; only their hashes are kept."""
    RecoveryCode.delete().where(RecoveryCode.user == user).execute()
    codes = ["".join(secrets.choice(_ALPHABET) for _ in range(_LONG)) for _ in range(CODES)]
    for code in codes:
        RecoveryCode.create(user=user, code_hash=_hash(user, code))
    return [f"{code[:5]}-{code[5:]}" for code in codes]


def seal_all_anew() -> None:
    """Have every generator's secret sealed with the installation's newest secret, so that the older ones can go."""
    with unit_of_work():
        for user in User.select().where(User.second_factor != ""):
            try:
                box = keys.sealed_anew(user.second_factor)
            except keys.NoKeyError:
                continue  # its person comes in with a recovery code
            User.update(second_factor=box).where(User.id == user.id, User.second_factor == user.second_factor).execute()


def codes_left(user: User) -> int:
    """How many recovery codes have not been used."""
    return int(
        RecoveryCode.select(fn.COUNT(RecoveryCode.id))
        .where(RecoveryCode.user == user, RecoveryCode.used_at.is_null())
        .scalar()
        or 0
    )


def accept(user: User, code: str) -> bool:
    """Whether a code is the generator's for now; each works once, however many ask at the same moment."""
    step = step_of(keys.opened(user.second_factor), code)
    if step is None:
        return False
    newer = User.second_step.is_null() | (User.second_step < step)
    return bool(User.update(second_step=step).where(User.id == user.id, newer).execute())


def accept_recovery(user: User, code: str) -> bool:
    """Whether it is a recovery code that was not used before; from now on it is."""
    plain = "".join(one for one in code.lower() if one.isalnum())
    mine = (RecoveryCode.user == user) & (RecoveryCode.code_hash == _hash(user, plain)) & RecoveryCode.used_at.is_null()
    return bool(RecoveryCode.update(used_at=now()).where(mine).execute())


def _hash(user: User, code: str) -> str:
    return hashlib.sha256(f"recovery {user.id} {code}".encode()).hexdigest()
