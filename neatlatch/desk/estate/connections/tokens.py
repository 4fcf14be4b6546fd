"""Keeping tokens: given out while they live, renewed before they end, by one at a time.

A renewal that rotates the refresh token has a moment of danger: the provider has killed the old
one, and we have not saved the new one. So the lease on the renewal is written down first; the
answer is sealed into a note, synced to disk, and saved again and again until it is
(:mod:`neatlatch.desk.ground.won`); a note whose process was killed is taken up in place of
renewing; and a renewal that was cut off before its answer came is repeated with the old refresh
token as soon as its lease is over or its holder is known to be gone. Providers that follow RFC 9700
§4.14.2 and know lost answers take the old one again while nothing that came of it was used. Where
one does not, the access token still serves to its end, and the connection says that somebody must
sign in again.
"""

from __future__ import annotations

import time
import uuid
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

import structlog
from django.db import transaction
from django.db.models import QuerySet
from django.utils import timezone

from neatlatch.core import keys, lifetimes, oauth2
from neatlatch.core.certificates import facts, reading
from neatlatch.core.evidence import CauseClass, Exchange, Failure
from neatlatch.core.jose import jwt
from neatlatch.core.replies import Reading
from neatlatch.core.schemes import CERTIFICATE, CODE, JWT
from neatlatch.core.scopes import split
from neatlatch.core.secret import Secret
from neatlatch.desk.estate.records.connections.models import Connection, SetAside, TokenSet
from neatlatch.desk.ground import won
from neatlatch.desk.ground.common import owner, safe
from neatlatch.desk.ground.common.actors import RENEWAL, Actor
from neatlatch.desk.ground.journal.services import write
from neatlatch.wire import oauth
from neatlatch.wire.token_source import HeldToken, NoToken
from neatlatch.wire.transport import ClientCertificate, Transport, TransportError

from . import destinations
from .halves import published

log = structlog.get_logger()
LEASE = timedelta(seconds=20)
# How much longer a lease holds whose holder lives: it gives it back itself, so only a fault of ours
# would leave it.
_SAVING = timedelta(minutes=10)
_WAIT_STEP = 0.1


def client_of(connection: Connection) -> oauth2.Client:
    """How this connection's client proves itself."""
    held = connection.secrets().get("client_secret")
    secret = held.open().reveal() if held else ""
    return oauth2.Client(
        connection.values.get("client_id", ""),
        secret,
        connection.values.get("client_sign_in", "client_secret_basic"),
    )


def save_new(
    connection: Connection,
    reading: Reading,
    asked_at: datetime,
    *,
    signed_in: bool,
    asked_scopes: frozenset[str],
    person: int | None = None,
    after: int = 0,
    sent_to: Sequence[str] = (),
) -> TokenSet:
    """Seal and save what a token endpoint gave, as one short transaction with nothing else in it,
    again and again until it is saved.

    ``person`` is the key of the person whose tokens they are, where each has their own; ``after``
    the generation that was renewed. A scope that is not told is the one asked for (RFC 6749 §5.1);
    a refresh token that is not told stays (§6). Raises :class:`NoToken` where the connection was
    removed meanwhile.
    """
    fields = reading.fields
    facts = {
        "connection": str(connection.pk),
        "person": person,
        "access_token": str(fields["access_token"]),
        "refresh_token": fields.get("refresh_token"),
        "expires_in": fields.get("expires_in"),
        "scope": fields.get("scope"),
        "asked_scopes": sorted(asked_scopes),
        "asked_at": asked_at.isoformat(),
        "sent_to": list(sent_to) or destinations.of_tokens(connection),
        "signed_in": signed_in,
        "after": after,
    }
    saved: TokenSet | None = won.keep("tokens", _about(connection, person), facts)
    if saved is None:
        raise NoToken(
            Failure(
                "token",
                "no_token",
                CauseClass.UNKNOWN,
                "The connection was removed while its token was renewed.",
            )
        )
    return saved


def _about(connection: Connection, person: int | None) -> str:
    return f"tokens-{connection.pk}-{person or 0}"


