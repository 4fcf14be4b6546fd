"""Renewing ahead of the end, and finding out in time that renewing is over.

A refresh token may end without anybody being told: revoked, or idle for too long. Until the last
access token ends everything works, so it has to be looked for. Each is asked about at least as
often as rounds are; one that must be used now and then (idle life) is used twice as often as that.
"""

from __future__ import annotations

import time
from dataclasses import dataclass
from datetime import datetime, timedelta

import structlog
from django.conf import settings
from django.db.models import QuerySet
from django.utils import timezone

from neatlatch.core import lifetimes, oauth2
from neatlatch.core.destinations import origin
from neatlatch.core.schemes import CODE, OAUTH2
from neatlatch.desk.estate.records.connections.models import Connection, TokenSet
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import Problem
from neatlatch.desk.ground.journal.services import write
from neatlatch.desk.ground.people.actors import person_who
from neatlatch.wire import oauth
from neatlatch.wire.token_source import NoToken
from neatlatch.wire.transport import Transport, TransportError

from . import destinations, tokens
from .halves import published

log = structlog.get_logger()
_TIME_LIMIT = 15.0


@dataclass(frozen=True)
class Renewal:
    """How a renewal that somebody asked for went: what it says, and when the access token that is
    held now ends.
    """

    renewed: bool
    says: str
    ends: datetime | None


def look_after_all(stop_at: float = 50.0) -> int:
    """Renew what is near its end, and ask about the rest; return how many were renewed.

    Stops after ``stop_at`` seconds; the next tick goes on with what ends soonest.
    """
    begun, renewed = time.monotonic(), 0
    for token_set in _renewable().order_by("ends"):
        if time.monotonic() - begun > stop_at:
            break
        due = _must_be_used(token_set, timezone.now())
        if not due and not _needs_introspection(token_set, timezone.now()):
            continue
        try:
            with destinations.transport_of(token_set.connection, _TIME_LIMIT) as transport:
                renewed += _check_or_renew(token_set, transport, due)
        except (NoToken, TransportError) as error:
            log.warning("renewal failed", connection=token_set.connection.ref, why=str(error))
    return renewed


def _renewable() -> QuerySet[TokenSet]:
    rows = TokenSet.objects.filter(
        ends__isnull=False, refresh__isnull=False, refused="", connection__paused=False
    )
    return rows.filter(connection__scheme=CODE).select_related(
        "connection__deployment__application", "connection__client"
    )


def _must_be_used(token_set: TokenSet, now: datetime) -> bool:
    """Whether the access token is near its end, or the refresh token was idle for half as long as
    it may be.
    """
    idle = token_set.connection.deployment.application.read_profile().limits.idle_life
    return tokens.is_due(token_set, now) or bool(
        idle and now - token_set.obtained >= timedelta(seconds=idle / 2)
    )


def _needs_introspection(token_set: TokenSet, now: datetime) -> bool:
    seen = max(token_set.obtained, token_set.asked_at or token_set.obtained)
    return now - seen >= timedelta(minutes=settings.TOKEN_MINUTES)


def _check_or_renew(token_set: TokenSet, transport: Transport, due: bool) -> bool:
    """Ask whether the refresh token lives; where nobody can be asked, or the answer is no, only a
    renewal shows it.
    """
    TokenSet.objects.filter(pk=token_set.pk).update(asked_at=timezone.now())
    if not due and _lives(token_set, transport):
        return False
    held, _ = tokens.hold(
        token_set.connection,
        transport,
        force=True,
        newer_than=token_set.generation,
        person=token_set.person_id,
    )
    return held.renewed


def _lives(token_set: TokenSet, transport: Transport) -> bool:
    """Whether the provider says that the refresh token is active (RFC 7662 §2.2).

    One that knows only access tokens says no, so a no proves nothing.
    """
    connection = token_set.connection
    endpoint = published(
        connection.deployment, connection.client, "introspection_endpoint", connection.slots
    )
    if not endpoint or origin(endpoint) not in destinations.reachable(connection):
        return False
    refresh = token_set.open_refresh().reveal()
    request = oauth2.introspection_request(
        endpoint, tokens.client_of(connection), refresh, "refresh_token"
    )
    try:
        told = oauth.ask(transport, "introspection", request, timezone.now())
    except TransportError:
        return False
    return told.reading.ok and bool(told.reading.fields.get("active"))


def renew(by: Actor, connection: Connection) -> Renewal:
    """Renew alone, as a test of renewing: the shared token, or where each has their own that of
    anyone who asks.

    Raises :class:`Problem` where there is nothing to renew.
    """
    if connection.scheme not in OAUTH2:
        raise Problem(
            409,
            "Nothing is renewed here.",
            "This authentication scheme has no token that expires and is renewed.",
            code="scheme-has-no-renewal",
        )
    person = person_who(by).pk if connection.individual else None
    held = TokenSet.objects.filter(connection=connection, person=person).first()
    if held is None and connection.scheme == CODE:
        raise Problem(
            409,
            "There is no token to renew.",
            "Sign in first." if person is None else "Connect your account first.",
            code="no-token-to-renew",
        )
    if held is not None and connection.scheme == CODE and held.refresh is None:
        raise Problem(
            409,
            "There is no refresh token.",
            "The application gave none at the sign-in, so somebody signs in again when it expires.",
            code="no-refresh-token",
        )
    try:
        with destinations.transport_of(connection, _TIME_LIMIT) as transport:
            tokens.hold(connection, transport, force=True, person=person)
        renewed, says = True, "Renewed: a new access token is held."
    except NoToken as error:
        renewed, says = False, f"Not renewed: {error.failure.detail or error.failure.code}"
    except TransportError as error:
        renewed, says = (
            False,
            f"Not renewed: the token endpoint could not be reached. {error.failure.detail}",
        )
    write(
        by, "tested renewal", "connection", connection.ref, {"renewed": renewed, "says": says[:200]}
    )
    now_held = TokenSet.objects.filter(connection=connection, person=person).first()
    ends = now_held.ends if now_held else None
    if not renewed and ends is not None and not lifetimes.is_over(ends, timezone.now()):
        says = f"{says} The access token that is held still serves to its end."
    return Renewal(renewed, says, ends)
