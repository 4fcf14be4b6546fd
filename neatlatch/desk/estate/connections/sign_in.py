"""Sending a person to an application to sign in, and taking them back (RFC 6749 §4.1, RFC 7636, RFC
9207).
"""

from __future__ import annotations

import secrets
import uuid
from datetime import datetime, timedelta

from django.db import transaction
from django.utils import timezone

from neatlatch.core import addresses, oauth2, pkce, replies
from neatlatch.core.evidence import MASK
from neatlatch.core.names import other_account
from neatlatch.core.oauth2 import Request
from neatlatch.core.schemes import CODE
from neatlatch.desk.estate.records.connections.models import Account, Connection, SignIn, TokenSet
from neatlatch.desk.ground.common import safe
from neatlatch.desk.ground.common.problems import Problem
from neatlatch.desk.ground.common.transports import transport
from neatlatch.desk.ground.journal.services import write
from neatlatch.desk.ground.people.models import Person
from neatlatch.wire import oauth
from neatlatch.wire.transport import Transport, TransportError

from . import accounts, destinations, set_aside, tokens
from .halves import published

LONGEST = timedelta(minutes=15)


def begin(
    by: Person, connection: Connection, back: str, *, for_tests: bool = False
) -> tuple[SignIn, str]:
    """Begin a sign-in: answers it, and the address to send the person to.

    The request is tried first, as a browser nobody signed in with would send it: where the provider
    would refuse it, the person is told here, on the page they are on. ``back`` is the page to bring
    them back to, a path of our own. ``for_tests``: they sign in as the service account that tests
    use where each person has an account of their own. Raises :class:`Problem`.
    """
    if for_tests and not (connection.individual and connection.tests_as):
        raise Problem(
            409,
            "No service account is named for tests.",
            "Name one under “Whose account” first.",
            code="no-test-account",
        )
    if connection.scheme != CODE:
        raise Problem(
            409,
            "Nobody signs in here.",
            "This connection's client signs in by itself. Test it in place of signing in.",
            code="scheme-has-no-sign-in",
        )
    values = connection.values
    for key, label in (
        ("authorization_endpoint", "authorization endpoint"),
        ("client_id", "client ID"),
        ("redirect_uri", "redirect URI"),
    ):
        if not values.get(key):
            raise Problem(
                409,
                "Sign-in cannot begin yet.",
                f"The {label} is not filled in on the caller side.",
                code="sign-in-not-ready",
            )
    if wrong := addresses.unsound_web_address(values["authorization_endpoint"]):
        raise Problem(
            409,
            "Sign-in cannot begin yet.",
            f"The authorization endpoint cannot be called. {wrong}",
            code="sign-in-not-ready",
        )
    if not back.startswith("/") or back.startswith(("//", "/\\")):
        back = f"/connections/{connection.ref}"
    state, verifier = secrets.token_urlsafe(32), pkce.verifier_from(secrets.token_bytes(32))
    url = oauth2.authorization_url(
        values["authorization_endpoint"],
        values["client_id"],
        values["redirect_uri"],
        frozenset(connection.scopes),
        state,
        pkce.challenge(verifier),
        hint=_expected(by, connection, for_tests),
    )
    with transaction.atomic():
        SignIn.objects.filter(begun__lt=timezone.now() - timedelta(days=30)).delete()
        identity = uuid.uuid4()
        sign_in = SignIn.objects.create(
            id=identity,
            connection=connection,
            person=by,
            state=safe.fingerprint(state),
            verifier=safe.seal(verifier, f"sign_in:{identity}:verifier"),
            redirect_uri=values["redirect_uri"],
            issuer=values.get("issuer", ""),
            back=back[:300],
            for_tests=for_tests,
        )
        write(by, "went to sign in", "connection", connection.ref)
    with transport(10.0) as opened:
        refusal = _would_be_refused(opened, url, values["redirect_uri"])
    if refusal:
        _end(sign_in, "refused", refusal)
        raise Problem(
            409,
            "The application would refuse this sign-in.",
            refusal,
            sign_in=str(sign_in.pk),
            code="sign-in-would-be-refused",
        )
    return sign_in, url


def _expected(by: Person, connection: Connection, for_tests: bool) -> str:
    """The account that should sign in, as far as it is known."""
    if for_tests:
        return connection.tests_as
    if not connection.individual:
        return str(connection.values.get("account", ""))
    noted = Account.objects.filter(connection=connection, person=by).first()
    return noted.expected if noted else ""