@won.saves("tokens")
def _save(facts: won.Facts) -> TokenSet | None:
    """Save what was won; where it was saved before, or a sign-in came between, what stands is
    answered. ``None``: there is no such connection.
    """
    asked_at, person, signed_in = (
        datetime.fromisoformat(facts["asked_at"]),
        facts["person"],
        facts["signed_in"],
    )
    with transaction.atomic():
        connection = Connection.objects.filter(pk=facts["connection"]).first()
        if connection is None:
            return None
        tokens = (
            TokenSet.objects.select_for_update()
            .filter(connection=connection, person=person)
            .first()
        )
        if tokens is not None and _stands(tokens, facts, asked_at):
            return tokens
        if tokens is None:
            tokens = TokenSet(
                connection=connection,
                person_id=person,
                signed_in_at=asked_at,
                generation=0,
                sent_to=facts.get("sent_to", []),
            )
        elif signed_in:
            tokens.refresh, tokens.sent_to = None, facts.get("sent_to", [])
        if signed_in:
            tokens.signed_in_at, tokens.account = asked_at, ""
        tokens.seal(facts["access_token"], facts["refresh_token"])
        told = facts["scope"]
        if told is not None:
            tokens.granted = sorted(split(told))
        elif signed_in or not tokens.granted:
            tokens.granted = facts["asked_scopes"]
        tokens.obtained, tokens.ends = asked_at, lifetimes.ends(asked_at, facts["expires_in"])
        tokens.generation += 1
        tokens.lease, tokens.lease_until, tokens.refused = "", None, ""
        tokens.save()
    return tokens


def _stands(tokens: TokenSet, facts: won.Facts, asked_at: datetime) -> bool:
    """Whether the tokens that stand are these, or came after them."""
    if facts["after"]:
        return tokens.generation != int(facts["after"])
    if facts.get(won.TAKEN_UP) and tokens.obtained > asked_at:
        # A later sign-in. Only a note gives way to it: one made just now wins even where the clock
        # was set back.
        return True
    return tokens.obtained >= asked_at and tokens.open_access().reveal() == facts["access_token"]


def _to_send(tokens: TokenSet, renewed: bool = False) -> HeldToken:
    return HeldToken(
        tokens.open_access().reveal(),
        frozenset(tokens.granted),
        tokens.ends,
        renewed,
        tokens.generation,
    )


def is_due(tokens: TokenSet, now: datetime) -> bool:
    """Whether it is time to renew."""
    at = lifetimes.renew_at(tokens.obtained, tokens.ends)
    return at is not None and now >= at


@dataclass
class DeskTokenSource:
    """Gives the ladder its tokens."""

    connection: Connection
    person: int | None = None
    given: int | None = None

    def _mine(self) -> QuerySet[TokenSet]:
        return TokenSet.objects.filter(connection=self.connection, person=self.person)

    def token(self, transport: Transport, force: bool) -> tuple[HeldToken, tuple[Exchange, ...]]:
        """The token held, or a renewed one. Raises :class:`NoToken`."""
        held, exchanges = hold(
            self.connection, transport, force, newer_than=self.given, person=self.person
        )
        self.given = held.generation
        return held, exchanges

    def report_account(self, account: str) -> None:
        """Record whose token it is."""
        self._mine().exclude(account=account).update(account=account[:200])


def shown(connection: Connection) -> ClientCertificate | None:
    """The client certificate for the transport, where the scheme has TLS ask for one."""
    held = connection.secrets().get("private_key")
    if connection.scheme != CERTIFICATE or held is None or not connection.values.get("certificate"):
        return None
    return ClientCertificate(connection.values["certificate"], held.open().reveal())


def whose_to_test(connection: Connection, username: str) -> int | None:
    """Whose tokens a test of an individual connection takes: those of the service account for
    tests, else the tester's own, else the freshest. ``None``: nobody's own.
    """
    if not connection.individual or connection.tests_tokens is not None:
        return None
    sets = TokenSet.objects.filter(connection=connection).exclude(person=None)
    own = sets.filter(person__username=username).first() or sets.order_by("-signed_in_at").first()
    return own.person_id if own else None


def live(connection: Connection) -> HeldToken | None:
    """The token of a shared connection, if it needs no renewal; ``None``: ask :func:`hold`.

    One query and no request.
    """
    tokens = TokenSet.objects.filter(connection=connection, person=None).first()
    now = timezone.now()
    if (
        tokens is None
        or lifetimes.is_over(tokens.ends, now)
        or (is_due(tokens, now) and not tokens.refused)
    ):
        return None
    return _to_send(tokens)


