"""Tokens of a wrong account on a shared connection: set aside until somebody chooses, while what
works goes on.
"""

from __future__ import annotations

import json
from datetime import datetime, timedelta

import structlog
from django.db import transaction
from django.db.models import Q
from django.utils import timezone

from neatlatch.core.replies import Reading
from neatlatch.desk.estate.records.connections.models import Connection, SetAside, TokenSet
from neatlatch.desk.ground.common import safe
from neatlatch.desk.ground.common.actors import CLOCK, Actor
from neatlatch.desk.ground.common.problems import Problem
from neatlatch.desk.ground.journal.services import write

from . import destinations, tokens

log = structlog.get_logger()

# What is not chosen by then is discarded.
LONGEST = timedelta(days=1)
# Doing what was chosen takes two calls of the provider at most; a process that is killed in the
# middle leaves it to be chosen again.
_CHOOSING = timedelta(minutes=1)
_KEPT = ("access_token", "refresh_token", "expires_in", "scope")


def keep(
    by: Actor, connection: Connection, reading: Reading, account: str, asked_at: datetime
) -> None:
    """Set tokens aside in place of those that were set aside before, which are ended at the
    provider.
    """
    let_go(by, connection)
    kept = {name: reading.fields[name] for name in _KEPT if name in reading.fields}
    row = SetAside(connection=connection, account=account[:200], at=asked_at, by=by.username)
    row.tokens = safe.seal(json.dumps(kept), row.place_of("tokens"))
    row.sent_to = destinations.of_tokens(connection)
    with transaction.atomic():
        # Of somebody who came at the same time, or who is choosing about it.
        SetAside.objects.filter(connection=connection).delete()
        row.save(force_insert=True)
        write(by, "set aside the tokens of", "connection", connection.ref, {"account": account})


def of(connection: Connection) -> SetAside | None:
    """What is set aside for a connection, if anything."""
    return SetAside.objects.filter(connection=connection).first()


def use(by: Actor, connection: Connection) -> None:
    """Use what was set aside in place of what worked before. Raises :class:`Problem`."""
    row = _claimed(connection)
    reading = Reading(True, None, "", fields=row.open_tokens())
    saved = tokens.save_new(
        connection,
        reading,
        row.at,
        signed_in=True,
        asked_scopes=frozenset(connection.scopes),
        sent_to=row.sent_to,
    )
    with transaction.atomic():
        TokenSet.objects.filter(pk=saved.pk).update(account=row.account)
        SetAside.objects.filter(pk=row.pk).delete()
        write(by, "chose the tokens of", "connection", connection.ref, {"account": row.account})


def refuse(by: Actor, connection: Connection) -> None:
    """End what was set aside, at the provider too where it lets us. Raises :class:`Problem`."""
    _end(by, connection, _claimed(connection))


def let_go(by: Actor, connection: Connection) -> None:
    """End what is set aside for a connection, if anything, at the provider too where it lets us.

    What somebody is choosing about at this moment is left to them.
    """
    row = _claim(connection)
    if row is not None:
        _end(by, connection, row)


def let_go_of_old(now: datetime) -> None:
    """End what nobody has chosen in time. What fails is logged, and tried again next time."""
    rows = SetAside.objects.filter(at__lt=now - LONGEST)
    for row in rows.select_related("connection__deployment__application", "connection__client")[
        :100
    ]:
        try:
            let_go(CLOCK, row.connection)
        except Exception:
            log.exception(
                "tokens that were set aside could not be discarded", connection=row.connection.ref
            )


def _end(by: Actor, connection: Connection, row: SetAside) -> None:
    try:
        kept = row.open_tokens()
        access, refresh = str(kept.get("access_token", "")), str(kept.get("refresh_token") or "")
        ended = tokens.revoke_these(connection, access, refresh)
    except safe.CannotOpen:
        ended = "no, the safe cannot open them"
    with transaction.atomic():
        SetAside.objects.filter(pk=row.pk).delete()
        about = {"account": row.account, "tokens revoked there": ended}
        write(by, "discarded the tokens of", "connection", connection.ref, about)


def _claimed(connection: Connection) -> SetAside:
    """What is set aside, kept for the first who chooses. Raises :class:`Problem`."""
    row = _claim(connection)
    if row is None:
        raise Problem(
            409,
            "Nothing is set aside.",
            "Somebody else may have chosen already. Reload the page.",
            code="nothing-set-aside",
        )
    return row


def _claim(connection: Connection) -> SetAside | None:
    """What is set aside, from now on ours to use or to end; ``None``: nothing, or another's."""
    now = timezone.now()
    free = Q(chosen_at=None) | Q(chosen_at__lt=now - _CHOOSING)
    row = of(connection)
    if row is None or not SetAside.objects.filter(free, pk=row.pk).update(chosen_at=now):
        return None
    return row
