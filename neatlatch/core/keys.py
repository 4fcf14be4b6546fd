"""Private and public keys: reading them, comparing them, and how strong they are.

The arithmetic is the library's; what a key is good for is said here.
"""

from __future__ import annotations

import base64
import hashlib
from dataclasses import dataclass

from cryptography.exceptions import UnsupportedAlgorithm
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import dsa, ec, ed448, ed25519, padding, rsa
from cryptography.hazmat.primitives.asymmetric.types import PrivateKeyTypes, PublicKeyTypes

from . import derivations, pem


class BadKey(ValueError):
    """The key cannot be read; the message says why.

    ``needs_password``: it is encrypted and none, or a wrong one, was given.
    """

    def __init__(self, says: str, needs_password: bool = False) -> None:
        super().__init__(says)
        self.needs_password = needs_password


@dataclass(frozen=True)
class KeyFacts:
    """A public key's type and size in bits; ``strength`` is the security it gives in bits (NIST SP
    800-57 Part 1, table 2).

    ``curve`` names the curve of an EC key (SEC 2, as ``secp256r1``); empty for other types.
    """

    type: str
    bits: int
    strength: int
    spki_sha256: str
    curve: str = ""

    @property
    def words(self) -> str:
        """As people say it: “RSA 2048”."""
        return self.type if self.type in ("Ed25519", "Ed448") else f"{self.type} {self.bits}"


def open_private(data: bytes, password: str | None = None) -> PrivateKeyTypes:
    """A private key out of PEM or DER (PKCS#8 by RFC 5958, PKCS#1, SEC 1).

    Raises :class:`BadKey`, also where it asks for unfair work.
    """
    secret = password.encode("utf-8") if password else None
    try:
        if (block := _private_block(data)) is not None and block.has_headers:
            return serialization.load_pem_private_key(
                block.text, secret
            )  # of old: one round of MD5, so nothing to be looked at
        der = data if block is None else block.der()
        derivations.check(der)
        return serialization.load_der_private_key(der, secret)
    except derivations.TooCostly as error:
        raise BadKey(str(error)) from error
    except TypeError as error:
        if secret is None:
            raise BadKey("The private key is encrypted; its password is needed.", True) from error
        return open_private(data)  # a password was given that is not needed
    except ValueError as error:
        if secret is not None:
            raise BadKey("The private key does not open with this password.", True) from error
        raise BadKey("This is not a private key that can be read.") from error
    except UnsupportedAlgorithm as error:
        raise BadKey("This kind of private key is not known.") from error


def open_own(data: bytes) -> PrivateKeyTypes:
    """A private key that :func:`open_private` opened before it was kept: whether its numbers go
    together is not worked out once more. PEM or DER.
    """
    load = (
        serialization.load_pem_private_key
        if pem.is_pem(data)
        else serialization.load_der_private_key
    )
    return load(data, None, unsafe_skip_rsa_key_validation=True)


def _private_block(data: bytes) -> pem.Block | None:
    """The first private key of a PEM file, ``None`` for DER.

    Raises ``ValueError`` where a PEM file has none.
    """
    if not pem.is_pem(data):
        return None
    for block in pem.blocks(data):
        if block.label in ("PRIVATE KEY", "ENCRYPTED PRIVATE KEY") and not block.has_headers:
            return block
        if block.label in ("RSA PRIVATE KEY", "EC PRIVATE KEY", "DSA PRIVATE KEY"):
            return block
    raise ValueError("there is no private key in it")


def is_encrypted(data: bytes) -> bool:
    """Whether a private key needs a password."""
    try:
        open_private(data)
    except BadKey as error:
        return error.needs_password
    return False


def spki(key: PublicKeyTypes) -> bytes:
    """The key as SubjectPublicKeyInfo in DER (RFC 5280 §4.1.2.7)."""
    return key.public_bytes(
        serialization.Encoding.DER, serialization.PublicFormat.SubjectPublicKeyInfo
    )


def facts(key: PublicKeyTypes) -> KeyFacts:
    """Type, size and strength of a public key."""
    digest = base64.b64encode(hashlib.sha256(spki(key)).digest()).decode("ascii")
    if isinstance(key, rsa.RSAPublicKey):
        steps = ((15360, 256), (7680, 192), (3072, 128), (2048, 112), (1024, 80))
        return KeyFacts(
            "RSA", key.key_size, next((s for size, s in steps if key.key_size >= size), 0), digest
        )
    if isinstance(key, ec.EllipticCurvePublicKey):
        return KeyFacts("EC", key.curve.key_size, key.curve.key_size // 2, digest, key.curve.name)
    if isinstance(key, ed25519.Ed25519PublicKey):
        return KeyFacts("Ed25519", 256, 128, digest)
    if isinstance(key, ed448.Ed448PublicKey):
        return KeyFacts("Ed448", 448, 224, digest)
    if isinstance(key, dsa.DSAPublicKey):
        return KeyFacts("DSA", key.key_size, 112 if key.key_size >= 2048 else 80, digest)
    return KeyFacts(type(key).__name__.removesuffix("PublicKey"), 0, 0, digest)


def public_of(private: PrivateKeyTypes) -> PublicKeyTypes:
    """The public half."""
    return private.public_key()


def match(private: PrivateKeyTypes, public: PublicKeyTypes) -> bool:
    """Whether two halves belong together: their SubjectPublicKeyInfo is the same."""
    return spki(public_of(private)) == spki(public)


def rsa_sha1(private: PrivateKeyTypes, data: bytes) -> bytes:
    """RSASSA-PKCS1-v1_5 with SHA-1, only for OAuth 1.0 (RFC 5849 §3.4.3).

    Raises :class:`BadKey` for another kind of key.
    """
    if not isinstance(private, rsa.RSAPrivateKey):
        raise BadKey("RSA-SHA1 requires an RSA key.")
    return private.sign(data, padding.PKCS1v15(), hashes.SHA1())
