"""Tokens of the house authority: codes, access and refresh tokens given, looked at, revoked,
cleared away.
"""

from __future__ import annotations

import secrets
from collections.abc import Mapping
from datetime import datetime, timedelta
from typing import Any

from django.db import transaction
from django.utils import timezone

from neatlatch.core import house_key
from neatlatch.core.authority import asking, granting, status_list, telling
from neatlatch.core.authority.refusing import RequestRefused, with_query
from neatlatch.core.scopes import joined
from neatlatch.desk.authority.records.house.models import (
    Access,
    Code,
    GoneAccess,
    Grant,
    Refresh,
    Waiting,
)
from neatlatch.desk.estate.records.applications.models import Environment
from neatlatch.desk.estate.records.clients.models import Client, Kind, ResourceServer
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.ground.common.actors import HOUSE, Actor, Program
from neatlatch.desk.ground.common.problems import Problem
from neatlatch.desk.ground.journal.services import write
from neatlatch.desk.ground.people.models import Person

from . import delegated, issuing, signing

CODE_LIFE, REFRESH_LIFE, ANSWER_WITHIN = (
    timedelta(seconds=60),
    timedelta(days=30),
    timedelta(minutes=10),
)
LONGEST_ACCESS = int(signing.LONGEST_TOKEN.total_seconds())
# So many tokens share a status list: two kilobytes of bits.
BLOCK = 16384
STATUS_LIFE = 5


def life(client: Client) -> int:
    """Seconds that an access token lives: as the application's profile says, at most an hour."""
    return max(
        30,
        min(LONGEST_ACCESS, client.deployment.application.read_profile().limits.token_life or 900),
    )


# Asking a person


def put_before(environment: Environment, params: Mapping[str, str]) -> Waiting:
    """Judge an authorization request and keep it for a person to answer.

    Raises :class:`refusing.SentBack`; a fatal one is kept with its reason.
    """
    now = timezone.now()
    Waiting.objects.filter(ends__lt=now - timedelta(hours=1)).delete()
    if params.get("client_id") == delegated.COMMAND_LINE:
        delegated.command_line(environment)
    client = (
        Client.objects.select_related("deployment__application", "deployment__environment")
        .exclude(kind=Kind.RESOURCE_SERVER)
        .filter(
            house=True, deployment__environment=environment, client_id=params.get("client_id", "")
        )
        .first()
    )
    try:
        asked = asking.judge(params, issuing.registered(client) if client else None)
    except RequestRefused as fatal:
        return Waiting.objects.create(
            client=client, refused=fatal.says[:600], ends=now + ANSWER_WITHIN
        )
    return Waiting.objects.create(
        client=client,
        redirect_uri=asked.redirect_uri,
        redirect_given=asked.redirect_given,
        scopes=sorted(asked.scopes),
        challenge=asked.challenge,
        state=asked.state,
        ends=now + ANSWER_WITHIN,
    )


@transaction.atomic
def answer(by: Person, waiting: Waiting, allow: bool) -> str:
    """A person allows the client, or not.

    Returns the address to go on to. Raises :class:`Problem` for one that is over.
    """
    waiting = (
        Waiting.objects.select_for_update()
        .select_related("client__deployment__application", "client__deployment__environment")
        .get(pk=waiting.pk)
    )
    now = timezone.now()
    if waiting.answered or waiting.refused or waiting.client is None or now >= waiting.ends:
        raise Problem(
            410,
            "This request is over.",
            "It was answered, or ten minutes went by. Begin again in the application.",
            code="authorization-request-over",
        )
    waiting.answered = now
    waiting.save(update_fields=["answered"])
    client, name = waiting.client, issuing.issuer(waiting.client.deployment.environment)
    if not allow:
        write(by, "refused", "client", client.client_id, {"scopes": waiting.scopes})
        return with_query(
            waiting.redirect_uri,
            {
                "error": "access_denied",
                "error_description": "The person did not allow it",
                "state": waiting.state,
                "iss": name,
            },
        )
    grant = Grant.objects.create(
        client=client,
        person=by,
        scopes=waiting.scopes,
        signed_in_at=by.last_login or now,
        begun=now,
        log_in=by.get_session_auth_hash(),
    )
    value = secrets.token_urlsafe(32)
    Code.objects.create(
        digest=house_key.digest(value),
        grant=grant,
        redirect_uri=waiting.redirect_uri,
        redirect_given=waiting.redirect_given,
        challenge=waiting.challenge,
        ends=now + CODE_LIFE,
    )
    write(by, "allowed", "client", client.client_id, {"scopes": waiting.scopes})
    return with_query(waiting.redirect_uri, {"code": value, "state": waiting.state, "iss": name})


