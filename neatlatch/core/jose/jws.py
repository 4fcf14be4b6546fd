"""JSON Web Signature, compact form: signing and verifying (RFC 7515, RFC 7518 §3, RFC
8037 §3.1).
"""

from __future__ import annotations

import hashlib
import hmac
import json
from collections.abc import Collection, Mapping
from dataclasses import dataclass
from typing import Any

from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec, ed448, ed25519, padding, rsa
from cryptography.hazmat.primitives.asymmetric.types import PrivateKeyTypes, PublicKeyTypes
from cryptography.hazmat.primitives.asymmetric.utils import (
    decode_dss_signature,
    encode_dss_signature,
)

from . import b64, jwk

_SHA: dict[str, hashes.SHA256 | hashes.SHA384 | hashes.SHA512] = {
    "256": hashes.SHA256(),
    "384": hashes.SHA384(),
    "512": hashes.SHA512(),
}
# RFC 7518 §3.4: each ES algorithm is tied to one curve.
_CURVE_OF = {"ES256": "secp256r1", "ES384": "secp384r1", "ES512": "secp521r1"}
_KNOWN = frozenset(
    {
        *(f"{kind}{size}" for kind in ("HS", "RS", "PS", "ES") for size in _SHA),
        "EdDSA",
        "Ed25519",
        "Ed448",
    }
)


class BadToken(ValueError):
    """The text is no JWS in compact form; the message says why."""


@dataclass(frozen=True)
class Parts:
    """A JWS taken apart: header and payload are decoded, never trusted."""

    header: Mapping[str, Any]
    payload: bytes
    signature: bytes
    signed: bytes
    payload_text: str


@dataclass(frozen=True)
class SignatureVerdict:
    """Whether a signature holds, and why not."""

    valid: bool
    reason: str
    parts: Parts | None = None


def take_apart(token: str) -> Parts:
    """Decode without verifying (RFC 7515 §7.1). Raises :class:`BadToken`."""
    pieces = token.split(".")
    if len(pieces) != 3:
        raise BadToken(f"a compact JWS has three parts, this has {len(pieces)}")
    try:
        raw, payload, signature = (b64.decode(piece) for piece in pieces)
        header = json.loads(raw)
    except (ValueError, RecursionError) as error:
        raise BadToken(f"its parts are not base64url of what they should be: {error}") from error
    if not isinstance(header, dict):
        raise BadToken("its header is not a JSON object")
    return Parts(header, payload, signature, f"{pieces[0]}.{pieces[1]}".encode("ascii"), pieces[1])


def verify(token: str, key: Mapping[str, Any], allowed: Collection[str]) -> SignatureVerdict:
    """Verify with a JWK.

    The algorithm must be one of those allowed, whatever the header says (RFC 8725 §3.1).
    """
    try:
        parts = take_apart(token)
    except BadToken as error:
        return SignatureVerdict(False, str(error))
    algorithm = parts.header.get("alg")
    if algorithm not in allowed or algorithm not in _KNOWN:
        return SignatureVerdict(False, f"algorithm {algorithm} is not among those allowed", parts)
    if parts.header.get("crit") is not None:
        return SignatureVerdict(
            False,
            "its header names extensions that must be understood (crit), and they are not",
            parts,
        )
    try:
        holds = _holds(str(algorithm), jwk.public(key), parts)
    except jwk.BadKey as error:
        return SignatureVerdict(False, str(error), parts)
    return SignatureVerdict(
        holds, "the signature verifies" if holds else "the signature does not verify", parts
    )


def _holds(algorithm: str, key: PublicKeyTypes | bytes, parts: Parts) -> bool:
    sha = _SHA.get(algorithm[2:])
    try:
        if isinstance(key, bytes):
            return algorithm.startswith("HS") and hmac.compare_digest(
                _mac(algorithm, key, parts.signed), parts.signature
            )
        if isinstance(key, rsa.RSAPublicKey) and algorithm[:2] in ("RS", "PS") and sha is not None:
            key.verify(parts.signature, parts.signed, _padding(algorithm, sha), sha)
        elif (
            isinstance(key, ec.EllipticCurvePublicKey)
            and _CURVE_OF.get(algorithm) == key.curve.name
            and sha is not None
        ):
            size = (key.curve.key_size + 7) // 8
            if (
                len(parts.signature) != 2 * size
            ):  # RFC 7518 §3.4: R and S, each of the curve's length
                return False
            r, s = (
                int.from_bytes(half, "big")
                for half in (parts.signature[:size], parts.signature[size:])
            )
            key.verify(encode_dss_signature(r, s), parts.signed, ec.ECDSA(sha))
        elif (isinstance(key, ed25519.Ed25519PublicKey) and algorithm in ("EdDSA", "Ed25519")) or (
            isinstance(key, ed448.Ed448PublicKey) and algorithm in ("EdDSA", "Ed448")
        ):
            key.verify(parts.signature, parts.signed)
        else:
            return False
    except InvalidSignature:
        return False
    return True


def _mac(algorithm: str, key: bytes, signed: bytes) -> bytes:
    return hmac.new(key, signed, getattr(hashlib, f"sha{algorithm[2:]}")).digest()


def _padding(
    algorithm: str, sha: hashes.SHA256 | hashes.SHA384 | hashes.SHA512
) -> padding.PKCS1v15 | padding.PSS:
    return (
        padding.PKCS1v15()
        if algorithm.startswith("RS")
        else padding.PSS(padding.MGF1(sha), sha.digest_size)
    )


def sign(header: bytes, payload: bytes, algorithm: str, key: PrivateKeyTypes | bytes) -> str:
    """Sign header and payload as they stand.

    Raises :class:`jwk.BadKey` where key and algorithm do not go together.
    """
    signed = f"{b64.encode(header)}.{b64.encode(payload)}"
    octets, sha = signed.encode("ascii"), _SHA.get(algorithm[2:])
    if isinstance(key, bytes) and algorithm.startswith("HS") and sha is not None:
        signature = _mac(algorithm, key, octets)
    elif isinstance(key, rsa.RSAPrivateKey) and algorithm[:2] in ("RS", "PS") and sha is not None:
        signature = key.sign(octets, _padding(algorithm, sha), sha)
    elif (
        isinstance(key, ec.EllipticCurvePrivateKey)
        and _CURVE_OF.get(algorithm) == key.curve.name
        and sha is not None
    ):
        size = (key.curve.key_size + 7) // 8
        r, s = decode_dss_signature(key.sign(octets, ec.ECDSA(sha)))
        signature = r.to_bytes(size, "big") + s.to_bytes(size, "big")
    elif isinstance(key, ed25519.Ed25519PrivateKey) and algorithm in ("EdDSA", "Ed25519"):
        signature = key.sign(octets)
    else:
        raise jwk.BadKey(f"{algorithm} does not go with this kind of key")
    return f"{signed}.{b64.encode(signature)}"


def algorithm_for(key: PrivateKeyTypes) -> str:
    """The usual algorithm for a key (RFC 7518 §3.1). Raises :class:`jwk.BadKey`."""
    if isinstance(key, rsa.RSAPrivateKey):
        return "RS256"
    if isinstance(key, ec.EllipticCurvePrivateKey):
        found = next((name for name, curve in _CURVE_OF.items() if curve == key.curve.name), None)
        if found:
            return found
    if isinstance(key, ed25519.Ed25519PrivateKey):
        return "EdDSA"
    raise jwk.BadKey("this kind of key does not sign tokens")
