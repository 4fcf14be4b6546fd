"""A passkey in software, written from Web Authentication Level 2 §6.1, §6.3 and §8.7 (attestation
“none”), so that nothing is checked against itself.
"""

from __future__ import annotations

import hashlib
import json
import struct
from base64 import urlsafe_b64encode
from typing import Any

import cbor2
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec

PRESENT, VERIFIED, ATTESTED = 0x01, 0x04, 0x40


def text(octets: bytes) -> str:
    return urlsafe_b64encode(octets).rstrip(b"=").decode()


class Authenticator:
    """One passkey.

    ``verifies``: whether it checks who holds it; ``origin``: where the browser says it is.
    """

    def __init__(self, origin: str, verifies: bool = True, name: bytes = b"passkey-1") -> None:
        self.origin, self.verifies, self.name, self.count = origin, verifies, name, 0
        self.key = ec.generate_private_key(ec.SECP256R1())

    def _client_data(self, kind: str, challenge: str) -> bytes:
        return json.dumps(
            {"type": kind, "challenge": challenge, "origin": self.origin, "crossOrigin": False}
        ).encode()

    def _authenticator_data(self, host: str, more: bytes = b"", flags: int = 0) -> bytes:
        self.count += 1
        flags |= PRESENT | (VERIFIED if self.verifies else 0)
        return hashlib.sha256(host.encode()).digest() + struct.pack(">BI", flags, self.count) + more

    def make(self, options: dict[str, Any]) -> dict[str, Any]:
        """What a browser answers when it makes the passkey."""
        point = self.key.public_key().public_numbers()
        public = cbor2.dumps(
            {1: 2, 3: -7, -1: 1, -2: point.x.to_bytes(32, "big"), -3: point.y.to_bytes(32, "big")}
        )
        attested = bytes(16) + struct.pack(">H", len(self.name)) + self.name + public
        told = {
            "fmt": "none",
            "attStmt": {},
            "authData": self._authenticator_data(options["rp"]["id"], attested, ATTESTED),
        }
        client = self._client_data("webauthn.create", options["challenge"])
        return {
            "id": text(self.name),
            "rawId": text(self.name),
            "type": "public-key",
            "clientExtensionResults": {},
            "response": {
                "clientDataJSON": text(client),
                "attestationObject": text(cbor2.dumps(told)),
            },
        }

    def sign(self, options: dict[str, Any]) -> dict[str, Any]:
        """What a browser answers when it asks the passkey."""
        data, client = (
            self._authenticator_data(options["rpId"]),
            self._client_data("webauthn.get", options["challenge"]),
        )
        signature = self.key.sign(data + hashlib.sha256(client).digest(), ec.ECDSA(hashes.SHA256()))
        return {
            "id": text(self.name),
            "rawId": text(self.name),
            "type": "public-key",
            "clientExtensionResults": {},
            "response": {
                "clientDataJSON": text(client),
                "authenticatorData": text(data),
                "signature": text(signature),
                "userHandle": None,
            },
        }