# Giving


def give(
    client: Client, credential: Credential | None, params: Mapping[str, str]
) -> dict[str, Any]:
    """Answer a token request of a client that has signed in (RFC 6749 §4.1.3, §4.4.2, §6).

    Raises :class:`RequestRefused`.
    """
    grant_type = params.get("grant_type")
    known, now = issuing.registered(client), timezone.now()
    if grant_type not in telling.GRANTS:
        raise RequestRefused(
            "unsupported_grant_type" if grant_type else "invalid_request",
            "" if grant_type else "grant_type is required",
        )
    if grant_type not in known.grants:
        raise RequestRefused(
            "unauthorized_client",
            f"The grant {grant_type} is not switched on for this client",
            logged="grant not switched on",
        )
    asking.check_resource(params, known)
    if grant_type == "client_credentials":
        if client.public:
            raise RequestRefused(
                "unauthorized_client", "A public client cannot act for itself (RFC 6749 §4.4)"
            )
        with transaction.atomic():
            return _answer(
                client, credential, asking.choose_scopes(params.get("scope"), known), None, now
            )
    try:
        with transaction.atomic():
            if grant_type == "authorization_code":
                grant, scopes = _redeem(client, params, now)
            else:
                grant, scopes = _renew(client, params, now)
            return _answer(client, credential, scopes, grant, now)
    except granting.GrantReused:
        _end_family(params, grant_type, now)
        raise


def _redeem(
    client: Client, params: Mapping[str, str], now: datetime
) -> tuple[Grant, frozenset[str]]:
    kept = (
        Code.objects.select_for_update()
        .select_related("grant__client__deployment__application", "grant__person")
        .filter(digest=house_key.digest(params.get("code", "")))
        .first()
    )
    code = (
        granting.Code(
            kept.grant.client.client_id,
            kept.redirect_uri,
            kept.redirect_given,
            kept.challenge,
            kept.ends,
            kept.used is not None,
            kept.grant.revoked is not None,
        )
        if kept
        else None
    )
    granting.redeem(code, client.client_id, params, now)
    assert kept is not None
    Code.objects.filter(pk=kept.pk).update(used=now)
    return _standing(kept.grant), frozenset(kept.grant.scopes)


def _renew(
    client: Client, params: Mapping[str, str], now: datetime
) -> tuple[Grant, frozenset[str]]:
    kept = (
        Refresh.objects.select_for_update()
        .select_related("grant__client__deployment__application", "grant__person")
        .filter(digest=house_key.digest(params.get("refresh_token", "")))
        .first()
    )
    refresh = (
        granting.Refresh(
            kept.grant.client.client_id,
            kept.ends,
            kept.used is not None,
            kept.grant.revoked is not None,
        )
        if kept
        else None
    )
    granting.renew(refresh, client.client_id, now)
    assert kept is not None
    grant = _standing(kept.grant)
    scopes = asking.choose_scopes(
        params.get("scope"), issuing.registered(client), frozenset(grant.scopes)
    )
    Refresh.objects.filter(pk=kept.pk).update(used=now)
    return grant, scopes


def _standing(grant: Grant) -> Grant:
    """The grant, unless the person who gave it has lost their access; one to call our own API ends
    with their log-in.
    """
    own = grant.client.deployment.application.key == issuing.OWN_KEY
    if not grant.person.is_active or (own and not grant.holds):
        raise RequestRefused(
            "invalid_grant",
            "It is not known, has expired, or was used",
            logged="grant of somebody who left",
        )
    return grant


def _end_family(params: Mapping[str, str], grant_type: str, now: datetime) -> None:
    """A code or refresh token came twice: the whole family ends, by a transaction of its own (RFC
    9700 §4.14.2).
    """
    model, value = (
        (Code, params.get("code", ""))
        if grant_type == "authorization_code"
        else (Refresh, params.get("refresh_token", ""))
    )
    with transaction.atomic():
        kept = model.objects.select_related("grant__client", "grant__person").get(
            digest=house_key.digest(value)
        )
        end_grant(
            HOUSE,
            kept.grant,
            f"{'an old code' if model is Code else 'an old refresh token'} was used again",
            now,
        )


