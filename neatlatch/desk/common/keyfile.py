"""The key files. They lie beside the database, never in it, and only their owner may read them."""

from __future__ import annotations

import base64
import json
import os
import secrets
from dataclasses import dataclass
from pathlib import Path


class BadKeyFile(Exception):
    """The key file is missing, unreadable or open to others; the message says what to do."""


@dataclass(frozen=True)
class Keys:
    """Sealing keys by version, the version in use, and the key of fingerprints."""

    current: int
    sealing: dict[int, bytes]
    fingerprint: bytes

    def __repr__(self) -> str:
        return f"Keys(current={self.current}, •••)"


def _write_new(file: Path, text: str) -> None:
    """Write a file that did not exist, readable by its owner only. Where another process was quicker, its file stays."""
    temporary = file.with_name(f".{file.name}.{os.getpid()}.{secrets.token_hex(4)}")
    descriptor = os.open(temporary, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    with os.fdopen(descriptor, "w") as out:
        out.write(text)
        out.flush()
        os.fsync(out.fileno())
    try:
        os.link(temporary, file)
    except FileExistsError:
        pass
    finally:
        temporary.unlink()


def read_keys(file: Path, create: bool) -> Keys:
    """Read the sealing keys; ``create`` makes them where there is no file yet. Raises :class:`BadKeyFile`."""
    if not file.exists():
        if not create:
            raise BadKeyFile(
                f"The key file {file.name} is missing, but the database holds sealed values. Put the key file back from its backup."
            )
        fresh = {"current": 1, "sealing": {"1": base64.b64encode(secrets.token_bytes(32)).decode()},
                 "fingerprint": base64.b64encode(secrets.token_bytes(32)).decode()}  # fmt: skip
        _write_new(file, json.dumps(fresh))
    if file.stat().st_mode & 0o077:
        raise BadKeyFile(f"The key file {file.name} can be read by others. Run: chmod 600 {file}")
    try:
        kept = json.loads(file.read_text())
        keys = Keys(
            kept["current"],
            {int(version): base64.b64decode(key) for version, key in kept["sealing"].items()},
            base64.b64decode(kept["fingerprint"]),
        )
        if keys.current not in keys.sealing or any(len(key) != 32 for key in keys.sealing.values()):
            raise ValueError("no current key of 256 bits")
    except (ValueError, KeyError, TypeError, AttributeError) as error:
        raise BadKeyFile(f"The key file {file.name} is damaged ({error}). Put it back from its backup.") from error
    return keys


def secret_key(home: Path) -> str:
    """Django's own secret key, made on the first start."""
    file = home / "session.key"
    if not file.exists():
        _write_new(file, secrets.token_urlsafe(48))
    return file.read_text()
