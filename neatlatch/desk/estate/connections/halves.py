"""From rows to the plain values that pins, breaks and tests are worked out from."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import datetime
from functools import lru_cache
from pathlib import Path

from django.conf import settings
from django.db.models import CharField, Prefetch, QuerySet
from django.db.models.expressions import RawSQL

from neatlatch.core import addresses, breaks, pins
from neatlatch.core.authority import telling
from neatlatch.core.certificates.sight import of_pem
from neatlatch.core.health import State
from neatlatch.core.pins import (
    CallerSide,
    CertificateSight,
    Consent,
    Halves,
    Need,
    PersonalAccount,
    Pin,
    ProviderSide,
    SecretFacts,
)
from neatlatch.core.profiles import Profile, fill_slots
from neatlatch.core.schemes import CODE, KINDS, OAUTH2, SIGNING_SECRET, Scheme
from neatlatch.desk.estate.records.applications.models import Deployment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import (
    Account,
    Connection,
    HeldSecret,
    TokenSet,
)
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.workloads.models import Use
from neatlatch.desk.ground.common.fetched import those_of
from neatlatch.desk.ground.people.models import Person


def elsewhere_in_sql(row: str) -> str:
    """Another environment in which the very same secret is held as in a row of
    connections_heldsecret; by its keyed fingerprint, which is indexed.
    """
    return f"""(SELECT e.name FROM credentials_credential own
    JOIN credentials_credential c ON c.fingerprint = own.fingerprint
    JOIN connections_heldsecret h ON h.credential_id = c.id
    JOIN connections_connection n ON n.id = h.connection_id
    JOIN applications_place p ON p.id = n.place_id
    JOIN applications_environment e ON e.id = p.environment_id
    WHERE own.id = {row}.credential_id AND p.environment_id <> (SELECT p2.environment_id
    FROM connections_connection n2
      JOIN applications_place p2 ON p2.id = n2.place_id WHERE n2.id = {row}.connection_id)
    ORDER BY e."order" LIMIT 1)"""


_ELSEWHERE = RawSQL(
    elsewhere_in_sql("connections_heldsecret"), [], output_field=CharField(null=True)
)


def with_everything(rows: QuerySet[Connection]) -> QuerySet[Connection]:
    """Connections with all that pins need, in a constant number of queries.

    Deployments, applications and clients are fetched apart and shared, not joined: thousands of
    connections stand on a few hundred of them.
    """
    return rows.select_related("team").prefetch_related(
        Prefetch("token_sets", TokenSet.objects.select_related("person")),
        Prefetch("accounts", Account.objects.select_related("person")),
        "team__people",
        Prefetch(
            "held_secrets",
            HeldSecret.objects.select_related("credential")
            .defer("credential__value")
            .annotate(elsewhere=_ELSEWHERE),
        ),
        Prefetch(
            "client",
            Client.objects.select_related("deployment__environment").defer("deployment__metadata"),
        ),
        Prefetch("client__credentials", Credential.objects.defer("value")),
        Prefetch("uses", Use.objects.select_related("workload__owner")),
        Prefetch("deployment", Deployment.objects.select_related("environment")),
        "deployment__application",
        Prefetch(
            "deployment__application__deployments",
            Deployment.objects.select_related("environment").defer("metadata"),
        ),
    )


def each(rows: QuerySet[Connection]) -> Iterator[Connection]:
    """Many connections with all that pins need, some hundreds at a time: memory stays bounded, and
    no query grows beyond what the database takes.
    """
    return with_everything(rows).iterator(chunk_size=500)


def _secret(credential: Credential, elsewhere: str = "") -> SecretFacts:
    live = credential.state == Credential.State.ACTIVE
    return SecretFacts(
        credential.fingerprint,
        credential.hint,
        credential.secret_id,
        credential.ends,
        live,
        credential.issued,
        credential.looks_like_id,
        elsewhere,
    )


def _patterns(deployment: Deployment) -> dict[str, str]:
    """The addresses of a deployment that have slots."""
    return {
        key: address
        for key, address in deployment.by_key().items()
        if addresses.placeholders(address)
    }


def provider_addresses(
    deployment: Deployment, slots: dict[str, str], client: Client | None = None
) -> dict[str, str]:
    """The provider's addresses, with the slots that were filled in.

    A client of the house signs in at the house authority.
    """
    found = {key: fill_slots(address, slots) for key, address in deployment.by_key().items()}
    return found | (
        {key: published(deployment, client, key, slots) for key in _OF_ISSUER}
        if client is not None and client.house
        else {}
    )


_OF_ISSUER = ("issuer", "authorization_endpoint", "token_endpoint")


def published(
    deployment: Deployment, client: Client | None, field: str, slots: dict[str, str] | None = None
) -> str:
    """An address of the issuer of the client: the application, or the house authority; empty: it
    has none.
    """
    if client is not None and client.house:
        return str(
            telling.metadata(f"{settings.PUBLIC_URL}/house/{deployment.environment.key}", ()).get(
                field, ""
            )
        )
    return deployment.published(field, slots)


def _provider(connection: Connection, profile: Profile, scheme: Scheme) -> ProviderSide:
    deployment, client = connection.deployment, connection.client
    told = provider_addresses(deployment, connection.slots, client)
    issuer = told.pop("issuer", "")
    administrator = frozenset(scope.name for scope in profile.scopes if scope.administrator)
    if client is None:
        return ProviderSide(
            known=False,
            managed=False,
            environment=deployment.environment.name,
            issuer=issuer,
            addresses=told,
            published=deployment.metadata is not None,
            changed_at=deployment.changed_at,
        )
    # What a person put in on the caller side tells nothing of what the provider holds.
    held: dict[str, tuple[SecretFacts, ...]] = {}
    for credential in those_of(client, "credentials"):
        if credential.source == "registered" and credential.fingerprint:
            held[credential.kind] = (*held.get(credential.kind, ()), _secret(credential))
    unseen = () if client.managed or client.public else (SecretFacts(None, ""),)
    consents = {
        scope: Consent(said["who"], datetime.fromisoformat(said["when"]))
        for scope, said in client.consents.items()
    }
    return ProviderSide(
        known=True,
        managed=client.managed,
        environment=client.deployment.environment.name,
        issuer=issuer,
        addresses=told,
        published=deployment.metadata is not None,
        client_id=client.client_id,
        public=client.public,
        redirect_uris=tuple(client.redirect_uris),
        scopes=frozenset(client.scopes),
        grants=frozenset(client.grants),
        sign_in_methods=frozenset({client.sign_in_method}),
        secrets=held.get("client_secret") or unseen,
        consents=consents,
        administrator_scopes=administrator,
        vendor_shared=client.vendor_shared,
        changed_at=max(client.changed_at, deployment.changed_at),
        facts=client.facts,
        held={secret.key: held.get(secret.key) or unseen for secret in scheme.secrets()},
        account=client.account,
        account_kind=client.account_kind,
        rights=frozenset(client.rights),
        rights_changed_at=client.rights_changed_at,
        switches=dict.fromkeys(client.switches, True),
        allow_list=tuple(client.allow_list),
    )


@lru_cache(maxsize=1)
def _trusted(file: str) -> str:
    return Path(file).read_text() if file and Path(file).exists() else ""


@lru_cache(maxsize=4096)
def _sight(pem: str, public_key: str, trusted: str, at: datetime) -> CertificateSight | None:
    return of_pem(pem, public_key, trusted, at)


def certificate_sight(connection: Connection, now: datetime) -> CertificateSight | None:
    """Our client certificate, judged; ``None``: there is none.

    Judged to five minutes, so that a page of many stays quick.
    """
    pem = connection.values.get("certificate", "")
    if not pem:
        return None
    key = connection.secrets().get("private_key")
    return _sight(
        pem,
        key.public_key if key else "",
        _trusted(settings.TRUST),
        now.replace(minute=now.minute - now.minute % 5, second=0, microsecond=0),
    )


def _caller(connection: Connection, scheme: Scheme, now: datetime) -> CallerSide:
    environment, values, secrets = (
        connection.deployment.environment,
        connection.values,
        connection.secrets(),
    )
    tokens = connection.tokens
    person = tokens if connection.scheme == CODE else None
    return CallerSide(
        scheme=connection.scheme,
        environment=environment.name,
        environment_is_production=environment.production,
        environment_wants_service_account=environment.wants_service_account,
        grant=scheme.grant,
        issuer=values.get("issuer", ""),
        client_id=values.get("client_id", ""),
        secret=_secret(secrets["client_secret"]) if "client_secret" in secrets else None,
        sign_in_method=values.get("client_sign_in", ""),
        redirect_uri=values.get("redirect_uri", ""),
        scopes=frozenset(connection.scopes),
        account=values.get("account", ""),
        parts=scheme,
        values=values,
        slots=connection.slots,
        secrets={
            held_secret.key: _secret(
                held_secret.credential, getattr(held_secret, "elsewhere", None) or ""
            )
            for held_secret in those_of(connection, "held_secrets")
            if held_secret.credential.fingerprint
        },
        certificate=certificate_sight(connection, now) if "certificate" in values else None,
        outgoing=tuple(settings.OUTGOING),
        granted=granted(connection),
        signed_in_as=person.account if person else "",
        signed_in_at=person.signed_in_at if person else None,
        changed_at=connection.changed_at,
        individual=individual(connection),
    )


def granted(connection: Connection) -> frozenset[str] | None:
    """What every token that is held was granted."""
    sets = [
        frozenset(token_set.granted)
        for token_set in those_of(connection, "token_sets")
        if (token_set.person_id is not None) == connection.individual
    ]
    return frozenset.intersection(*sets) if sets else None


def expected_people(connection: Connection) -> list[Person]:
    """Who should connect an account of their own: the team's people and anyone who was asked,
    without those who left.
    """
    team = list(connection.team.people.all()) if connection.team else []
    asked = [account.person for account in those_of(connection, "accounts")]
    found = {person.pk: person for person in (*team, *asked) if person.left is None}
    return sorted(found.values(), key=lambda person: person.shown_name)


def individual(connection: Connection) -> tuple[PersonalAccount, ...] | None:
    """Everybody who should connect an account, or has; ``None``: the account is shared."""
    if not connection.individual:
        return None
    sets = {
        token_set.person_id: token_set
        for token_set in those_of(connection, "token_sets")
        if token_set.person is not None
    }
    wanted = {account.person_id: account.expected for account in those_of(connection, "accounts")}
    people = {
        expected_person.pk: expected_person for expected_person in expected_people(connection)
    } | {set_.person_id: set_.person for set_ in sets.values() if set_.person}
    found = []
    for one in sorted(people.values(), key=lambda person: person.shown_name):
        tokens = sets.get(one.pk)
        if tokens is None:
            found.append(
                PersonalAccount(one.shown_name, wanted.get(one.pk, ""), left=one.left is not None)
            )
            continue
        renews = tokens.refresh is not None and not tokens.refused
        found.append(
            PersonalAccount(
                one.shown_name,
                wanted.get(one.pk, ""),
                tokens.account,
                tokens.signed_in_at,
                tokens.ends,
                renews,
                one.left is not None,
            )
        )
    return tuple(found)


def halves(connection: Connection, now: datetime, profile: Profile | None = None) -> Halves:
    """Both halves of a connection that was fetched by :func:`with_everything`; ``profile`` is one
    to try in place of the application's own.
    """
    application = connection.deployment.application
    profile = profile or application.read_profile()
    scheme = profile.scheme_for(connection.scheme)
    needs = []
    for use in those_of(connection, "uses"):
        for name in use.operations:
            operation = profile.operation(name)
            if operation is not None:
                needs.append(Need(use.name, name, operation.alternatives))
    others = {
        deployment.environment.name: deployment.addresses()
        for deployment in those_of(application, "deployments")
        if deployment.pk != connection.deployment_id
    }
    return Halves(
        provider=_provider(connection, profile, scheme),
        caller=_caller(connection, scheme, now),
        now=now,
        needs=tuple(needs),
        implies=profile.implies,
        roles=tuple(role.name for role in profile.roles) if connection.scheme not in OAUTH2 else (),
        roles_label=profile.roles_label,
        patterns=_patterns(connection.deployment),
        proven_at=connection.proven_at,
        secret_taken_at=secret_taken_at(connection),
        other_environments=others,
    )


def lacking(connection: Connection, profile: Profile) -> tuple[str, ...]:
    """What a connection lacks before anybody can try it: values that its way in requires, as people
    read them.
    """
    scheme = profile.scheme(connection.scheme)
    if scheme is None:
        return ("an authentication scheme",)
    held = connection.secrets()
    wanted = (value for value in scheme.all_values() if value.required and value.type != "scopes")
    return tuple(
        value.label
        for value in wanted
        if not (value.key in held if value.secret else connection.values.get(value.key))
    )


def secret_taken_at(connection: Connection) -> datetime | None:
    """When the application last took our secret.

    Where people sign in, a test may show a token that was alive already.
    """
    if connection.scheme != CODE:
        return connection.proven_at
    moments = [
        connection.secret_taken_at,
        *(token_set.obtained for token_set in those_of(connection, "token_sets")),
    ]
    return max((moment for moment in moments if moment is not None), default=None)


def work_out(connection: Connection, now: datetime) -> tuple[Pin, ...]:
    """The pins of a connection."""
    return pins.work_out(halves(connection, now))


def watched(
    connection: Connection, worked_out: tuple[Pin, ...], now: datetime
) -> breaks.BreakFacts:
    """What is known of a connection when asking what breaks next."""
    refused = [
        token_set
        for token_set in those_of(connection, "token_sets")
        if token_set.refused and token_set.person is not None and connection.individual
    ]
    tokens = min(
        refused, key=lambda held_secret: held_secret.ends or now, default=connection.tokens
    )
    sight = certificate_sight(connection, now) if "certificate" in connection.values else None
    # A private key ends with its certificate, which says so better.
    held = [
        secret
        for secret in connection.sent_secrets().values()
        if sight is None or secret.kind != "private_key"
    ]
    ending = [credential for credential in held if credential.ends is not None]
    credential = (
        min(ending, key=lambda held_secret: held_secret.ends or now)
        if ending
        else connection.credential
        if held
        else None
    )
    signing = connection.secrets().get(SIGNING_SECRET)
    return breaks.BreakFacts(
        ref=connection.ref,
        state=State(connection.state),
        pins=worked_out,
        workloads=tuple(use.name for use in those_of(connection, "uses")),
        signs_in_person=connection.scheme == CODE,
        access_ends=tokens.ends if tokens else None,
        has_access=tokens is not None,
        can_renew=tokens is not None and tokens.refresh is not None,
        renewal_refused=tokens.refused if tokens else "",
        whose=tokens.person.shown_name if tokens and tokens.person else "",
        secret_ends=credential.ends if credential else None,
        secret_hint=credential.hint if credential else "",
        secret_words=_words(connection, credential),
        signing_ends=signing.ends if signing else None,
        signing_hint=signing.hint if signing else "",
        certificate_ends=sight.ends if sight else None,
        failing=connection.failing,
    )


def _words(connection: Connection, credential: Credential | None) -> str:
    value = KINDS[connection.scheme].value(credential.kind) if credential else None
    return value.label if value else "Secret"
