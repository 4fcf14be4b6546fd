"""Signing keys of the house authority: one signs, others wait or leave
(``core.authority.rollover``).
"""

from __future__ import annotations

from datetime import datetime, timedelta
from functools import lru_cache
from typing import Any

from cryptography.hazmat.primitives.asymmetric import rsa
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from django.db import transaction
from django.utils import timezone

from neatlatch.core import keys
from neatlatch.core.authority import rollover
from neatlatch.core.jose import jwk, signing
from neatlatch.desk.authority.records.house.models import SigningKey
from neatlatch.desk.estate.records.applications.models import Environment
from neatlatch.desk.ground.common import safe
from neatlatch.desk.ground.common.actors import HOUSE, Actor
from neatlatch.desk.ground.common.problems import Problem
from neatlatch.desk.ground.journal.services import write

# RFC 9068 §2.1 asks for RS256 of everybody; 2048 bits are enough until 2030 (NIST SP 800-57 Part 1,
# table 2 and 4).
ALGORITHM, BITS = "RS256", 2048
# Receivers may keep the key set this long; a new key waits as long before it signs.
KEPT_FOR = timedelta(seconds=60)
LONGEST_TOKEN = timedelta(hours=1)


def _new_pair() -> rsa.RSAPrivateKey:
    return rsa.generate_private_key(public_exponent=65537, key_size=BITS)


@lru_cache(maxsize=64)
def _loaded(kid: str, sealed: bytes, deployment: str) -> signing.Signer:
    """The private half, opened once a process: opening and checking it takes longer
    than signing.
    """
    return signing.signer(keys.open_own(safe.unseal(sealed, deployment).reveal().encode()))


def _make(by: Actor, environment: Environment, now: datetime) -> SigningKey:
    """Make a key and let it take over in its turn.

    The environment's row is locked, so that two do not at once.
    """
    Environment.objects.select_for_update().get(pk=environment.pk)
    private = _new_pair()
    public = jwk.of_public(private.public_key())
    kid = jwk.thumbprint(public)
    known = {
        signing_key.kid: signing_key
        for signing_key in SigningKey.objects.filter(environment=environment)
    }
    try:
        changed = rollover.take_over(
            [key.as_key() for key in known.values()], kid, now, KEPT_FOR, LONGEST_TOKEN
        )
    except ValueError as error:
        raise Problem(
            409,
            "A new signing key waits for its turn already.",
            "It takes over within a minute. Try again after that.",
            code="signing-key-prepared",
        ) from error
    for key in changed[:-1]:
        SigningKey.objects.filter(kid=key.kid).update(
            signs_until=key.signs_until, published_until=key.published_until
        )
    fresh = changed[-1]
    made = SigningKey(
        environment=environment,
        kid=kid,
        public={**public, "kid": kid, "use": "sig", "alg": ALGORITHM},
        published_from=fresh.published_from,
        signs_from=fresh.signs_from,
        made_by=by.username,
    )
    pem = private.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption()).decode()
    made.private = safe.seal(pem, made.sealed_place)
    made.save(force_insert=True)
    write(
        by,
        "made",
        "signing key",
        kid[:12],
        {"environment": environment.name, "signs_from": fresh.signs_from},
    )
    return made


@transaction.atomic
def roll_over(by: Actor, environment: Environment) -> SigningKey:
    """Let a new key take over. Raises :class:`Problem` while one waits for its turn."""
    return _make(by, environment, timezone.now())


def signer(environment: Environment, now: datetime) -> SigningKey:
    """The key that signs now; the first is made when it is first wanted."""
    keys = {
        signing_key.kid: signing_key
        for signing_key in SigningKey.objects.filter(environment=environment)
    }
    found = rollover.signer([key.as_key() for key in keys.values()], now)
    if found is not None:
        return keys[found.kid]
    with transaction.atomic():
        Environment.objects.select_for_update().get(pk=environment.pk)
        again = {
            signing_key.kid: signing_key
            for signing_key in SigningKey.objects.filter(environment=environment)
        }
        found = rollover.signer([key.as_key() for key in again.values()], now)
        return again[found.kid] if found is not None else _make(HOUSE, environment, now)


def sign(environment: Environment, kind: str, claims: dict[str, Any], now: datetime) -> str:
    """A JWT of a type (``at+jwt``, ``statuslist+jwt``), signed with the key whose turn it is."""
    key = signer(environment, now)
    header = {"typ": kind, "alg": ALGORITHM, "kid": key.kid}
    return signing.sign(header, claims, _loaded(key.kid, bytes(key.private), key.sealed_place))


def key_set(environment: Environment, now: datetime) -> dict[str, Any]:
    """The published keys (RFC 7517 §5)."""
    keys = {
        signing_key.kid: signing_key
        for signing_key in SigningKey.objects.filter(environment=environment)
    }
    return {
        "keys": [
            keys[published.kid].public
            for published in rollover.published([key.as_key() for key in keys.values()], now)
        ]
    }


def clear_gone(now: datetime) -> int:
    """Take keys away that are no longer published; returns how many."""
    count, _ = SigningKey.objects.filter(published_until__lte=now - timedelta(days=1)).delete()
    return count