# So soon after a renewal another one would help nobody (common practice, no source).
_FRESH = timedelta(seconds=10)


def is_fresh(connection: Connection) -> bool:
    """Whether the token of a shared connection has just been obtained."""
    return TokenSet.objects.filter(
        connection=connection, person=None, obtained__gt=timezone.now() - _FRESH
    ).exists()


def hold(
    connection: Connection,
    transport: Transport,
    force: bool = False,
    newer_than: int | None = None,
    person: int | None = None,
) -> tuple[HeldToken, tuple[Exchange, ...]]:
    """A live token of a connection, of a person where each has their own.

    Renewals of one token set never overlap, for any caller.

    ``force`` asks for one that is newer than the generation the caller knows (``newer_than``;
    by default the one that stands now). Raises :class:`NoToken`, :class:`TransportError`.
    """
    seen = (
        newer_than
        or TokenSet.objects.filter(connection=connection, person=person)
        .values_list("generation", flat=True)
        .first()
    )
    give_up = time.monotonic() + LEASE.total_seconds() * 2
    while True:
        now = timezone.now()
        with transaction.atomic():
            tokens = (
                TokenSet.objects.select_for_update()
                .filter(connection=connection, person=person)
                .first()
            )
            if tokens is None and connection.scheme == CODE:
                nobody = (
                    "Nobody has connected an account yet."
                    if connection.individual
                    else "Nobody has signed in yet."
                )
                raise NoToken(Failure("token", "no_token", CauseClass.CREDENTIAL, nobody))
            over = tokens is None or lifetimes.is_over(tokens.ends, now)
            if tokens is not None:
                # Somebody else renewed while we waited: that token is as good as one of our own.
                if tokens.generation != seen and not over:
                    return _to_send(tokens, renewed=True), ()
                renewable = connection.scheme != CODE or tokens.refresh is not None
                if (
                    not over
                    and not force
                    and (not is_due(tokens, now) or not renewable or tokens.refused)
                ):
                    return _to_send(tokens), ()
                if tokens.refused:
                    # Showing a dead refresh token again and again looks like theft to the provider;
                    # only signing in helps.
                    raise NoToken(
                        Failure(
                            "token",
                            "invalid_grant",
                            CauseClass.CREDENTIAL,
                            f"Renewal was refused before: {tokens.refused}",
                        )
                    )
                if not renewable:
                    raise NoToken(
                        Failure(
                            "token",
                            "invalid_grant",
                            CauseClass.CREDENTIAL,
                            (
                                "The access token has expired, and there is no refresh token to "
                                "renew it."
                            ),
                        )
                    )
                busy = _is_leased(tokens, now)
                if not busy:
                    tokens.lease, tokens.lease_until = owner.sign(), now + LEASE
                    tokens.save(update_fields=["lease", "lease_until"])
                elif not over and not force:
                    return _to_send(tokens), ()
            else:
                busy = False
        if not busy:
            return _renew(connection, tokens, transport)
        if time.monotonic() > give_up:
            raise NoToken(
                Failure(
                    "token",
                    "busy",
                    CauseClass.UNKNOWN,
                    "Another renewal of this connection did not come to an end.",
                )
            )
        time.sleep(_WAIT_STEP)


def is_being_renewed(connection: Connection, force: bool = False) -> bool:
    """Whether :func:`hold` would wait for somebody else who renews the shared token now; ``force``
    as there. One query.
    """
    tokens, now = (
        TokenSet.objects.filter(connection=connection, person=None).first(),
        timezone.now(),
    )
    return (
        tokens is not None
        and _is_leased(tokens, now)
        and (force or lifetimes.is_over(tokens.ends, now))
    )


def _is_leased(tokens: TokenSet, now: datetime) -> bool:
    """Whether somebody renews now.

    One that is certainly alive may be saving what it won, for as long as the database refuses.
    """
    if not tokens.lease or tokens.lease_until is None or owner.is_gone(tokens.lease):
        return False
    return now < tokens.lease_until + (_SAVING if owner.is_alive(tokens.lease) else timedelta())