def _would_be_refused(transport: Transport, url: str, redirect_uri: str) -> str:
    try:
        answer = transport.send(Request("GET", url, (("Accept", "text/html"),)))
    except TransportError:
        return ""  # a browser may have a route that this machine has not
    failure = oauth.would_take(answer, "", redirect_uri)
    if failure is None:
        return ""
    if failure.code == "no_sign_in_page":
        return f"{failure.detail} Compare the authorization endpoint below."
    if failure.code == "refused_without_return":
        return (
            f"{failure.detail} That happens when client ID or redirect URI is not what they "
            f"have (RFC 6749 §4.1.2.1). Compare both below."
        )
    return (
        f"It answers {failure.code}: "
        f"{failure.detail or replies.AUTHORIZATION_ERRORS.get(failure.code, '')}"
    )


def _end(sign_in: SignIn, outcome: str, says: str) -> SignIn:
    sign_in.ended, sign_in.outcome, sign_in.says = timezone.now(), outcome, says[:600]
    sign_in.save(update_fields=["ended", "outcome", "says"])
    return sign_in


def come_back(person: Person, full_address: str, state: str) -> SignIn | None:
    """Take a person back: check the reply, trade the code, keep the tokens.

    ``None``: no sign-in of theirs has this state.

    Whatever happens is told in ``outcome`` and ``says`` of the sign-in.
    """
    with transaction.atomic():
        sign_in = (
            SignIn.objects.select_for_update()
            .select_related("connection__deployment__application")
            .filter(state=safe.fingerprint(state))
            .first()
        )
        if sign_in is None or sign_in.person_id != person.pk:
            return None
        if sign_in.ended is not None:
            return sign_in
        sign_in.ended = timezone.now()  # a state serves once
        sign_in.save(update_fields=["ended"])
    connection = sign_in.connection
    if timezone.now() - sign_in.begun > LONGEST:
        return _end(
            sign_in, "expired", "This sign-in was begun more than fifteen minutes ago. Begin again."
        )
    published = connection.deployment.read_metadata()
    reply = replies.authorization_reply(
        full_address,
        state,
        sign_in.issuer or None,
        issuer_required=bool(published and published.sends_issuer),
    )
    if not reply.accept:
        return _end(
            sign_in,
            "mismatch",
            (
                f"What came back was dropped: {reply.meaning}. Nothing was kept. Begin again "
                f"from this page."
            ),
        )
    if reply.error:
        return _end(sign_in, "denied", _denied(reply))
    return _trade(person, sign_in, connection, reply.code or "")


def _denied(reply: replies.AuthorizationReply) -> str:
    told = f" It says: {reply.description.rstrip('.')}." if reply.description else ""
    after = " Nothing was kept; what was connected before still is."
    if reply.error == "access_denied":
        return f"The application refused, or the person said no (access_denied).{told}{after}"
    return f"The application answered {reply.error}: {reply.meaning}.{told}{after}"


def _trade(person: Person, sign_in: SignIn, connection: Connection, code: str) -> SignIn:
    verifier = safe.unseal(sign_in.verifier, sign_in.place_of("verifier")).reveal()
    client, asked_at = tokens.client_of(connection), timezone.now()
    request = oauth2.code_request(
        connection.values["token_endpoint"], client, code, sign_in.redirect_uri, verifier
    )
    try:
        transport = destinations.transport_of(connection, 15.0)
    except TransportError as error:
        return _end(
            sign_in,
            "failed",
            f"The person signed in, but their code was not traded. {error.failure.detail}",
        )
    with transport:
        try:
            told = oauth.ask(transport, "token", request, asked_at)
        except TransportError as error:
            return _end(
                sign_in,
                "failed",
                (
                    f"The person signed in, but the token endpoint could not be reached. "
                    f"{error.failure.detail} Begin again when it can."
                ),
            )
        if not told.reading.ok:
            return _end(sign_in, "failed", _trade_refused(told.reading))
        scopes = frozenset(connection.scopes)
        if connection.individual or sign_in.for_tests:
            account = _whose(transport, connection, str(told.reading.fields["access_token"]))
            keep = _for_tests if sign_in.for_tests else _own
            return keep(person, sign_in, connection, told.reading, asked_at, account)
        account = _whose(transport, connection, str(told.reading.fields["access_token"]))
        expected = connection.values.get("account", "")
        if other_account(expected, account):
            set_aside.keep(person, connection, told.reading, account, asked_at)
            return _end(
                sign_in,
                "wrong_account",
                f"{account} signed in, but {expected} was expected. Nothing is changed by "
                f"it: these tokens are set aside until "
                "somebody chooses. Sign in again and pick the other account.",
            )
        saved = tokens.save_new(
            connection, told.reading, asked_at, signed_in=True, asked_scopes=scopes
        )
    with transaction.atomic():
        if account:
            TokenSet.objects.filter(pk=saved.pk).update(account=account[:200])
        write(
            person,
            "signed in",
            "connection",
            connection.ref,
            {"as": account, "scopes": saved.granted},
        )
        ended = _end(sign_in, "signed_in", f"Signed in{f' as {account}' if account else ''}.")
    set_aside.let_go(person, connection)
    return ended


