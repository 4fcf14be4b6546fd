"""Applications and environments."""

from __future__ import annotations

from typing import Any

from django.db.models import Count
from django.http import HttpRequest, HttpResponse
from ninja import Router

from neatlatch.core import filter_words, profiles
from neatlatch.core.authority import telling
from neatlatch.core.metadata import ServerMetadata
from neatlatch.core.schemes import KINDS, IssuableKind, issuings
from neatlatch.desk.estate.applications import services
from neatlatch.desk.estate.applications.shipped import shipped
from neatlatch.desk.estate.lookups import find_application, find_deployment
from neatlatch.desk.estate.records.applications.models import Application
from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common import problems
from neatlatch.desk.ground.common.answers import written

from .listing import FIELDS, fitting, page_of
from .shapes import (
    ApplicationChange,
    ApplicationIn,
    ApplicationOut,
    Applications,
    DeploymentOut,
    IssuingOut,
    OperationOut,
    ProfileText,
    SchemeOut,
    ScopeIO,
    ShippedOut,
    VersionOut,
    environment_out,
    scheme_out,
    value_out,
)

router = Router(tags=["applications"])


def _deployment_out(deployment: Any, profile: profiles.Profile) -> DeploymentOut:
    published = deployment.read_metadata()
    issues = issuings(profile.schemes, deployment.house)
    return DeploymentOut(
        environment=environment_out(deployment.environment),
        issuer=deployment.issuer,
        authorization_endpoint=deployment.authorization_endpoint,
        token_endpoint=deployment.token_endpoint,
        api_base=deployment.api_base,
        more=deployment.more,
        metadata_address=deployment.metadata_address,
        registers=bool(deployment.published("registration_endpoint")),
        house=deployment.house,
        grants=list(published.grant_types_supported) if published else [],
        sign_in_methods=list(published.token_endpoint_auth_methods_supported) if published else [],
        issues=[_issuing_out(issue, published) for issue in issues],
        read_at=deployment.read_at,
        clients=deployment.client_count,
        connections=deployment.connection_count,
    )


# How a client that keeps a secret proves itself (RFC 6749 §2.3.1).
_METHODS: tuple[str, ...] = ("client_secret_basic", "client_secret_post")


def _issuing_out(issuing: IssuableKind, published: ServerMetadata | None) -> IssuingOut:
    """What can be issued, with no more than the application says that it takes (RFC 8414 §2)."""
    grants: tuple[str, ...] = telling.GRANTS
    methods = _METHODS
    if published is not None and issuing.by == "application":
        grants = tuple(each for each in grants if each in published.grant_types_supported) or grants
        taken = published.token_endpoint_auth_methods_supported
        methods = tuple(each for each in methods if each in taken) or methods
    of_client = issuing.what == "client"
    return IssuingOut(
        by=issuing.by,
        what=issuing.what,
        kind=issuing.kind,
        grants=list(grants) if of_client else [],
        sign_in_methods=list(methods) if of_client else [],
    )


def _scope_io(scope_info: profiles.ScopeInfo) -> ScopeIO:
    return ScopeIO(
        name=scope_info.name,
        meaning=scope_info.meaning,
        kind=scope_info.kind,
        administrator=scope_info.administrator,
        implies=list(scope_info.implies),
    )


def full(application: Application) -> ApplicationOut:
    """An application in full."""
    profile = application.read_profile()
    deployments = application.deployments.select_related("environment").annotate(
        client_count=Count("clients", distinct=True),
        connection_count=Count("connections", distinct=True),
    )
    return ApplicationOut(
        key=application.key,
        name=application.name,
        purpose=application.purpose,
        owner=application.owner_name,
        version=application.version,
        deployments=[_deployment_out(deployment, profile) for deployment in deployments],
        schemes=[scheme_out(scheme) for scheme in profile.schemes],
        scopes=[_scope_io(scope) for scope in profile.scopes],
        operations=[
            OperationOut(
                name=o.name,
                method=o.method,
                path=o.path,
                summary=o.summary,
                alternatives=[sorted(some) for some in o.alternatives],
            )
            for o in profile.operations
        ],
        probe=application.profile.get("probe"),
        limits=application.profile.get("limits", {}),
        slots=[value_out(slot) for slot in profile.slots],
        roles=[_scope_io(role) for role in profile.roles],
        roles_label=profile.roles_label,
        profile=profiles.to_dict(profile),
        versions=[
            VersionOut(number=v.number, by=v.by, at=v.at) for v in application.versions.all()[:20]
        ],
        rules_kept=profile.rules is not None,
    )


