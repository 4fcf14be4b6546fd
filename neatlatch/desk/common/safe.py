"""The safe: values are sealed the moment they arrive, and compared by keyed fingerprint.

AES-256-GCM (NIST SP 800-38D) with a random 96-bit nonce; the associated data names table, row and field, so that a sealed value
cannot be moved to another place.
"""

from __future__ import annotations

import hashlib
import hmac
import os
from functools import lru_cache

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from django.apps import apps
from django.conf import settings
from django.db import connection

from neatlatch.core.secret import Secret

from .keyfile import Keys, read_keys

_FORMAT = b"\x01"


class CannotOpen(Exception):
    """A sealed value does not open: it was moved or changed, or the key file is another's."""


# Where sealed values live; while there is one, a missing key file is a loss to be told and not a new start.
_SEALED = (
    ("clients.Client", "management_token"),
    ("credentials.Credential", "value"),
    ("connections.TokenSet", "access"),
    ("connections.SignIn", "verifier"),
    ("house.SigningKey", "private"),
    ("people.Person", "factor"),
)


def _holds_sealed_values() -> bool:
    """Whether any sealed value is kept. A table or column that a migration has still to make holds none."""
    with connection.cursor() as cursor:
        tables = set(connection.introspection.table_names(cursor))
        for model, field in _SEALED:
            meta = apps.get_model(model)._meta
            column = str(meta.get_field(field).column)
            if meta.db_table not in tables or column not in {
                one.name for one in connection.introspection.get_table_description(cursor, meta.db_table)
            }:
                continue
            quote = connection.ops.quote_name
            cursor.execute(f"SELECT 1 FROM {quote(meta.db_table)} WHERE {quote(column)} IS NOT NULL LIMIT 1")
            if cursor.fetchone():
                return True
    return False


@lru_cache(maxsize=1)
def _keys() -> Keys:
    file = settings.HOME / "safe.key"
    return read_keys(file, create=not file.exists() and not _holds_sealed_values())


def seal(value: str, place: str) -> bytes:
    """Seal a value for a place: ``table:row:field``."""
    keys = _keys()
    nonce = os.urandom(12)
    sealed = AESGCM(keys.sealing[keys.current]).encrypt(nonce, value.encode(), place.encode())
    return _FORMAT + keys.current.to_bytes(2, "big") + nonce + sealed


def unseal(sealed: bytes | memoryview[int], place: str) -> Secret:
    """Open a sealed value. Raises :class:`CannotOpen`."""
    sealed = bytes(sealed)
    key = _keys().sealing.get(int.from_bytes(sealed[1:3], "big")) if sealed[:1] == _FORMAT else None
    if key is None:
        raise CannotOpen(f"The value at {place} was sealed with a key that is not in the key file.")
    try:
        return Secret(AESGCM(key).decrypt(sealed[3:15], sealed[15:], place.encode()).decode())
    except InvalidTag as error:
        raise CannotOpen(f"The value at {place} does not open: the key file is another's, or the value was moved or changed.") from error


def fingerprint(value: str) -> str:
    """A keyed fingerprint (HMAC-SHA-256, RFC 2104): equal values have equal ones, and nobody without the key can try values out."""
    return hmac.new(_keys().fingerprint, value.encode(), hashlib.sha256).hexdigest()
