"""The safe: values are sealed the moment they arrive, and compared by keyed fingerprint.

AES-256-GCM (NIST SP 800-38D) with a random 96-bit nonce; the associated data names table, row and
field, so that a sealed value cannot be moved to another place.
"""

from __future__ import annotations

import hashlib
import hmac
import os
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from cryptography.exceptions import InvalidTag
from cryptography.hazmat.primitives.ciphers.aead import AESGCM
from django.apps import apps
from django.conf import settings
from django.db import connection
from django.db.models import Model

from neatlatch.core.secret import Secret

from .keyfile import BadKeyFile, Keys, read_keys

_FORMAT = b"\x01"
# Who looks after the safe, in the journal.


class CannotOpen(Exception):
    """A sealed value does not open: it was moved or changed, or the key file is another's."""


# Where sealed values live; while there is one, a missing key file is a loss to be told and not a
# new start. Each model says by ``place_of`` where a field of a row is sealed.
SEALED = (
    ("clients.Client", "management_token"),
    ("credentials.Credential", "value"),
    ("connections.TokenSet", "access"),
    ("connections.TokenSet", "refresh"),
    ("connections.SignIn", "verifier"),
    ("connections.SetAside", "tokens"),
    ("house.SigningKey", "private"),
    ("people.Person", "factor"),
    ("people.Person", "factor_begun"),
    ("certificates.Authority", "private"),
)


def sealed_fields() -> Iterator[tuple[type[Model], str]]:
    """The models and fields that hold sealed values.

    A table or column that a migration has still to make is left out.
    """
    with connection.cursor() as cursor:
        for name, field in SEALED:
            model = apps.get_model(name)
            # Django's own description parses each table's SQL, which takes a start of any program a
            # quarter of a second.
            cursor.execute("SELECT name FROM pragma_table_info(%s)", [model._meta.db_table])
            if str(model._meta.get_field(field).column) in {column for (column,) in cursor}:
                yield model, field


def _first(model: type[Model], field: str) -> Any:
    return (
        model._default_manager.filter(**{f"{field}__isnull": False})
        .only("pk", field)
        .order_by("-pk")
        .first()
    )


def _holds_sealed_values() -> bool:
    return any(
        model._default_manager.filter(**{f"{field}__isnull": False}).exists()
        for model, field in sealed_fields()
    )


def check() -> None:
    """Whether the key file is there and is the one that this database was sealed with: one value of
    each kind is opened. Raises :class:`BadKeyFile` and
    :class:`CannotOpen`, which say what to do.
    """
    _keys()
    for model, field in sealed_fields():
        row = _first(model, field)
        if row is None:
            continue
        try:
            unseal(getattr(row, field), row.place_of(field))
        except CannotOpen as error:
            raise CannotOpen(
                f"The key file {_file().name} is not the one that this database was sealed "
                f"with: a value of {model._meta.db_table} does not open. Put the key "
                "file back that belongs to it, from its backup. Nothing was changed."
            ) from error


def _file() -> Path:
    found: Path = settings.HOME / "safe.key"
    return found


_kept: list[tuple[tuple[int, int, int], Keys]] = []


def _keys() -> Keys:
    """The keys, read again when the file is another: it changes while we run when the values are
    re-keyed.
    """
    file = _file()
    try:
        stat = file.stat()
    except FileNotFoundError:
        read_keys(file, create=not _holds_sealed_values())
        stat = file.stat()
    seen = (stat.st_mtime_ns, stat.st_ino, stat.st_size)
    if _kept and _kept[0][0] == seen:
        return _kept[0][1]
    keys = read_keys(file, create=False)
    _kept[:] = [(seen, keys)]
    return keys


def version_of(sealed: bytes | memoryview[int]) -> int:
    """The version of the key that a value was sealed with; 0: it is in no form that is known."""
    head = bytes(sealed[:3])
    return int.from_bytes(head[1:3], "big") if head[:1] == _FORMAT else 0


def current_version() -> int:
    """The version of the key that is in use."""
    return _keys().current


def versions() -> list[int]:
    """The versions of the key that values can be opened with, the newest first."""
    return sorted(_keys().sealing, reverse=True)


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
        raise CannotOpen(
            f"The value at {place} does not open: the key file is another's, or the value "
            f"was moved or changed."
        ) from error


def fingerprint(value: str) -> str:
    """A keyed fingerprint (HMAC-SHA-256, RFC 2104): equal values have equal ones, and nobody
    without the key can try values out.
    """
    return hmac.new(_keys().fingerprint, value.encode(), hashlib.sha256).hexdigest()


def journal_key() -> bytes:
    """The key of the journal's chain: derived, so that it stays the same when the safe is re-keyed
    (HMAC as a key derivation, NIST SP 800-108 §4).
    """
    return hmac.new(_keys().fingerprint, b"neatlatch: the journal's chain", hashlib.sha256).digest()


__all__ = [
    "SEALED",
    "BadKeyFile",
    "CannotOpen",
    "check",
    "current_version",
    "fingerprint",
    "journal_key",
    "seal",
    "sealed_fields",
    "unseal",
    "version_of",
]