def _own(
    person: Person,
    sign_in: SignIn,
    connection: Connection,
    reading: replies.Reading,
    asked_at: datetime,
    account: str,
) -> SignIn:
    """Keep a person's own tokens, unless the account is not theirs: then they are ended at the
    provider, and what was connected before stays.
    """
    noted = Account.objects.filter(connection=connection, person=person).first()
    expected = noted.expected if noted else ""
    other = accounts.who_has(connection, account, but=person) if account else None
    wrong = ""
    if other_account(expected, account):
        wrong = f"{account} signed in, but your account is {expected}."
    elif other is not None:
        wrong = f"{account} is connected for {other.shown_name} already, so it cannot be yours too."
    if wrong:
        _refuse_wrong(person, connection, reading, account, expected)
        return _end(
            sign_in,
            "wrong_account",
            f"{wrong} Nothing was kept; what was connected before still is. Connect again "
            f"and pick your own account at their "
            "sign-in page; it may be necessary to sign out there first.",
        )
    saved = tokens.save_new(
        connection,
        reading,
        asked_at,
        signed_in=True,
        asked_scopes=frozenset(connection.scopes),
        person=person.pk,
    )
    with transaction.atomic():
        TokenSet.objects.filter(pk=saved.pk).update(account=account[:200])
        Account.objects.get_or_create(
            connection=connection, person=person, defaults={"expected": account[:200]}
        )
        write(
            person,
            "connected an account",
            "connection",
            connection.ref,
            {"as": account, "scopes": saved.granted},
        )
    return _end(
        sign_in, "signed_in", f"Your account{f' {account}' if account else ''} is connected."
    )


def _refuse_wrong(
    person: Person, connection: Connection, reading: replies.Reading, account: str, expected: str
) -> None:
    """End the tokens of a wrong account at the provider, and write that down."""
    access, refresh = (
        str(reading.fields["access_token"]),
        str(reading.fields.get("refresh_token") or ""),
    )
    ended = tokens.revoke_these(connection, access, refresh)
    about = {"as": account, "expected": expected, "tokens revoked there": ended}
    write(person, "connected a wrong account", "connection", connection.ref, about)


def _for_tests(
    person: Person,
    sign_in: SignIn,
    connection: Connection,
    reading: replies.Reading,
    asked_at: datetime,
    account: str,
) -> SignIn:
    """Keep the tokens of the service account for tests, where the provider says that it is that
    account and no person's.
    """
    connection.refresh_from_db(fields=["individual", "tests_as"])
    expected, wrong = connection.tests_as, ""
    if not (connection.individual and expected):
        wrong = "Meanwhile no service account is named for tests any more."
    elif not account:
        wrong = (
            f"The application does not say whose token it gives, so it is not known whether it is "
            f"{expected}."
        )
    elif other_account(expected, account):
        wrong = f"{account} signed in, but tests use {expected}."
    if wrong:
        _refuse_wrong(person, connection, reading, account, expected)
        return _end(
            sign_in, "wrong_account", f"{wrong} Nothing was kept; tests use what they used before."
        )
    saved = tokens.save_new(
        connection, reading, asked_at, signed_in=True, asked_scopes=frozenset(connection.scopes)
    )
    with transaction.atomic():
        TokenSet.objects.filter(pk=saved.pk).update(account=account[:200])
        write(
            person,
            "signed in for tests",
            "connection",
            connection.ref,
            {"as": account, "scopes": saved.granted},
        )
    return _end(sign_in, "signed_in", f"Signed in as {account}. Tests use it from now on.")


def _trade_refused(reading: replies.Reading) -> str:
    told = f" It says: {reading.description.rstrip('.')}." if reading.description else ""
    if reading.error == "invalid_grant":
        return (
            f"The person signed in, but the code was not taken (invalid_grant): it had expired, "
            f"was used before, or the redirect URI is another.{told} Sign in again."
        )
    if reading.error == "invalid_client":
        return (
            f"The person signed in, but the application did not accept our client "
            f"(invalid_client). Compare client ID, secret and client sign-in below.{told}"
        )
    return (
        f"The person signed in, but no token came: {reading.error or 'no error code'}, "
        f"{reading.meaning}.{told}"
    )


def _whose(transport: Transport, connection: Connection, access: str) -> str:
    """Whose token it is, where the provider tells (RFC 7662 ``username``, else ``sub``)."""
    endpoint = published(
        connection.deployment, connection.client, "introspection_endpoint", connection.slots
    )
    if not endpoint:
        return ""
    request = oauth2.introspection_request(endpoint, tokens.client_of(connection), access)
    try:
        told = oauth.ask(transport, "introspection", request, timezone.now())
    except TransportError:
        return ""
    fields = told.reading.fields if told.reading.ok else {}
    account = str(fields.get("username") or fields.get("sub") or "")
    return "" if MASK in account else account