def _renew(
    connection: Connection, tokens: TokenSet | None, transport: Transport
) -> tuple[HeldToken, tuple[Exchange, ...]]:
    """Ask for new tokens; the lease, if there is a token set, is ours, and given back whatever
    happens but a new token.
    """
    asked_at = timezone.now()
    client, endpoint = client_of(connection), connection.values["token_endpoint"]
    scopes, refused = frozenset(connection.scopes), ""
    try:
        if tokens is not None and (newer := _newer(connection, tokens)) is not None:
            return _to_send(newer, renewed=True), ()
        request = _renewal_request(connection, tokens, client, endpoint, scopes, asked_at)
        told = oauth.ask(transport, "token", request, asked_at)
        if told.reading.ok:
            saved = save_new(
                connection,
                told.reading,
                asked_at,
                signed_in=connection.scheme != CODE,
                asked_scopes=scopes,
                person=tokens.person_id if tokens else None,
                after=tokens.generation if tokens else 0,
            )
            return _to_send(saved, renewed=True), (told.exchange,)
        failure = oauth.failure_of(told.reading, "token", told.exchange.status)
        if (
            tokens is not None
            and connection.scheme == CODE
            and told.reading.error == "invalid_grant"
        ):
            refused = told.reading.description or "the refresh token is no longer good."
    except Exception:
        _give_lease_back(connection, tokens)
        raise
    _give_lease_back(connection, tokens, refused)
    if refused and tokens is not None and not lifetimes.is_over(tokens.ends, asked_at):
        log.warning("renewal refused, access token still serves", connection=connection.ref)
    raise NoToken(failure, (told.exchange,))


def _newer(connection: Connection, tokens: TokenSet) -> TokenSet | None:
    """What another program was given and saved since these were read, or could not save yet;
    ``None``: nothing.

    A note goes only after what it holds was saved, so where none is left the row says whether there
    was one.
    """
    won.take_up(_about(connection, tokens.person_id))
    return TokenSet.objects.filter(pk=tokens.pk).exclude(generation=tokens.generation).first()


def _renewal_request(
    connection: Connection,
    tokens: TokenSet | None,
    client: oauth2.Client,
    endpoint: str,
    scopes: frozenset[str],
    now: datetime,
) -> oauth2.Request:
    """What to ask the token endpoint. Raises :class:`NoToken`."""
    if connection.scheme == CODE:
        assert tokens is not None
        old = (
            tokens.open_access().reveal()
            if _settings(connection).get("renews_with") == "access"
            else ""
        )
        return oauth2.refresh_request(endpoint, client, tokens.open_refresh().reveal(), old)
    if connection.scheme == JWT:
        return oauth2.assertion_request(endpoint, _assertion(connection, now), scopes)
    return oauth2.client_credentials_request(endpoint, client, scopes)


def request_for(connection: Connection, now: datetime) -> oauth2.Request:
    """What asks for a token by the client's own right, without any that is held.

    Raises :class:`NoToken`.
    """
    return _renewal_request(
        connection,
        None,
        client_of(connection),
        connection.values.get("token_endpoint", ""),
        frozenset(connection.scopes),
        now,
    )


def _settings(connection: Connection) -> Mapping[str, str]:
    scheme = connection.deployment.application.read_profile().scheme(connection.scheme)
    return scheme.settings if scheme else {}


def _assertion(connection: Connection, now: datetime) -> str:
    """A signed assertion, good for two minutes and for one use (RFC 7523 §3).

    Raises :class:`NoToken`.
    """
    values, held = connection.values, connection.secrets().get("private_key")
    try:
        if held is None:
            raise keys.BadKey("The private key has not been put in.")
        private = keys.open_own(held.open().reveal().encode("utf-8"))
        leaf = reading.read(values.get("certificate", "").encode("utf-8")).leaf()
        thumbprint = facts.of_certificate(leaf).x5t_s256 if leaf else ""
        client_id = values.get("client_id", "")
        return jwt.assertion(
            private,
            client_id,
            values.get("account") or client_id,
            values.get("audience", ""),
            now,
            str(uuid.uuid4()),
            thumbprint=thumbprint,
        )
    except ValueError as error:
        raise NoToken(
            Failure(
                "setting",
                "not_complete",
                CauseClass.CREDENTIAL,
                f"The assertion cannot be signed: {error}",
            )
        ) from error


