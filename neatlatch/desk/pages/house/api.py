"""Pages of the house authority: its keys, its clients and what they hold, and the question put
before a person.
"""

from __future__ import annotations

from typing import Any
from uuid import UUID

from django.db import transaction
from django.db.models import Count, F, Prefetch, Q, QuerySet, Window
from django.db.models.functions import RowNumber
from django.http import HttpRequest
from django.utils import timezone
from ninja import Router

from neatlatch.core import filter_words
from neatlatch.core.authority import rollover, telling
from neatlatch.core.authority.ceiling import Ceiling
from neatlatch.desk.authority.house import delegated, issuing, rights, signing, tokens
from neatlatch.desk.authority.records.house.models import (
    Access,
    Grant,
    RegistrationRight,
    RejectedRequest,
    SigningKey,
    Waiting,
)
from neatlatch.desk.estate.lookups import find_client, find_deployment, find_environment
from neatlatch.desk.estate.records.applications.models import Deployment, Environment
from neatlatch.desk.estate.records.clients.models import Client, Kind, ResourceServer
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common import filtering, problems
from neatlatch.desk.ground.common.pages import page
from neatlatch.desk.pages.applications.shapes import environment_out
from neatlatch.desk.pages.house.shapes import (
    AcceptingApplications,
    AcceptingOut,
    RegistrationRightOut,
    RejectedRequestOut,
    SecretLife,
    SigningKeyOut,
    TokenLife,
)
from neatlatch.desk.work.credentials import histories

from .shapes import (
    AcceptsIn,
    AllowIn,
    AnotherSecretIn,
    AuthorityOut,
    EndedTokensOut,
    HandoverMade,
    IssuedOut,
    QuestionOut,
    RedirectionOut,
    RegistrationRightIn,
    RegistrationRightMade,
    RevokeIn,
    WhyIn,
)

router = Router(tags=["house authority"])
_MOST_SHOWN = 100
_MOST_REJECTED = 20


def _rejected(rows: Any) -> list[RejectedRequestOut]:
    return [
        RejectedRequestOut(
            at=row.at,
            endpoint=row.endpoint,
            what=row.what,
            client=row.client.client_id if row.client else row.named,
            address=row.address,
        )
        for row in rows
    ]


def _right(registration_right: RegistrationRight) -> RegistrationRightOut:
    return RegistrationRightOut(
        id=registration_right.pk,
        application=registration_right.deployment.application.name,
        hint=registration_right.hint,
        made_by=registration_right.made_by,
        made=registration_right.made,
        ends=registration_right.ends,
        left=registration_right.left,
        scopes=registration_right.ceiling.get("scopes"),
        grants=registration_right.ceiling.get("grants"),
    )


def _authorities(environments: QuerySet[Environment]) -> list[AuthorityOut]:
    """The authority of each of them. Seven queries."""
    now, found = (
        timezone.now(),
        list(
            environments.prefetch_related(
                Prefetch("signing_keys", SigningKey.objects.defer("private"))
            )
        ),
    )

    def counted(rows: QuerySet[Any], by: str) -> dict[Any, int]:
        return dict(rows.order_by().values(by).annotate(many=Count("pk")).values_list(by, "many"))

    accepting = counted(Deployment.objects.filter(house=True), "environment")
    clients = counted(
        Client.objects.filter(house=True).exclude(kind=Kind.RESOURCE_SERVER),
        "deployment__environment",
    )
    tokens_alive = counted(Access.objects.filter(revoked=None, ends__gt=now), "environment")
    newest = RejectedRequest.objects.select_related("client").annotate(
        nth=Window(RowNumber(), partition_by="environment", order_by="-id")
    )
    rejected = list(newest.filter(nth__lte=_MOST_REJECTED, environment__in=found).order_by("-id"))
    rights = RegistrationRight.objects.filter(ends__gt=now, left__gt=0).annotate(
        nth=Window(RowNumber(), partition_by="deployment__environment", order_by="-made")
    )
    lasting = list(
        rights.filter(nth__lte=_MOST_SHOWN, deployment__environment__in=found)
        .select_related("deployment__application")
        .order_by("-made")
    )

    def key(signing_key: SigningKey) -> SigningKeyOut:
        return SigningKeyOut(
            kid=signing_key.kid,
            turn=rollover.turn(signing_key.as_key(), now),
            published_from=signing_key.published_from,
            signs_from=signing_key.signs_from,
            signs_until=signing_key.signs_until,
            published_until=signing_key.published_until,
            made_by=signing_key.made_by,
        )

    def authority(environment: Environment) -> AuthorityOut:
        name = issuing.issuer(environment)
        return AuthorityOut(
            environment=environment_out(environment),
            issuer=name,
            metadata_address=name.replace(
                "/house/", "/.well-known/oauth-authorization-server/house/"
            ),
            keys=[key(each) for each in environment.signing_keys.all()],
            accepting=accepting.get(environment.pk, 0),
            clients=clients.get(environment.pk, 0),
            tokens=tokens_alive.get(environment.pk, 0),
            rights=[
                _right(each) for each in lasting if each.deployment.environment_id == environment.pk
            ],
            rejected_requests=_rejected(
                each for each in rejected if each.environment_id == environment.pk
            ),
        )

    return [authority(environment) for environment in found]


