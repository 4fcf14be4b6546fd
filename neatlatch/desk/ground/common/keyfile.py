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


def _whole(file: Path, text: str) -> Path:
    """A file beside it with this text, readable by its owner only and safely on the disk."""
    temporary = file.with_name(f".{file.name}.{os.getpid()}.{secrets.token_hex(4)}")
    descriptor = os.open(temporary, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600)
    with os.fdopen(descriptor, "w") as out:
        out.write(text)
        out.flush()
        os.fsync(out.fileno())
    return temporary


def _write_new(file: Path, text: str) -> None:
    """Write a file that did not exist, readable by its owner only.

    Where another process was quicker, its file stays.
    """
    temporary = _whole(file, text)
    try:
        os.link(temporary, file)
    except FileExistsError:
        pass
    finally:
        temporary.unlink()


def read_keys(file: Path, create: bool) -> Keys:
    """Read the sealing keys; ``create`` makes them where there is no file yet.

    Raises :class:`BadKeyFile`.
    """
    if not file.exists():
        if not create:
            raise BadKeyFile(
                f"The key file {file.name} is missing, but the database holds sealed "
                f"values. Put the key file back from its backup."
            )
        fresh = {
            "current": 1,
            "sealing": {"1": base64.b64encode(secrets.token_bytes(32)).decode()},
            "fingerprint": base64.b64encode(secrets.token_bytes(32)).decode(),
        }
        _write_new(file, json.dumps(fresh))
    check_is_own(file)
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
        raise BadKeyFile(
            f"The key file {file.name} is damaged ({error}). Put it back from its backup."
        ) from error
    return keys


def _replace(file: Path, keys: Keys) -> None:
    """Write the keys anew, all or nothing: a new file is made whole and then takes the old one's
    name.
    """
    told = {
        "current": keys.current,
        "sealing": {
            str(version): base64.b64encode(key).decode()
            for version, key in sorted(keys.sealing.items())
        },
        "fingerprint": base64.b64encode(keys.fingerprint).decode(),
    }
    _whole(file, json.dumps(told)).replace(file)
    folder = os.open(file.parent, os.O_RDONLY)
    try:
        os.fsync(folder)
    finally:
        os.close(folder)


def add_version(file: Path) -> int:
    """Put a new sealing key into the file and let it be the one in use; older ones stay, for what
    is sealed with them. Returns its version.
    """
    keys = read_keys(file, create=False)
    fresh = max(keys.sealing) + 1
    _replace(file, Keys(fresh, {**keys.sealing, fresh: secrets.token_bytes(32)}, keys.fingerprint))
    return fresh


def drop_versions(file: Path) -> list[int]:
    """Take every sealing key but the one in use out of the file; returns which.

    What is sealed with them, in old backups too, opens no more.
    """
    keys = read_keys(file, create=False)
    gone = sorted(set(keys.sealing) - {keys.current})
    if gone:
        _replace(
            file, Keys(keys.current, {keys.current: keys.sealing[keys.current]}, keys.fingerprint)
        )
    return gone


def secret_key(home: Path) -> str:
    """Django's own secret key, made on the first start.

    Raises :class:`BadKeyFile` where others can read it.
    """
    file = home / "session.key"
    if not file.exists():
        _write_new(file, secrets.token_urlsafe(48))
    check_is_own(file)
    return file.read_text()


def check_is_own(path: Path) -> None:
    """Raise :class:`BadKeyFile` where anybody but its owner may read a file or a folder, or write
    to it.
    """
    if path.stat().st_mode & 0o077:
        mode = "700" if path.is_dir() else "600"
        raise BadKeyFile(f"{path} is open to others on this machine. Run: chmod {mode} {path}")