def _give_lease_back(connection: Connection, tokens: TokenSet | None, refused: str = "") -> None:
    """Let others renew again; where the provider refused, note that nobody should, in the journal
    too.
    """
    if tokens is None:
        return
    changes: dict[str, object] = {"lease": "", "lease_until": None}
    if refused:
        changes["refused"] = refused[:300]

    def give_back() -> None:
        with transaction.atomic():
            if (
                TokenSet.objects.filter(pk=tokens.pk, lease=tokens.lease).update(**changes)
                and refused
            ):
                write(
                    RENEWAL, "was refused a renewal", "connection", connection.ref, {"why": refused}
                )

    won.until_saved(give_back, _about(connection, tokens.person_id))


def drop(connection: Connection) -> None:
    """Forget every token of a connection, set aside ones too: they are of a client or an account
    that it is no more.

    Part of the surrounding transaction. The provider is not asked to end them: :func:`revoke` does
    that.
    """
    TokenSet.objects.filter(connection=connection).delete()
    SetAside.objects.filter(connection=connection).delete()


def end(by: Actor, connection: Connection, did: str, *, shared: bool = False) -> None:
    """Forget the tokens of a connection, set aside ones too, as part of the surrounding
    transaction; once that is over the provider is asked to end them, and the journal says under
    ``did`` what it said. ``shared``: only those that are held and no person's.

    Anyone who waits for what the provider says asks before the transaction (:func:`revoke`).
    """
    # As it stands now, and complete: by then it may be gone, or be another's.
    rows = Connection.objects.select_related(
        "deployment__application", "deployment__environment", "client"
    )
    stands = rows.prefetch_related("held_secrets__credential", "token_sets").get(pk=connection.pk)
    sets = TokenSet.objects.filter(connection=connection)
    sets = sets.filter(person=None) if shared else sets
    held = [_opened(set_) for set_ in sets]
    sets.delete()
    if not shared:
        aside = SetAside.objects.filter(connection=connection)
        held += [_opened(set_aside) for set_aside in aside]
        aside.delete()
    if held:
        transaction.on_commit(lambda: _ended(by, stands, held, did), robust=True)


def _opened(row: TokenSet | SetAside) -> tuple[Secret, Secret] | None:
    """Access and refresh token; ``None``: the safe cannot open them."""
    try:
        if isinstance(row, TokenSet):
            return row.open_access(), row.open_refresh()
        kept = row.open_tokens()
    except safe.CannotOpen:
        return None
    return Secret(str(kept.get("access_token", ""))), Secret(str(kept.get("refresh_token") or ""))


def _ended(
    by: Actor, connection: Connection, held: list[tuple[Secret, Secret] | None], did: str
) -> None:
    for token_set in held:
        ended = "no, the safe cannot open them"
        if token_set is not None:
            ended = revoke_these(connection, token_set[0].reveal(), token_set[1].reveal())
        write(by, did, "connection", connection.ref, {"tokens revoked there": ended})


def revoke(connection: Connection, person: int | None = None, *, shared: bool = False) -> str:
    """Ask the provider to end the tokens of a connection (RFC 7009), or those of one person;
    answers in words whether it did.

    ``shared``: only those that are no person's.
    """
    rows = TokenSet.objects.filter(connection=connection)
    sets = list(rows.filter(person=person) if person or shared else rows)
    if not sets:
        return "none held"
    said = [
        revoke_these(connection, set_.open_access().reveal(), set_.open_refresh().reveal())
        for set_ in sets
    ]
    return next((ended for ended in said if ended != "yes"), "yes")


def revoke_these(connection: Connection, access: str, refresh: str) -> str:
    """Ask the provider to end tokens; returns in words whether it did.

    Both are named: that the end of a refresh token ends the access tokens got with it is only
    recommended (RFC 7009 §2.1).
    """
    endpoint = published(
        connection.deployment, connection.client, "revocation_endpoint", connection.slots
    )
    if not endpoint:
        return "no, it publishes no address for that"
    client, refused = client_of(connection), ""
    try:
        with destinations.transport_of(connection, 10.0) as transport:
            for token, hint in ((refresh, "refresh_token"), (access, "access_token")):
                if not token:
                    continue
                told = oauth.ask(
                    transport,
                    "revocation",
                    oauth2.revocation_request(endpoint, client, token, hint),
                    timezone.now(),
                )
                if not told.reading.ok:
                    refused = refused or str(told.reading.error or told.exchange.status)
    except TransportError as error:
        return f"no, it could not be reached: {error.failure.code}"
    return f"no, it answered {refused}" if refused else "yes"