def _authority(environment: Environment) -> AuthorityOut:
    return _authorities(Environment.objects.filter(pk=environment.pk))[0]


@router.get("/house", response=list[AuthorityOut])
def house(request: HttpRequest) -> list[AuthorityOut]:
    """The house authority in each environment."""
    guard.need(request, "look")
    return _authorities(Environment.objects.all())


@router.get("/house/{environment}/applications", response=AcceptingApplications)
def accepting(
    request: HttpRequest, environment: str, cursor: str | None = None, words: str = ""
) -> AcceptingApplications:
    """The applications that accept what the house issues in an environment, by name; filtered by
    plain words.
    """
    guard.need(request, "look")
    at = find_environment(environment)
    rows = Deployment.objects.filter(environment=at, house=True).annotate(
        name=F("application__name")
    )
    asked = filter_words.read(words, {})
    rows = filtering.apply(
        rows, asked, {}, ("application__name__icontains", "application__key__icontains")
    )
    found, following = page(rows.select_related("application"), "application__name", cursor)
    keys = [deployment.pk for deployment in found]
    counted = (
        Client.objects.filter(deployment__in=keys, house=True)
        .exclude(kind=Kind.RESOURCE_SERVER)
        .order_by()
        .values("deployment")
    )
    counts = dict(counted.annotate(many=Count("pk")).values_list("deployment", "many"))
    asking = {
        resource_server.deployment_id: resource_server
        for resource_server in ResourceServer.objects.filter(
            credentials__kind="client_secret", deployment__in=keys
        )
    }
    return AcceptingApplications(
        items=[
            _accepting(deployment, counts.get(deployment.pk, 0), asking.get(deployment.pk))
            for deployment in found
        ],
        next=following,
    )


def _accepting(deployment: Deployment, clients: int, asker: Client | None) -> AcceptingOut:
    return AcceptingOut(
        application=deployment.application.key,
        name=deployment.application.name,
        clients=clients,
        asks_as=asker.client_id if asker else "",
        asker=asker.pk if asker else None,
    )


@router.post("/house/{environment}/signing-keys", response={201: AuthorityOut})
def roll_over(request: HttpRequest, environment: str) -> tuple[int, AuthorityOut]:
    """Let a new signing key take over: published at once, signing after a minute, its forerunner
    shown until the last token it signed has expired.
    """
    found = find_environment(environment)
    signing.roll_over(guard.need(request, "change"), found)
    return 201, _authority(found)


@router.put("/house/{environment}/applications/{application}", response=AuthorityOut)
def accepts(
    request: HttpRequest, environment: str, application: str, body: AcceptsIn
) -> AuthorityOut:
    """Record that an application accepts what the house issues, or no longer."""
    by = guard.need(request, "change")
    issuing.accepts(by, find_deployment(application, environment), body.accepts)
    return _authority(find_environment(environment))


@router.post(
    "/house/{environment}/applications/{application}/introspection-clients",
    response={201: HandoverMade},
)
def asker(request: HttpRequest, environment: str, application: str) -> tuple[int, HandoverMade]:
    """Let an application ask about tokens it is shown: a client for it, and a secret to hand over
    to its people.
    """
    by = guard.need(request, "change")
    client, handover = issuing.resource(by, find_deployment(application, environment))
    return 201, HandoverMade(client=client.pk, handover=handover.pk)


