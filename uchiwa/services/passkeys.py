"""Passkeys (W3C Web Authentication, level 2), by the library webauthn: made on a person's own page, used to sign in.

A passkey is something that a person has, and it asks for their finger, face or number before it signs: both factors in one.
"""

from __future__ import annotations

import ipaddress
from dataclasses import dataclass
from typing import Any
from urllib.parse import urlsplit

from uchiwa.core.errors import BadInput
from uchiwa.core.json_text import read_json
from uchiwa.settings import Settings
from uchiwa.store import passkeys
from uchiwa.store.models import Passkey, User

_NAME = "Uchiwa"
_LONGEST = 20_000


def _not_ours() -> BadInput:
    return BadInput("this passkey opens nothing here", advice="use another, or sign in with your password")


@dataclass(frozen=True)
class Site:
    """For what passkeys are made: a host, which must have a name, and the address under which people open it."""

    host: str
    origin: str


def site_of(settings: Settings) -> Site | None:
    """The installation's; None where it is reached by a number, for which browsers make no passkeys."""
    parts = urlsplit(settings.public_address)
    host = parts.hostname or ""
    try:
        number = ipaddress.ip_address(host)
    except ValueError:
        return Site(host, settings.public_address)
    if not number.is_loopback:
        return None
    port = f":{parts.port}" if parts.port else ""
    return Site("localhost", f"{parts.scheme}://localhost{port}")


def begin_making(site: Site, user: User) -> tuple[str, str]:
    """What the browser is asked for a new passkey, as JSON, and the state that it brings back with it."""
    from webauthn import generate_registration_options, options_to_json
    from webauthn.helpers.structs import (
        AuthenticatorSelectionCriteria,
        PublicKeyCredentialDescriptor,
        ResidentKeyRequirement,
        UserVerificationRequirement,
    )

    challenge, state = passkeys.new_challenge(f"making {user.id}")
    options = generate_registration_options(
        rp_id=site.host,
        rp_name=_NAME,
        user_id=passkeys.handle_of(user),
        user_name=user.email,
        user_display_name=user.name,
        challenge=challenge,
        exclude_credentials=[
            PublicKeyCredentialDescriptor(bytes(passkey.credential)) for passkey in passkeys.of_person(user)
        ],
        authenticator_selection=AuthenticatorSelectionCriteria(
            resident_key=ResidentKeyRequirement.REQUIRED, user_verification=UserVerificationRequirement.REQUIRED
        ),
    )
    return options_to_json(options), state


def finish_making(site: Site, user: User, state: str, answer: str, name: str) -> Passkey:
    """Keep the passkey that the browser has made.

    Raises:
        BadInput: the answer does not belong to what was asked, or the passkey cannot be kept.
    """
    from webauthn import verify_registration_response
    from webauthn.helpers.exceptions import WebAuthnException

    challenge = _spent(state, f"making {user.id}")
    try:
        made = verify_registration_response(
            credential=read_answer(answer),
            expected_challenge=challenge,
            expected_rp_id=site.host,
            expected_origin=site.origin,
            require_user_verification=True,
        )
    except (WebAuthnException, ValueError, KeyError, TypeError) as error:
        raise BadInput("the browser's answer is not a passkey for this address", advice="try again") from error
    return passkeys.add(user, made.credential_id, made.credential_public_key, made.sign_count, name)


def begin_signing_in(site: Site) -> tuple[str, str]:
    """What the browser is asked of whoever signs in, as JSON, and the state that it brings back."""
    from webauthn import generate_authentication_options, options_to_json
    from webauthn.helpers.structs import UserVerificationRequirement

    challenge, state = passkeys.new_challenge("signing in")
    options = generate_authentication_options(
        rp_id=site.host, challenge=challenge, user_verification=UserVerificationRequirement.REQUIRED
    )
    return options_to_json(options), state


def finish_signing_in(site: Site, state: str, credential: dict[str, Any]) -> User:
    """The person whose passkey has signed.

    Args:
        credential: the browser's answer, as `read_answer` has read it.

    Raises:
        BadInput: it is nobody's, or the answer does not belong to what was asked.
    """
    from webauthn import base64url_to_bytes, verify_authentication_response
    from webauthn.helpers.exceptions import WebAuthnException

    challenge = _spent(state, "signing in")
    try:
        passkey = passkeys.find(base64url_to_bytes(str(credential["rawId"])))
        if passkey is None:
            raise _not_ours()
        signed = verify_authentication_response(
            credential=credential,
            expected_challenge=challenge,
            expected_rp_id=site.host,
            expected_origin=site.origin,
            credential_public_key=bytes(passkey.public_key),
            credential_current_sign_count=int(passkey.sign_count),
            require_user_verification=True,
        )
    except BadInput:
        raise
    except (WebAuthnException, ValueError, KeyError, TypeError) as error:
        raise _not_ours() from error
    if not passkeys.used(passkey, signed.new_sign_count):
        raise _not_ours()
    return passkey.user


def read_answer(answer: str) -> dict[str, Any]:
    """A browser's answer as plain data.

    Raises:
        BadInput: it is none: no JSON, or too long or too deep.
    """
    credential = read_json(answer, where="the browser's answer", advice="try again", largest=_LONGEST)
    if not isinstance(credential, dict):
        raise BadInput("this is no answer of a browser", advice="try again")
    return credential


def _spent(state: str, purpose: str) -> bytes:
    try:
        return passkeys.spend_challenge(state, purpose)
    except passkeys.StaleChallengeError:
        raise BadInput("this took too long, or was done before", advice="try again") from None
