"""JSON Web Keys: reading them, and their thumbprints (RFC 7517, RFC 7638, RFC 8037, RFC 9278)."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from typing import Any

from cryptography.hazmat.primitives.asymmetric import ec, ed448, ed25519, rsa
from cryptography.hazmat.primitives.asymmetric.types import PublicKeyTypes

from . import b64

# The members that a thumbprint is made of (RFC 7638 §3.2, RFC 8037 §2).
_REQUIRED = {
    "RSA": ("e", "kty", "n"),
    "EC": ("crv", "kty", "x", "y"),
    "oct": ("k", "kty"),
    "OKP": ("crv", "kty", "x"),
}
_HASHES = {"SHA-256": "sha256", "SHA-384": "sha384", "SHA-512": "sha512"}
CURVES: dict[str, ec.EllipticCurve] = {
    "P-256": ec.SECP256R1(),
    "P-384": ec.SECP384R1(),
    "P-521": ec.SECP521R1(),
}


class BadKey(ValueError):
    """The key cannot be used; the message says why."""


def thumbprint(jwk: Mapping[str, Any], algorithm: str = "SHA-256") -> str:
    """RFC 7638 §3: the hash over the required members in lexicographic order, without white space.

    Raises :class:`BadKey`.
    """
    members = _REQUIRED.get(str(jwk.get("kty")))
    if members is None:
        raise BadKey(f"key type {jwk.get('kty')!r} is not known")
    if missing := [member for member in members if not isinstance(jwk.get(member), str)]:
        raise BadKey(f"“{missing[0]}” is missing from the key")
    if algorithm not in _HASHES:
        raise BadKey(f"hash {algorithm!r} is not known")
    text = json.dumps(
        {member: jwk[member] for member in members},
        sort_keys=True,
        separators=(",", ":"),
        ensure_ascii=False,
    )
    return b64.encode(hashlib.new(_HASHES[algorithm], text.encode("utf-8")).digest())


def thumbprint_uri(jwk: Mapping[str, Any], algorithm: str = "SHA-256") -> str:
    """RFC 9278 §3."""
    return f"urn:ietf:params:oauth:jwk-thumbprint:{algorithm.lower()}:{thumbprint(jwk, algorithm)}"


def _number(jwk: Mapping[str, Any], member: str) -> int:
    return int.from_bytes(_octets(jwk, member), "big")


def _octets(jwk: Mapping[str, Any], member: str) -> bytes:
    value = jwk.get(member)
    if not isinstance(value, str):
        raise BadKey(f"“{member}” is missing from the key")
    try:
        return b64.decode(value)
    except ValueError as error:
        raise BadKey(f"“{member}” is {error}") from error


def public(jwk: Mapping[str, Any]) -> PublicKeyTypes | bytes:
    """The key to verify with: a public key, or the octets of a symmetric one.

    Raises :class:`BadKey`.
    """
    kind, curve = jwk.get("kty"), str(jwk.get("crv"))
    try:
        if kind == "oct":
            return _octets(jwk, "k")
        if kind == "RSA":
            return rsa.RSAPublicNumbers(_number(jwk, "e"), _number(jwk, "n")).public_key()
        if kind == "EC" and curve in CURVES:
            return ec.EllipticCurvePublicNumbers(
                _number(jwk, "x"), _number(jwk, "y"), CURVES[curve]
            ).public_key()
        if kind == "OKP" and curve == "Ed25519":
            return ed25519.Ed25519PublicKey.from_public_bytes(_octets(jwk, "x"))
        if kind == "OKP" and curve == "Ed448":
            return ed448.Ed448PublicKey.from_public_bytes(_octets(jwk, "x"))
    except BadKey:
        raise
    except ValueError as error:
        raise BadKey(f"the key's numbers cannot be: {error}") from error
    raise BadKey(
        f"key type {kind!r} {curve if kind in ('EC', 'OKP') else ''} is not known".replace(
            "  ", " "
        )
    )


def of_public(key: PublicKeyTypes) -> dict[str, str]:
    """A public key as a JWK (RFC 7518 §6, RFC 8037 §2). Raises :class:`BadKey`."""
    if isinstance(key, rsa.RSAPublicKey):
        numbers = key.public_numbers()
        return {"kty": "RSA", "n": _text(numbers.n), "e": _text(numbers.e)}
    if isinstance(key, ec.EllipticCurvePublicKey):
        curve = next((name for name, one in CURVES.items() if one.name == key.curve.name), None)
        if curve is None:
            raise BadKey(f"curve {key.curve.name} has no name in JOSE")
        size, point = (key.curve.key_size + 7) // 8, key.public_numbers()
        return {
            "kty": "EC",
            "crv": curve,
            "x": b64.encode(point.x.to_bytes(size, "big")),
            "y": b64.encode(point.y.to_bytes(size, "big")),
        }
    if isinstance(key, ed25519.Ed25519PublicKey):
        return {"kty": "OKP", "crv": "Ed25519", "x": b64.encode(key.public_bytes_raw())}
    raise BadKey("this kind of key has no form in JOSE")


def _text(number: int) -> str:
    return b64.encode(number.to_bytes((number.bit_length() + 7) // 8, "big"))
