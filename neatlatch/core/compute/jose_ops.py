"""JOSE, token hashes and message digests (RFC 7515 to 7519, 7638, 8705, 9278, 9449, 9530; OpenID
Connect Core 1.0).
"""

from __future__ import annotations

import base64
import hashlib
import hmac
import json
from typing import Any

from ..certificates import facts, reading
from ..jose import b64, jwk, jws, jwt
from .op import BadInput, Inputs, Op, hexadecimal, number, obj, optional_text, text, texts


def _left_half(inputs: Inputs) -> str:
    """OpenID Connect Core 1.0 §3.1.3.6, §3.3.2.11: the left half of the hash that goes with the
    algorithm.
    """
    size = text(inputs, "alg")[-3:]
    if size not in ("256", "384", "512"):
        raise BadInput("“alg” must end in 256, 384 or 512")
    digest = hashlib.new(f"sha{size}", text(inputs, "value").encode("ascii")).digest()
    return b64.encode(digest[: len(digest) // 2])


def _ath(inputs: Inputs) -> str:
    return b64.encode(hashlib.sha256(text(inputs, "access_token").encode("ascii")).digest())


def _verify(inputs: Inputs) -> dict[str, Any]:
    verdict = jws.verify(text(inputs, "token"), obj(inputs, "jwk"), texts(inputs, "allowed_algs"))
    if verdict.valid and verdict.parts is not None:
        return {"valid": True, "payload_base64url": verdict.parts.payload_text}
    return {"valid": False, "reason": verdict.reason}


def _sign(inputs: Inputs) -> str:
    header, payload = (
        text(inputs, "header_json").encode("utf-8"),
        text(inputs, "payload_utf8").encode("utf-8"),
    )
    key = jwk.public(obj(inputs, "jwk"))
    if not isinstance(key, bytes):
        raise BadInput("“jwk” must be a symmetric key (kty oct)")
    return jws.sign(header, payload, str(json.loads(header).get("alg")), key)


def _claims(inputs: Inputs) -> dict[str, Any]:
    verdict = jwt.judge(
        obj(inputs, "claims"),
        number(inputs, "now"),
        number(inputs, "leeway_seconds", 0),
        optional_text(inputs, "expected_iss"),
        optional_text(inputs, "expected_aud"),
    )
    return {"valid": verdict.valid, "reason": verdict.reason}


def _thumbprints(inputs: Inputs) -> dict[str, Any]:
    found = reading.read(text(inputs, "certificate_pem").encode("utf-8")).leaf()
    if found is None:
        raise BadInput("“certificate_pem” holds no certificate")
    told = facts.of_certificate(found)
    return {
        "x5t#S256": told.x5t_s256,
        "x5t": told.x5t,
        "sha256_fingerprint": told.sha256,
        "sha1_fingerprint": told.sha1,
    }


def _content_digest(inputs: Inputs) -> str:
    algorithm = text(inputs, "algorithm")
    if algorithm not in ("sha-256", "sha-512"):
        raise BadInput("“algorithm” must be sha-256 or sha-512")
    digest = hashlib.new(
        algorithm.replace("-", ""), text(inputs, "body_utf8").encode("utf-8")
    ).digest()
    return f"{algorithm}=:{base64.b64encode(digest).decode('ascii')}:"


def _mac(inputs: Inputs) -> dict[str, str]:
    return {
        "mac_hex": hmac.new(
            hexadecimal(inputs, "key_hex"), hexadecimal(inputs, "data_hex"), hashlib.sha256
        ).hexdigest()
    }


OPS = (
    Op("left_half_hash", "claim, value, alg", "OpenID Connect Core 1.0 §3.1.3.6", _left_half),
    Op("dpop_ath", "access_token", "RFC 9449 §4.2", _ath),
    Op(
        "jwk_thumbprint",
        "jwk, hash (SHA-256)",
        "RFC 7638 §3, RFC 8037 App. A.3",
        lambda inputs: jwk.thumbprint(
            obj(inputs, "jwk"), optional_text(inputs, "hash") or "SHA-256"
        ),
    ),
    Op(
        "jwk_thumbprint_uri",
        "jwk, hash (SHA-256)",
        "RFC 9278 §3",
        lambda inputs: jwk.thumbprint_uri(
            obj(inputs, "jwk"), optional_text(inputs, "hash") or "SHA-256"
        ),
    ),
    Op("jws_verify", "token, jwk, allowed_algs: [name]", "RFC 7515 §5.2, RFC 8725 §3.1", _verify),
    Op("jws_sign", "header_json, payload_utf8, jwk (kty oct)", "RFC 7515 §5.1", _sign),
    Op(
        "jwt_claims",
        "claims, now, leeway_seconds (0), expected_iss, expected_aud",
        "RFC 7519 §4.1",
        _claims,
    ),
    Op(
        "certificate_thumbprints",
        "certificate_pem",
        "RFC 8705 §3.1, RFC 7515 §4.1.7, §4.1.8",
        _thumbprints,
    ),
    Op("hmac_sha256", "key_hex, data_hex", "RFC 4231, FIPS 198-1", _mac),
    Op(
        "content_digest", "algorithm (sha-256 | sha-512), body_utf8", "RFC 9530 §2", _content_digest
    ),
)