@router.post("/house/{environment}/registration-rights", response={201: RegistrationRightMade})
def new_right(
    request: HttpRequest, environment: str, body: RegistrationRightIn
) -> tuple[int, RegistrationRightMade]:
    """Let somebody register clients by protocol (RFC 7591)."""
    by = guard.need(request, "change")
    wrong = {
        key: f"Give a number from 1 to {most}."
        for key, value, most in (("uses", body.uses, 1000), ("days", body.days, 90))
        if not 1 <= value <= most
    }
    deployment = find_deployment(body.application, environment)
    if not deployment.house:
        wrong["application"] = (
            f"{deployment.application.name} does not accept what the house authority issues there."
        )
    known = {scope.name for scope in deployment.application.read_profile().scopes}
    if unknown := sorted(set(body.scopes or ()) - known):
        wrong["scopes"] = f"{deployment.application.name} has no scope {unknown[0]}."
    if unknown := sorted(set(body.grants or ()) - set(telling.GRANTS)):
        wrong["grants"] = (
            f"The house authority serves {', '.join(telling.GRANTS)}, and no grant {unknown[0]}."
        )
    if wrong:
        raise problems.wrong_fields(wrong)
    most = Ceiling(
        *(frozenset(names) if names is not None else None for names in (body.scopes, body.grants))
    )
    right, value = rights.give(by, deployment, body.uses, body.days, most)
    return 201, RegistrationRightMade(**vars(_right(right)), token=value)


@router.delete("/house/registration-rights/{identity}", response={204: None})
def end_right(request: HttpRequest, identity: UUID) -> tuple[int, None]:
    """Take a right to register away."""
    by = guard.need(request, "change")
    found = (
        RegistrationRight.objects.select_related("deployment__application")
        .filter(pk=identity)
        .first()
    )
    if found is None:
        raise problems.not_found("right")
    rights.take_away(by, found)
    return 204, None


# The question put before a person


@router.get("/house/requests/{identity}", response=QuestionOut)
def question(request: HttpRequest, identity: UUID) -> QuestionOut:
    """What a client asks the person to allow."""
    person = guard.person_of(request)
    found = (
        Waiting.objects.select_related(
            "client__deployment__application", "client__deployment__environment"
        )
        .filter(pk=identity)
        .first()
    )
    if found is None:
        raise problems.not_found("request")
    client = found.client
    meanings = (
        {scope.name: scope.meaning for scope in client.deployment.application.read_profile().scopes}
        if client
        else {}
    )
    return QuestionOut(
        client=client.name if client else "",
        application=client.deployment.application.name if client else "",
        # A command line acts in every environment.
        environment=environment_out(client.deployment.environment)
        if client and client.client_id != delegated.COMMAND_LINE
        else None,
        back_to=found.redirect_uri,
        person=person.shown_name,
        scopes=[{"name": scope, "meaning": meanings.get(scope, "")} for scope in found.scopes],
        refused=found.refused,
        over=found.answered is not None or found.ends <= timezone.now(),
    )


@router.post("/house/requests/{identity}/answers", response=RedirectionOut)
def answer(request: HttpRequest, identity: UUID, body: AllowIn) -> RedirectionOut:
    """The person allows it, or not. Anybody who can log in may answer for themselves."""
    person = guard.person_of(request)
    found = Waiting.objects.filter(pk=identity).first()
    if found is None:
        raise problems.not_found("request")
    return RedirectionOut(location=tokens.answer(person, found, body.allow))


# What a client holds


def _house_client(identity: UUID) -> Client:
    found = find_client(identity)
    if not found.house:
        raise problems.Problem(
            409,
            "This client was issued by its application.",
            "What it holds there is seen in the application's own screens.",
            code="client-not-of-house",
        )
    return found


