"""Findings about credentials, kept in the database so that lists filter by it
(:mod:`neatlatch.desk.ground.common.settling`)."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable, Iterator
from datetime import datetime
from functools import cache
from pathlib import Path
from uuid import UUID

from django.db import connection as database
from django.utils import timezone

from neatlatch.core import credential_marks
from neatlatch.desk.estate.records.credentials.models import Credential, StandsOut
from neatlatch.desk.ground.common import settling
from neatlatch.desk.ground.common.settling import Settling, stored

from . import histories, watching

MOST = 100
_WRITE = (
    "UPDATE credentials_standsout SET stale = 0, marks = %s, holds_until = %s, form = %s WHERE "
    "credential_id = %s"
)


@cache
def form() -> str:
    """The rules that marks are worked out by: by what their source files are."""
    files = (Path(credential_marks.__file__), Path(histories.__file__), Path(__file__))
    return hashlib.sha256(b"".join(file.read_bytes() for file in files)).hexdigest()[:16]


def keys_of(known: credential_marks.CredentialFacts, now: datetime) -> str:
    """The keys of its marks as they are kept."""
    found = sorted(mark.key for mark in credential_marks.marks(known, now))
    return f" {' '.join(found)} " if found else ""


def work_out(keys: Iterable[UUID]) -> int:
    """Rewrite the findings about some credentials, :data:`MOST` at the most; returns of how
    many. Part of the surrounding transaction.
    """
    now = timezone.now()
    found = histories.sighted(list(keys)[:MOST])
    rows = [
        [
            keys_of(sighted.known, now),
            stored(credential_marks.next_moment(sighted.known, now)),
            form(),
            sighted.credential.pk.hex,
        ]
        for sighted in found
    ]
    with database.cursor() as cursor:
        cursor.executemany(_WRITE, rows)
    return len(rows)


def differences() -> Iterator[str]:
    """Compare what is kept of every credential with a fresh working-out, a block at a time."""
    keys = list(Credential.objects.order_by("pk").values_list("pk", flat=True))
    for start in range(0, len(keys), MOST):
        now = timezone.now()
        block = keys[start : start + MOST]
        all_kept = StandsOut.objects.in_bulk(block)
        for sighted in histories.sighted(block):
            kept = all_kept.get(sighted.credential.pk)
            if kept is None or kept.stale:
                yield (
                    f"{sighted.credential.hint} ({sighted.credential.pk}): the findings about "
                    f"it are stale."
                )
            elif kept.marks != (fresh := keys_of(sighted.known, now)):
                yield (
                    f"{sighted.credential.hint} ({sighted.credential.pk}): kept is "
                    f"{kept.marks!r}, and {fresh!r} would be right."
                )


def begin() -> None:
    """Keep it from now on."""
    watching.begin()
    settling.register(Settling(watching.MARKS, work_out, lambda: MOST, lambda: form()))
