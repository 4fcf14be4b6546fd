"""Sealing every value anew with a new key, while desk and worker go on: one value at a time, and
only if it is still the one that was opened.
"""

from __future__ import annotations

import time
from collections.abc import Iterator
from dataclasses import dataclass

from django.conf import settings

from neatlatch.desk.ground import won
from neatlatch.desk.ground.common import keyfile, safe
from neatlatch.desk.ground.common.actors import SAFE_KEEPER
from neatlatch.desk.ground.journal.services import write

# How the journal tells it.
NEW_KEY, SEALED_ANEW = "brought a new key into use", "sealed anew"


def version_named(number: int) -> str:
    """A version of the key, as the journal names it."""
    return f"version {number}"


@dataclass
class RekeyCount:
    """How many values were sealed anew, and how many stay behind because they open with none of the
    keys.
    """

    done: int = 0
    lost: int = 0


def behind() -> int:
    """How many values are sealed with a key that is no longer the one in use."""
    current = safe.current_version()
    return sum(
        safe.version_of(sealed) != current
        for model, field in safe.sealed_fields()
        for sealed in model._default_manager.filter(**{f"{field}__isnull": False})
        .values_list(field, flat=True)
        .iterator()
    )


def begin() -> int:
    """Bring a new key into use.

    Where an earlier re-keying was cut off, its key serves: answers the version in use from now on.
    """
    if behind():
        return safe.current_version()
    version = keyfile.add_version(settings.HOME / "safe.key")
    write(SAFE_KEEPER, NEW_KEY, "safe", version_named(version))
    return version


def seal_anew() -> Iterator[RekeyCount]:
    """Seal what is behind, in as many passes as it takes: anyone who read a row before the new key
    came writes it back as it was. Yields after each value.

    The new value is written only where the old one still stands, so a token that is renewed
    meanwhile is never overwritten with the one before it.
    """
    count = RekeyCount()
    while True:
        before = count.done
        count.lost = 0
        for model, field in safe.sealed_fields():
            rows = model._default_manager.filter(**{f"{field}__isnull": False})
            for key in list(rows.values_list("pk", flat=True)):
                row = rows.filter(pk=key).first()
                if (
                    row is None
                    or safe.version_of(old := getattr(row, field)) == safe.current_version()
                ):
                    continue
                place = row.place_of(field)  # type: ignore[attr-defined]
                try:
                    fresh = safe.seal(safe.unseal(old, place).reveal(), place)
                except safe.CannotOpen:
                    count.lost += 1
                    continue
                count.done += rows.filter(pk=key, **{field: old}).update(**{field: fresh})
                yield count
        if count.done == before:
            break
    write(
        SAFE_KEEPER,
        SEALED_ANEW,
        "safe",
        version_named(safe.current_version()),
        {"values": count.done, "lost": count.lost},
    )
    yield count


def drop_old(settled: float = 60.0) -> list[int]:
    """Take older keys out of the key file.

    Raises :class:`ValueError` while anything is sealed with one, and within so many seconds of the
    change: a transaction that began before it may still be on its way into the database.
    """
    file = settings.HOME / "safe.key"
    if time.time() - file.stat().st_mtime < settled:
        raise ValueError(
            "The key was changed within the last minute. Wait a little, then say it again."
        )
    if left := behind():
        raise ValueError(
            f"{left} values are still sealed with an older key. Run: bin/nlatch safe rekey"
        )
    if won.count_notes():
        raise ValueError(
            "A program has still to save what it won, in the folder won beside the "
            "database. Start the desk, then say it again."
        )
    gone = keyfile.drop_versions(file)
    if gone:
        names = ", ".join(version_named(number) for number in gone)
        write(SAFE_KEEPER, "removed older keys of", "safe", names)
    return gone