def _issued(client: Client) -> IssuedOut:
    now = timezone.now()
    alive = Q(access_tokens__revoked=None, access_tokens__ends__gt=now)
    rows = (
        client.credentials.exclude(digest="")
        .defer("value")
        .select_related("handover")
        .prefetch_related("holders__connection")
    )
    shown = list(rows.annotate(living=Count("access_tokens", alive)).order_by("-issued")[:20])
    drawn = histories.drawn_by(credential.pk for credential in shown)
    living = Access.objects.filter(client=client, revoked=None, ends__gt=now)

    def secret(credential: Any) -> SecretLife:
        handover = getattr(credential, "handover", None)
        waiting = (
            handover is not None
            and handover.shown is None
            and handover.closed is None
            and credential.lives
        )
        return SecretLife(
            id=credential.pk,
            kind=credential.kind,
            hint=credential.hint,
            named=credential.secret_id,
            state=credential.state,
            issued=credential.issued,
            ends=credential.ends,
            over=credential.ends is not None and credential.ends <= now,
            lives=credential.lives,
            last_used=credential.last_used,
            last_used_from=credential.last_used_from,
            tokens=credential.living,
            connections=sorted({h.connection.ref for h in credential.holders.all()}),
            drawn_by=drawn[credential.pk],
            why=credential.why,
            handover=handover.pk if handover and waiting else None,
            made_by=credential.put_in_by,
        )

    return IssuedOut(
        client=client.pk,
        client_id=client.client_id,
        issuer=issuing.issuer(client.deployment.environment),
        most_secrets=issuing.LIVE_SECRETS,
        secrets=[secret(credential) for credential in shown],
        tokens=[
            TokenLife(
                number=access.pk,
                person=access.grant.person.shown_name if access.grant else "",
                secret=access.credential.hint if access.credential else "",
                scopes=access.scopes,
                issued=access.issued,
                ends=access.ends,
            )
            for access in living.select_related("grant__person", "credential").order_by("-issued")[
                :_MOST_SHOWN
            ]
        ],
        tokens_alive=living.count(),
        allowed_by=sorted(
            {
                grant.person.shown_name
                for grant in Grant.objects.filter(client=client, revoked=None).select_related(
                    "person"
                )
            }
        ),
        rejected_requests=_rejected(
            RejectedRequest.objects.select_related("client").filter(client=client)[:10]
        ),
    )


@router.get("/clients/{identity}/issued", response=IssuedOut)
def issued(request: HttpRequest, identity: UUID) -> IssuedOut:
    """What a client of the house holds: secrets, active tokens, who allowed it, what was turned
    away.
    """
    guard.need(request, "look")
    return _issued(_house_client(identity))


@router.post("/clients/{identity}/secrets", response={201: HandoverMade})
def add_secret(
    request: HttpRequest, identity: UUID, body: AnotherSecretIn
) -> tuple[int, HandoverMade]:
    """Make another secret of a client; at most two live at once."""
    by, client = guard.need(request, "change"), _house_client(identity)

    def create() -> tuple[int, HandoverMade]:
        return 201, HandoverMade(
            client=client.pk, handover=issuing.add_secret(by, client, body.ends).pk
        )

    return guard.repeatable(request, body.dict(), create, alone=True)


@router.post("/clients/{identity}/token-revocations", response=EndedTokensOut)
def revoke_tokens(request: HttpRequest, identity: UUID, body: RevokeIn) -> EndedTokensOut:
    """Revoke the tokens of a client, all or some."""
    by = guard.need(request, "change")
    return EndedTokensOut(
        ended=issuing.revoke_tokens(by, _house_client(identity), body.why, body.tokens)
    )


@router.post("/house/grants/{identity}/revocations", response=EndedTokensOut)
def revoke_grant(request: HttpRequest, identity: UUID, body: WhyIn) -> EndedTokensOut:
    """End what a person allowed a client: every token that came of it, renewed ones too."""
    by = guard.need(request, "change")
    with transaction.atomic():
        found = (
            Grant.objects.select_for_update()
            .select_related("client", "person")
            .filter(pk=identity)
            .first()
        )
        if found is None:
            raise problems.not_found("grant")
        return EndedTokensOut(ended=tokens.end_grant(by, found, body.why, timezone.now()))


@router.delete("/clients/{identity}/management", response={204: None})
def end_management(request: HttpRequest, identity: UUID) -> tuple[int, None]:
    """Take away the right to manage a client's registration by protocol (RFC 7592); the client
    itself stays.
    """
    issuing.end_management(guard.need(request, "change"), _house_client(identity))
    return 204, None


@router.post("/credentials/{identity}/revocations", response=IssuedOut)
def revoke(request: HttpRequest, identity: UUID, body: RevokeIn) -> IssuedOut:
    """Revoke a secret that the house authority issued, and what was got with it."""
    by = guard.need(request, "change")
    found = Credential.objects.filter(pk=identity).first()
    if found is None:
        raise problems.not_found("credential")
    revoked = issuing.revoke(by, found, body.why)
    assert revoked.client is not None
    return _issued(find_client(revoked.client.pk))