@router.get("/applications", response=Applications)
def applications(request: HttpRequest, cursor: str | None = None, words: str = "") -> HttpResponse:
    """Applications by name; filtered by plain words and field words (``env:staging owner:freight
    scheme:basic``)."""
    guard.need(request, "look")
    return written(
        page_of(fitting(Application.objects.all(), filter_words.read(words, FIELDS)), cursor)
    )


@router.post("/applications", response={201: ApplicationOut})
def add(request: HttpRequest, body: ApplicationIn) -> tuple[int, ApplicationOut]:
    """Add an application, or one more environment of it."""
    by = guard.need(request, "change")

    if body.shipped:
        kept = shipped().get(body.shipped)
        if kept is None:
            raise problems.wrong_fields({"shipped": "There is no profile of this name."})
        body.profile, body.name, body.purpose = (
            kept["profile"],
            body.name.strip() or kept["name"],
            body.purpose or kept["purpose"],
        )

    description = services.Description(body.description_address.strip(), body.description or "")

    def create() -> tuple[int, ApplicationOut]:
        if body.metadata_address.strip():
            deployment = services.add_from_metadata(
                by,
                body.name,
                body.environment,
                body.metadata_address,
                description,
                body.api_base,
                body.purpose,
                body.owner,
            )
        elif description:
            deployment = services.add_from_description(
                by,
                body.name,
                body.environment,
                description,
                body.api_base,
                body.purpose,
                body.owner,
            )
        else:
            values = {**{key: getattr(body, key) for key in services.ADDRESS_FIELDS}, **body.more}
            deployment = services.add_manually(
                by,
                body.name,
                body.environment,
                values,
                body.profile,
                body.purpose,
                body.owner,
                body.scheme,
            )
        return 201, full(deployment.application)

    return guard.repeatable(request, body.dict(), create)


@router.get("/applications/{key}", response=ApplicationOut)
def application(request: HttpRequest, response: HttpResponse, key: str) -> ApplicationOut:
    """An application."""
    guard.need(request, "look")
    found = find_application(key)
    guard.tagged(response, found.version)
    return full(found)


@router.patch("/applications/{key}", response=ApplicationOut)
def change(
    request: HttpRequest, response: HttpResponse, key: str, body: ApplicationChange
) -> ApplicationOut:
    """Change what is known of an application."""
    by = guard.need(request, "change")
    found = find_application(key)
    guard.check_version(request, found.version, found.changed_by, ("application", found.pk))
    changed = services.change(by, found, body.dict())
    guard.tagged(response, changed.version)
    return full(changed)


@router.get("/applications/{key}/profile-texts", response=ProfileText)
def profile_text(request: HttpRequest, key: str, version: int | None = None) -> ProfileText:
    """The profile as YAML; ``version`` names an earlier one."""
    guard.need(request, "look")
    found = find_application(key)
    kept = found.profile
    if version is not None:
        old = found.versions.filter(number=version).first() if 0 <= version < 2**31 else None
        if old is None:
            raise problems.not_found("version of this profile")
        kept = old.profile
    return ProfileText(text=services.as_yaml(profiles.from_dict(kept)))


@router.get("/shipped-profiles", response=list[ShippedOut])
def shipped_profiles(request: HttpRequest) -> list[ShippedOut]:
    """The profiles that come with Neat Latch."""
    guard.need(request, "look")
    found = []
    for key, kept in shipped().items():
        profile = profiles.from_dict(kept["profile"])
        found.append(
            ShippedOut(
                key=key,
                name=kept["name"],
                purpose=kept["purpose"],
                schemes=[scheme_out(scheme) for scheme in profile.schemes],
                slots=[value_out(slot) for slot in profile.slots],
            )
        )
    return found


@router.get("/schemes", response=list[SchemeOut])
def known_schemes(request: HttpRequest) -> list[SchemeOut]:
    """The authentication schemes that are known here, with the values that each needs."""
    guard.need(request, "look")
    return [scheme_out(kind) for kind in KINDS.values()]


@router.post("/applications/{key}/environments/{environment}/readings", response=ApplicationOut)
def read_again(request: HttpRequest, key: str, environment: str) -> ApplicationOut:
    """Read the published metadata again."""
    by = guard.need(request, "change")
    return full(services.read_again(by, find_deployment(key, environment)).application)
