"""Trying a credential out at the application without anything else using it: the way a test goes,
with what it shows exchanged, and nothing of it kept.
"""

from __future__ import annotations

import random
import secrets
import time
from collections.abc import Mapping
from dataclasses import dataclass, replace
from datetime import timedelta

from django.utils import timezone

from neatlatch.core import oauth2, retries
from neatlatch.core.evidence import CauseClass, Exchange, Rung, RungResult
from neatlatch.core.schemes import CODE, OAUTH2
from neatlatch.core.scopes import split
from neatlatch.desk.estate.connections import destinations, halves, tokens
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.work.rounds import services as rounds
from neatlatch.desk.work.rounds.models import Test
from neatlatch.wire import oauth
from neatlatch.wire.ladder import LadderRun
from neatlatch.wire.oauth import failure_of
from neatlatch.wire.token_source import HeldToken, NoToken
from neatlatch.wire.transport import Transport, TransportError


@dataclass(frozen=True)
class Outcome:
    """What the application said.

    ``refused``: it was the credential that it rejected; neither passed nor refused: nothing was
    learnt.
    """

    passed: bool
    refused: bool
    says: str


@dataclass
class _TrialTokens:
    """Asks for a token with the credential that is tried, and keeps none."""

    connection: Connection

    def token(self, transport: Transport, force: bool) -> tuple[HeldToken, tuple[Exchange, ...]]:
        """A token of its own. Raises :class:`NoToken`, :class:`TransportError`."""
        now = timezone.now()
        request = tokens.request_for(self.connection, now)
        told = oauth.ask(transport, "token", request, now)
        if not told.reading.ok:
            raise NoToken(failure_of(told.reading, "token", told.exchange.status), (told.exchange,))
        fields = told.reading.fields
        granted = (
            frozenset(split(fields["scope"]))
            if "scope" in fields
            else frozenset(self.connection.scopes)
        )
        return HeldToken(str(fields["access_token"]), granted, None, True), (told.exchange,)

    def report_account(self, account: str) -> None:
        """Whose it is matters to nobody here."""


def attempt(
    connection: Connection, shown: Mapping[str, Credential], values: Mapping[str, str], fresh: bool
) -> Outcome:
    """Try a connection with other secrets, and other values, than it holds.

    ``fresh``: a refusal may only mean that it has not spread yet.
    """
    held = halves.with_everything(Connection.objects.filter(pk=connection.pk)).get()
    connection = held.showing(shown, values)
    try:
        transport = destinations.transport_of(
            connection, connection.time_limit, tokens.shown(connection)
        )
    except TransportError as error:
        return Outcome(False, False, error.failure.detail)
    with transport:
        return (
            _client_alone(connection, transport, fresh)
            if connection.scheme == CODE
            else _ladder(connection, transport, fresh)
        )


def _ladder(connection: Connection, transport: Transport, fresh: bool) -> Outcome:
    """The ladder up to Allowed."""
    plan = replace(
        rounds.plan_of(connection, Test(connection=connection, last=Rung.ALLOWED.value)),
        fresh=fresh,
    )
    token_source = (
        _TrialTokens(connection)
        if connection.scheme in OAUTH2
        else tokens.DeskTokenSource(connection)
    )
    ladder_run = LadderRun(
        plan,
        transport,
        token_source,
        timezone.now,
        random.random,
        lambda: secrets.token_hex(12),
        lambda: False,
    )
    results = [rung for rung in ladder_run.run() if isinstance(rung, RungResult)]
    failed = next((result for result in results if not result.passed), None)
    if failed is None:
        return Outcome(True, False, results[-1].says if results else "nothing was tried")
    cause = failed.failure.cause if failed.failure else CauseClass.UNKNOWN
    rejected = failed.rung in (Rung.SECURE, Rung.SIGN_IN, Rung.ALLOWED) and cause in (
        CauseClass.CREDENTIAL,
        CauseClass.TLS,
    )
    return Outcome(False, rejected, failed.says)


def _client_alone(connection: Connection, transport: Transport, fresh: bool) -> Outcome:
    """Whether the client is known by its secret, without a person and without touching the tokens
    that are held: a refresh token that never was is answered ``invalid_grant`` to a client that
    proved itself, and ``invalid_client`` to one that did not (RFC 6749 §5.2).
    """
    request = oauth2.refresh_request(
        connection.values.get("token_endpoint", ""),
        tokens.client_of(connection),
        secrets.token_urlsafe(24),
    )
    profile = connection.deployment.application.read_profile()
    until = timezone.now() + timedelta(seconds=profile.limits.spread if fresh else 0)
    while True:
        try:
            told = oauth.ask(transport, "token", request, timezone.now())
        except TransportError as error:
            return Outcome(False, False, error.failure.detail)
        error_code = told.reading.error
        if error_code == "invalid_grant":
            return Outcome(
                True,
                False,
                (
                    "The application knows the client by it: it refused only a refresh token "
                    "that was made up for the test."
                ),
            )
        if error_code != "invalid_client" and told.exchange.status != 401:
            return Outcome(
                False,
                False,
                (
                    f"It answered {error_code or told.exchange.status}, which tells nothing of "
                    f"the secret."
                ),
            )
        if timezone.now() >= until:
            return Outcome(False, True, "The application does not know the client by it.")
        # A refusal may only mean that the secret has not spread yet.
        time.sleep(retries.spread_wait(profile.limits.spread))
