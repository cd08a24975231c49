"""An authenticator in software, as a browser and its device answer for a site (W3C Web Authentication, level 2)."""

from __future__ import annotations

import hashlib
import json
import secrets
from base64 import urlsafe_b64decode, urlsafe_b64encode
from dataclasses import dataclass, field

import cbor2
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec

_PRESENT, _VERIFIED, _ATTESTED = 0x01, 0x04, 0x40


def text_of(data: bytes) -> str:
    return urlsafe_b64encode(data).rstrip(b"=").decode()


def bytes_of(text: str) -> bytes:
    return urlsafe_b64decode(text + "=" * (-len(text) % 4))


@dataclass
class Authenticator:
    """A device with one passkey; what it must not do can be had from it, too."""

    origin: str
    credential: bytes = field(default_factory=lambda: secrets.token_bytes(32))
    key: ec.EllipticCurvePrivateKey = field(default_factory=lambda: ec.generate_private_key(ec.SECP256R1()))
    signed: int = 0
    verifies: bool = True

    def make(self, asked: str) -> str:
        """Its answer to being asked for a new passkey."""
        options = json.loads(asked)
        numbers = self.key.public_key().public_numbers()
        public = cbor2.dumps({1: 2, 3: -7, -1: 1, -2: numbers.x.to_bytes(32, "big"), -3: numbers.y.to_bytes(32, "big")})
        held = bytes(16) + len(self.credential).to_bytes(2, "big") + self.credential + public
        data = self._data(options["rp"]["id"], _ATTESTED) + held
        response = {
            "clientDataJSON": text_of(self._client("webauthn.create", options["challenge"])),
            "attestationObject": text_of(cbor2.dumps({"fmt": "none", "attStmt": {}, "authData": data})),
        }
        return self._answer(response)

    def sign(self, asked: str) -> str:
        """Its answer to whoever wants to sign in."""
        options = json.loads(asked)
        self.signed += 1
        data, client = self._data(options["rpId"]), self._client("webauthn.get", options["challenge"])
        signature = self.key.sign(data + hashlib.sha256(client).digest(), ec.ECDSA(hashes.SHA256()))
        return self._answer(
            {"clientDataJSON": text_of(client), "authenticatorData": text_of(data), "signature": text_of(signature)}
        )

    def _data(self, site: str, more: int = 0) -> bytes:
        flags = _PRESENT | (_VERIFIED if self.verifies else 0) | more
        return hashlib.sha256(site.encode()).digest() + bytes([flags]) + self.signed.to_bytes(4, "big")

    def _client(self, kind: str, challenge: str) -> bytes:
        return json.dumps({"type": kind, "challenge": challenge, "origin": self.origin}).encode()

    def _answer(self, response: dict[str, str]) -> str:
        name = text_of(self.credential)
        return json.dumps({"id": name, "rawId": name, "type": "public-key", "response": response})
