"""Tokens of a wrong account on a shared connection: set aside until somebody chooses, while what works goes on."""

from __future__ import annotations

import json
from collections.abc import Mapping
from datetime import datetime, timedelta
from typing import Any

from django.db import transaction
from django.db.models import F

from neatlatch.core.replies import Reading
from neatlatch.desk.common import safe
from neatlatch.desk.common.problems import Problem
from neatlatch.desk.journal.services import write
from neatlatch.desk.people.models import Person

from . import tokens
from .models import Connection, SetAside, TokenSet

# What is not chosen by then is let go of.
LONGEST = timedelta(days=1)
_KEPT = ("access_token", "refresh_token", "expires_in", "scope")


def keep(by: Person, connection: Connection, reading: Reading, account: str, asked_at: datetime) -> None:
    """Set tokens aside in place of those that were set aside before, which are ended at the provider."""
    let_go(connection)
    kept = {name: reading.fields[name] for name in _KEPT if name in reading.fields}
    row = SetAside(connection=connection, account=account[:200], at=asked_at, by=by.username)
    row.tokens = safe.seal(json.dumps(kept), row.place_of("tokens"))
    with transaction.atomic():
        SetAside.objects.filter(connection=connection).delete()  # of somebody who came at the same time
        row.save(force_insert=True)
        Connection.objects.filter(pk=connection.pk).update(stamp=F("stamp") + 1)
        write(by, "set aside the tokens of", "connection", connection.ref, {"account": account})


def of(connection: Connection) -> SetAside | None:
    """What is set aside for a connection, if anything."""
    return SetAside.objects.filter(connection=connection).first()


def use(by: Person, connection: Connection) -> None:
    """Use what was set aside in place of what worked before. Raises :class:`Problem`."""
    row = _found(connection)
    kept = _open(row)
    reading = Reading(True, None, "", fields=kept)
    saved = tokens.save_new(connection, reading, row.at, signed_in=True, asked_scopes=frozenset(connection.scopes))
    with transaction.atomic():
        TokenSet.objects.filter(pk=saved.pk).update(account=row.account)
        row.delete()
        Connection.objects.filter(pk=connection.pk).update(stamp=F("stamp") + 1)
        write(by, "chose the tokens of", "connection", connection.ref, {"account": row.account})


def refuse(by: Person, connection: Connection) -> None:
    """End what was set aside, at the provider too where it lets us. Raises :class:`Problem`."""
    row = _found(connection)
    ended = let_go(connection)
    write(by, "let go of the tokens of", "connection", connection.ref, {"account": row.account, "tokens revoked there": ended})


def let_go(connection: Connection) -> str:
    """End what is set aside for a connection, if anything; answers in words whether it was ended at the provider."""
    row = of(connection)
    if row is None:
        return "none held"
    kept = _open(row)
    ended = tokens.revoke_these(connection, str(kept.get("access_token", "")), str(kept.get("refresh_token") or ""))
    row.delete()
    return ended


def let_go_of_old(now: datetime) -> None:
    """End what nobody has chosen in time."""
    for row in SetAside.objects.filter(at__lt=now - LONGEST).select_related("connection__place__application", "connection__client")[:100]:
        let_go(row.connection)


def _found(connection: Connection) -> SetAside:
    row = of(connection)
    if row is None:
        raise Problem(409, "Nothing is set aside.", "Somebody else may have chosen already. Reload the page.")
    return row


def _open(row: SetAside) -> Mapping[str, Any]:
    found: dict[str, Any] = json.loads(safe.unseal(row.tokens, row.place_of("tokens")).reveal())
    return found
