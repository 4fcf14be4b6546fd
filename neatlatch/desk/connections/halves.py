"""From rows to the plain values that pins, breaks and tests are worked out from."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import datetime

from django.db.models import Prefetch, QuerySet

from neatlatch.core import breaks, pins
from neatlatch.core.health import State
from neatlatch.core.pins import CallerSide, Consent, Halves, Need, Pin, ProviderSide, SecretFacts
from neatlatch.core.profiles import CODE, Profile
from neatlatch.desk.applications.models import Place
from neatlatch.desk.clients.models import Client
from neatlatch.desk.credentials.models import Credential

from .models import Connection


def with_everything(rows: QuerySet[Connection]) -> QuerySet[Connection]:
    """Connections with all that pins need, in a constant number of queries."""
    return rows.select_related(
        "place__application", "place__environment", "client__place__environment", "credential", "tokens"
    ).prefetch_related(
        Prefetch("client__credentials", Credential.objects.defer("value")),
        "users",
        Prefetch("place__application__places", Place.objects.select_related("environment").defer("metadata")),
    )


def _secret(credential: Credential) -> SecretFacts:
    live = credential.state == Credential.State.ACTIVE
    return SecretFacts(credential.fingerprint, credential.hint, credential.secret_id, credential.ends, live, credential.issued)


def _provider(place: Place, client: Client | None, profile: Profile) -> ProviderSide:
    addresses = {"issuer": place.issuer, "authorization_endpoint": place.authorization_endpoint, "token_endpoint": place.token_endpoint,
                 "api_base": place.api_base, "published": place.metadata is not None}  # fmt: skip
    administrator = frozenset(one.name for one in profile.scopes if one.administrator)
    if client is None:
        return ProviderSide(known=False, managed=False, environment=place.environment.name, **addresses, changed_at=place.changed_at)  # type: ignore[arg-type]
    # What a person put in on the caller side tells nothing of what the provider holds.
    held = tuple(_secret(one) for one in client.credentials.all() if one.source == "registered")
    consents = {scope: Consent(said["who"], datetime.fromisoformat(said["when"])) for scope, said in client.consents.items()}
    return ProviderSide(
        known=True,
        managed=client.managed,
        environment=client.place.environment.name,
        **addresses,  # type: ignore[arg-type]
        client_id=client.client_id,
        public=client.public,
        redirect_uris=tuple(client.redirect_uris),
        scopes=frozenset(client.scopes),
        grants=frozenset(client.grants),
        sign_in_methods=frozenset({client.sign_in_method}),
        secrets=held or (() if client.managed or client.public else (SecretFacts(None, ""),)),
        consents=consents,
        administrator_scopes=administrator,
        vendor_shared=client.vendor_shared,
        changed_at=max(client.changed_at, place.changed_at),
    )


def _caller(connection: Connection, profile: Profile) -> CallerSide:
    environment, values = connection.place.environment, connection.values
    scheme = profile.scheme(connection.scheme)
    tokens = getattr(connection, "tokens", None)
    person = tokens if connection.scheme == CODE else None
    return CallerSide(
        scheme=connection.scheme,
        environment=environment.name,
        environment_is_production=environment.production,
        environment_wants_service_account=environment.wants_service_account,
        grant=scheme.grant if scheme else "authorization_code",
        issuer=values.get("issuer", ""),
        authorization_endpoint=values.get("authorization_endpoint", ""),
        token_endpoint=values.get("token_endpoint", ""),
        api_base=values.get("api_base", ""),
        client_id=values.get("client_id", ""),
        secret=_secret(connection.credential) if connection.credential else None,
        sign_in_method=values.get("client_sign_in", ""),
        redirect_uri=values.get("redirect_uri", ""),
        scopes=frozenset(connection.scopes),
        account=values.get("account", ""),
        granted=frozenset(tokens.granted) if tokens else None,
        signed_in_as=person.account if person else "",
        signed_in_at=person.signed_in_at if person else None,
        changed_at=connection.changed_at,
    )


def halves(connection: Connection, now: datetime) -> Halves:
    """Both halves of a connection that was fetched by :func:`with_everything`."""
    application = connection.place.application
    profile = application.read_profile()
    needs = []
    for user in connection.users.all():
        for name in user.operations:
            operation = profile.operation(name)
            if operation is not None:
                needs.append(Need(user.name, name, operation.alternatives))
    others = {one.environment.name: one.addresses() for one in application.places.all() if one.pk != connection.place_id}
    return Halves(
        provider=_provider(connection.place, connection.client, profile),
        caller=_caller(connection, profile),
        now=now,
        needs=tuple(needs),
        implies=profile.implies,
        proven_at=connection.proven_at,
        other_environments=others,
    )


def work_out(connection: Connection, now: datetime) -> tuple[Pin, ...]:
    """The pins of a connection."""
    return pins.work_out(halves(connection, now))


def watched(connection: Connection, worked_out: tuple[Pin, ...], now: datetime) -> breaks.Watched:
    """What is known of a connection when asking what breaks next."""
    tokens = getattr(connection, "tokens", None)
    credential = connection.credential
    return breaks.Watched(
        ref=connection.ref,
        state=State(connection.state),
        pins=worked_out,
        users=tuple(one.name for one in connection.users.all()),
        signs_in_person=connection.scheme == CODE,
        access_ends=tokens.ends if tokens else None,
        has_access=tokens is not None,
        can_renew=tokens is not None and tokens.refresh is not None,
        renewal_refused=tokens.refused if tokens else "",
        secret_ends=credential.ends if credential else None,
        secret_hint=credential.hint if credential else "",
        failing=connection.failing,
    )


def soonest(connections: Iterable[tuple[Connection, tuple[Pin, ...]]], now: datetime) -> list[breaks.Break]:
    """What breaks next, over many connections, soonest first."""
    found = (breaks.next_break(watched(connection, worked_out, now), now) for connection, worked_out in connections)
    return breaks.in_order([one for one in found if one is not None])
