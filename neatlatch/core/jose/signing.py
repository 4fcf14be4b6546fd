"""Signing JSON Web Tokens, by joserfc.

:mod:`jws` is the checked reference that ``compute`` answers with.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from cryptography.hazmat.primitives.asymmetric import ec, ed25519, rsa
from cryptography.hazmat.primitives.asymmetric.types import PrivateKeyTypes
from joserfc import jwt
from joserfc.jwk import ECKey, OKPKey, RSAKey

from . import jwk

Signer = RSAKey | ECKey | OKPKey


def signer(key: PrivateKeyTypes) -> Signer:
    """Make a private key ready to sign.

    Raises :class:`jwk.BadKey` where its kind does not sign tokens.
    """
    if isinstance(key, rsa.RSAPrivateKey):
        return RSAKey.import_key(key)
    if isinstance(key, ec.EllipticCurvePrivateKey):
        return ECKey.import_key(key)
    if isinstance(key, ed25519.Ed25519PrivateKey):
        return OKPKey.import_key(key)
    raise jwk.BadKey("this kind of key does not sign tokens")


def sign(header: Mapping[str, Any], claims: Mapping[str, Any], key: Signer) -> str:
    """Sign claims (RFC 7519 §7.1, RFC 7515 §5.1), by the algorithm that the header names."""
    return jwt.encode({**header}, {**claims}, key, algorithms=[header["alg"]], default_type=None)