def end_grant(by: Actor, grant: Grant, why: str, now: datetime) -> int:
    """Revoke all that came of a grant, as part of the surrounding transaction.

    Returns how many living tokens ended.
    """
    Grant.objects.filter(pk=grant.pk, revoked=None).update(revoked=now, why=why[:200])
    ended = Access.objects.filter(grant=grant, revoked=None, ends__gt=now).update(revoked=now)
    write(
        by,
        "ended what was allowed to",
        "client",
        grant.client.client_id,
        {"why": why, "person": grant.person.username, "tokens": ended},
    )
    return ended


def end_those_of(by: Actor, person: Person, why: str, now: datetime) -> int:
    """Revoke all that came of a person's grants, as part of the surrounding transaction: for one
    who leaves, or may not log in any more. Returns how many grants. Receivers that check by
    themselves learn of it from the status lists.
    """
    found = Grant.objects.select_related("client", "person").filter(person=person, revoked=None)
    for grant in found:
        end_grant(by, grant, why, now)
    return len(found)


def _answer(
    client: Client,
    credential: Credential | None,
    scopes: frozenset[str],
    grant: Grant | None,
    now: datetime,
) -> dict[str, Any]:
    """Make the tokens (RFC 6749 §5.1), as part of the surrounding transaction."""
    environment, seconds = client.deployment.environment, life(client)
    row = Access(
        jti=secrets.token_hex(16),
        environment=environment,
        client=client,
        grant=grant,
        credential=credential,
        scopes=sorted(scopes),
        audience=issuing.audience_of(client.deployment),
        issued=now,
        ends=now + timedelta(seconds=seconds),
    )
    row.save(force_insert=True)
    place = (f"{issuing.issuer(environment)}/status/{row.pk // BLOCK}", row.pk % BLOCK)
    value = signing.sign(environment, "at+jwt", telling.claims(_plain(row), place), now)
    Access.objects.filter(pk=row.pk).update(digest=house_key.digest(value))
    told: dict[str, Any] = {
        "access_token": value,
        "token_type": "Bearer",
        "expires_in": seconds,
        "scope": joined(scopes),
    }
    if grant is not None and "refresh_token" in client.grants:
        told["refresh_token"] = secrets.token_urlsafe(32)
        Refresh.objects.create(
            digest=house_key.digest(told["refresh_token"]),
            grant=grant,
            made=now,
            ends=now + REFRESH_LIFE,
        )
    return told


def _plain(row: Access) -> telling.AccessToken:
    grant = row.grant
    subject = grant.person.username if grant else row.client.client_id
    return telling.AccessToken(
        issuing.issuer(row.environment),
        row.client.client_id,
        subject,
        row.audience,
        frozenset(row.scopes),
        int(row.issued.timestamp()),
        int(row.ends.timestamp()),
        row.jti,
        int(grant.signed_in_at.timestamp()) if grant else None,
        grant.person.username if grant else "",
    )


# Looking at them, and revoking


def introspect(
    environment: Environment, asker: Client, token: str, address: str = ""
) -> dict[str, Any]:
    """What a token is good for, to the application that was shown it (RFC 7662 §2.2).

    Anything that is not good for it is inactive, whatever the reason; the reason is logged.
    """
    now = timezone.now()
    try:
        if token.startswith(("nlk_", "nls_")) or token.count(".") != 2:
            return _introspect_key(environment, asker, token, now, address)
        return _introspect_access(environment, asker, token, now)
    except RequestRefused as refused:
        issuing.keep_rejected(
            environment,
            "introspect",
            refused.logged,
            issuing.client_of(refused),
            asker.name,
            address,
        )
        return dict(telling.INACTIVE)


def _introspect_access(
    environment: Environment, asker: Client, token: str, now: datetime
) -> dict[str, Any]:
    row = (
        Access.objects.select_related("client", "environment", "grant__person")
        .filter(digest=house_key.digest(token), environment=environment)
        .first()
    )
    if row is None:
        raise RequestRefused("invalid_token", logged="token unknown")
    # A client may ask about its own tokens: whose they are, and which scopes were granted.
    entitled = (
        row.audience == issuing.audience_of(asker.deployment)
        if isinstance(asker, ResourceServer)
        else row.client_id == asker.pk
    )
    why = (
        "token revoked"
        if row.revoked
        else "token ended"
        if row.ends <= now
        else "token of somebody else"
        if not entitled
        else "token of somebody who left"
        if row.grant and not row.grant.person.is_active
        else ""
    )
    if why:
        raise issuing.of_client(RequestRefused("invalid_token", logged=why), row.client)
    return telling.introspection(_plain(row))


def _introspect_key(
    environment: Environment, asker: Client, token: str, now: datetime, address: str
) -> dict[str, Any]:
    key = issuing.find_key(environment, token, now)
    client = key.client
    assert client is not None
    if not isinstance(asker, ResourceServer) or client.deployment_id != asker.deployment_id:
        raise issuing.of_client(
            RequestRefused("invalid_token", logged="key for another application"), client
        )
    issuing.record_use(key, address, now)
    told = telling.AccessToken(
        issuing.issuer(environment),
        client.client_id,
        client.client_id,
        issuing.audience_of(client.deployment),
        issuing.registered(client).allowed,
        int(key.issued.timestamp()),
        int(key.ends.timestamp()) if key.ends else 0,
        str(key.pk),
    )
    more = {"allowed_addresses": client.allow_list} if client.allow_list else {}
    return (
        telling.introspection(told)
        | more
        | ({"calls_per_second": client.pace} if client.pace else {})
    )


@transaction.atomic
def revoke_shown(client: Client, token: str) -> None:
    """A client gives a token back (RFC 7009 §2.1): a refresh token takes its whole family with it.

    One that is unknown, or another's, is passed over (§2.2).
    """
    now, digest = timezone.now(), house_key.digest(token)
    refresh = (
        Refresh.objects.select_related("grant__client", "grant__person")
        .filter(digest=digest, grant__client=client)
        .first()
    )
    if refresh is not None:
        end_grant(Program(client.client_id), refresh.grant, "given back by the client", now)
    elif Access.objects.filter(digest=digest, client=client, revoked=None).update(revoked=now):
        write(Program(client.client_id), "revoked a token", "client", client.client_id)


def statuses(environment: Environment, block: int) -> str:
    """A status list token: which access tokens of a block were revoked.

    Raises :class:`RequestRefused` for a block that does not exist.
    """
    now = timezone.now()
    newest = Access.objects.order_by("-id").values_list("id", flat=True).first() or 0
    newest = max(
        newest, GoneAccess.objects.order_by("-number").values_list("number", flat=True).first() or 0
    )
    if block > newest // BLOCK:
        raise RequestRefused("not_found", status=404)
    first, end = block * BLOCK, (block + 1) * BLOCK
    marked = Access.objects.filter(
        environment=environment, revoked__isnull=False, id__gte=first, id__lt=end
    )
    gone = GoneAccess.objects.filter(environment=environment, number__gte=first, number__lt=end)
    revoked = [*marked.values_list("id", flat=True), *gone.values_list("number", flat=True)]
    address = f"{issuing.issuer(environment)}/status/{block}"
    return signing.sign(
        environment,
        status_list.TYPE,
        status_list.claims(
            address,
            int(now.timestamp()),
            STATUS_LIFE,
            BLOCK,
            (identity % BLOCK for identity in revoked),
        ),
        now,
    )


def clear_ended(now: datetime) -> int:
    """Clear away what ended a day ago: tokens, codes, requests.

    Returns how many. A used refresh token stays as long as it would have lived, so that its reuse
    is seen.
    """
    old = now - timedelta(days=1)
    count = (
        Access.objects.filter(ends__lt=old).delete()[0]
        + GoneAccess.objects.filter(ends__lt=old).delete()[0]
    )
    count += (
        Code.objects.filter(ends__lt=old).delete()[0]
        + Waiting.objects.filter(ends__lt=old).delete()[0]
    )
    count += Refresh.objects.filter(ends__lt=old).delete()[0]
    count += Grant.objects.filter(
        begun__lt=old, refresh_tokens=None, access_tokens=None, codes=None
    ).delete()[0]
    return count + signing.clear_gone(now)
