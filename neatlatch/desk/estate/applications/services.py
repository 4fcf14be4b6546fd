"""Adding applications, and keeping what they want of a caller."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

import yaml
from django.db import transaction
from django.utils import timezone
from django.utils.text import slugify

from neatlatch.core import addresses, changes, openapi, profile_keys, profiles
from neatlatch.core.intake import trees
from neatlatch.core.metadata import ServerMetadata
from neatlatch.core.schemes import CODE, KINDS, OAUTH2, Value, lower
from neatlatch.core.scopes import malformed
from neatlatch.desk.estate.records.applications.models import (
    Application,
    Deployment,
    Environment,
    ProfileVersion,
)
from neatlatch.desk.ground.common import heavy
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import Problem, check_unchanged, wrong_fields
from neatlatch.desk.ground.common.transports import transport
from neatlatch.desk.ground.journal.services import write
from neatlatch.desk.ground.people import owners
from neatlatch.wire import oauth

from .following import Save, before_addresses
from .following import of_change as following_of

ADDRESS_FIELDS = ("issuer", "authorization_endpoint", "token_endpoint", "api_base")


def environment(key: str) -> Environment:
    """An environment by its key, or a field error."""
    found = Environment.objects.filter(key=key).first()
    if found is None:
        raise wrong_fields({"environment": "Choose one of the environments."})
    return found


@dataclass(frozen=True)
class Description:
    """Where an application's API description (OpenAPI 3) is: published at an address, or here as
    text.
    """

    address: str = ""
    text: str = ""

    def __bool__(self) -> bool:
        """Whether there is one."""
        return bool(self.address or self.text.strip())

    @property
    def field(self) -> str:
        """The field of the form that it came with."""
        return "description" if self.text.strip() else "description_address"

    def read(self) -> openapi.ApiDescription:
        """Read it, and fetch it first where it is published.

        Raises :class:`Problem` that names the field.
        """
        try:
            if self.text.strip():
                return heavy.run(openapi.read_text, self.text)
            if wrong := addresses.unsound_web_address(self.address):
                raise wrong_fields({self.field: wrong})
            with transport() as opened:
                return oauth.fetch_description(opened, self.address)
        except (openapi.BadDescription, oauth.Unreadable) as error:
            raise wrong_fields({self.field: str(error)}) from error


def read_published(
    metadata_address: str, description: Description
) -> tuple[str, ServerMetadata, openapi.ApiDescription | None]:
    """Fetch what an application publishes about itself: where the metadata was, the metadata, and
    its API description if there is one.
    """
    if wrong := addresses.unsound_web_address(metadata_address):
        raise wrong_fields({"metadata_address": wrong})
    with transport() as opened:
        try:
            found_at, published = oauth.fetch_metadata(opened, metadata_address)
        except oauth.Unreadable as error:
            raise wrong_fields({"metadata_address": str(error)}) from error
    return found_at, published, description.read() if description else None


def profile_of(
    published: ServerMetadata | None, described: openapi.ApiDescription | None
) -> profiles.Profile:
    """A profile out of what was published: schemes by the grants of the metadata and by the
    description's security schemes.
    """
    scopes = described.scopes if described else ()
    known = {scope.name for scope in scopes}
    grants = published.grant_types_supported if published else ()
    schemes = {scheme.key: scheme for scheme in profiles.schemes_for(grants)}
    if published:
        scopes += tuple(
            profiles.ScopeInfo(name) for name in published.scopes_supported if name not in known
        )
    for scheme in described.schemes if described else ():
        if scheme.key not in OAUTH2 or published is None:
            schemes.setdefault(scheme.key, scheme)
    return profiles.Profile(
        schemes=tuple(schemes.values()),
        scopes=scopes,
        operations=described.operations if described else (),
        roles=described.roles if described else (),
    )


def add_from_description(
    by: Actor,
    name: str,
    env: str,
    description: Description,
    api_base: str = "",
    purpose: str = "",
    owner: str = "",
) -> Deployment:
    """Add an application, or one more environment of it, by its API description alone."""
    where, described = environment(env), description.read()
    if not described.schemes:
        raise wrong_fields(
            {
                description.field: (
                    "The API description has no supported authentication scheme. Describe it "
                    "manually."
                )
            }
        )
    values = {**described.addresses, "api_base": _base(api_base, described, description)}
    with transaction.atomic():
        application = _application(
            name or described.title, purpose, owner, profile_of(None, described)
        )
        deployment = _deployment(by, application, where, values, {})
        write(
            by,
            "added by its description",
            "application",
            application.key,
            {"environment": where.name},
        )
    return deployment


def _base(given: str, described: openapi.ApiDescription | None, description: Description) -> str:
    """The API base address: given, else the description's first server, which may be relative to
    the description's own address (OpenAPI 3.1 §4.8.5).
    """
    base = given.strip() or (next(iter(described.servers), "") if described else "")
    if base.startswith("/"):
        if not description.address:
            raise wrong_fields(
                {"api_base": f"The description says {base} only; give the whole address."}
            )
        base = replace(
            addresses.take_apart(description.address), path=base, query=None, fragment=None
        ).text
    if base and (wrong := addresses.unsound_web_address(base)):
        raise wrong_fields({"api_base": wrong})
    return base.rstrip("/")


def add_from_metadata(
    by: Actor,
    name: str,
    env: str,
    metadata_address: str,
    description: Description,
    api_base: str = "",
    purpose: str = "",
    owner: str = "",
) -> Deployment:
    """Add an application, or one more environment of it, by its published metadata."""
    where = environment(env)
    found_at, published, described = read_published(metadata_address.strip(), description)
    base = _base(api_base, described, description)
    values = {
        "issuer": published.issuer,
        "authorization_endpoint": published.authorization_endpoint,
        "token_endpoint": published.token_endpoint,
        "api_base": base,
    }
    with transaction.atomic():
        application = _application(
            name or (described.title if described else ""),
            purpose,
            owner,
            profile_of(published, described),
        )
        deployment = _deployment(
            by,
            application,
            where,
            values,
            {
                "metadata_address": found_at,
                "metadata": published.as_dict(),
                "read_at": timezone.now(),
            },
        )
        write(
            by,
            "added by metadata",
            "application",
            application.key,
            {"environment": where.name, "issuer": published.issuer},
        )
    return deployment


def add_manually(
    by: Actor,
    name: str,
    env: str,
    values: dict[str, str],
    profile: dict[str, Any] | None = None,
    purpose: str = "",
    owner: str = "",
    scheme: str = "",
) -> Deployment:
    """Add an application, or one more environment of it, from what a person read in its documents.

    ``scheme`` is the way in that the person chose; the addresses it wants are asked for. An address
    may have slots that the profile names.
    """
    where = environment(env)
    given = {key: value.strip() for key, value in values.items() if value.strip()}
    existing = Application.objects.filter(key=slugify(name.strip())).first()
    if profile:
        read = read_given(profile, "")
    elif existing is not None:
        read = existing.read_profile()
    elif scheme:
        if scheme not in KINDS:
            raise wrong_fields({"scheme": "Choose an authentication scheme."})
        read = profiles.Profile(schemes=(KINDS[scheme],))
    else:
        grants = (
            ("authorization_code", "client_credentials")
            if given.get("authorization_endpoint")
            else ("client_credentials",)
        )
        read = profiles.Profile(schemes=profiles.schemes_for(grants))
    errors = wrong_addresses(read, given, chosen=scheme)
    if errors:
        raise wrong_fields(errors)
    with transaction.atomic():
        application = _application(name, purpose, owner, read)
        deployment = _deployment(by, application, where, given, {})
        write(
            by,
            "added manually",
            "application",
            application.key,
            {"environment": where.name, "schemes": [scheme.key for scheme in read.schemes]},
        )
    return deployment


def wrong_addresses(
    profile: profiles.Profile, entered: dict[str, str], chosen: str = ""
) -> dict[str, str]:
    """What is wrong with an application's addresses, by key."""
    errors: dict[str, str] = {}
    slots = {slot.key: "slot" for slot in profile.slots}
    wanted: dict[str, Value] = {}
    for scheme in profile.schemes:
        for value in (
            *scheme.addresses(),
            *(value for value in scheme.values if value.key == "issuer"),
        ):
            wanted.setdefault(value.key, value)
    optional = (
        {"authorization_endpoint"}
        if any(scheme.key != CODE for scheme in profile.schemes) and chosen != CODE
        else set()
    )
    for key, value in wanted.items():
        address = profiles.fill_slots(entered.get(key, ""), slots)
        if not address:
            if key not in optional:
                errors[key] = f"The {lower(value.label)} is needed."
        elif (
            wrong := addresses.host_port_mistake(address)
            if value.type == "host"
            else addresses.unsound_web_address(address)
        ):
            errors[key] = wrong
        elif value.type != "host" and not addresses.is_protected(address):
            errors[key] = "It must be https, unless it is a loopback address."
    return errors


def read_given(profile: dict[str, Any] | None, text: str) -> profiles.Profile:
    """A profile out of plain values or YAML text, or a field error that says what is wrong and, in
    YAML, where.
    """
    if text.strip():
        try:
            profile = trees.read_yaml(text)
        except trees.TreeRefused as error:
            raise wrong_fields({"profile": str(error)}) from error
    if not isinstance(profile, dict):
        raise wrong_fields({"profile": "A profile is a mapping with “schemes:” in it."})
    if wrong := profile_keys.wrong_in(profile):
        raise wrong_fields({"profile": wrong})
    try:
        read = profiles.from_dict(profile)
    except profiles.BadProfile as error:
        raise wrong_fields({"profile": str(error)}) from error
    if said := profiles.unsound(read):
        raise wrong_fields({"profile": said})
    return read


def _application(name: str, purpose: str, owner: str, profile: profiles.Profile) -> Application:
    name = name.strip()
    key = slugify(name)
    if not key:
        raise wrong_fields({"name": "The application needs a name."})
    found = Application.objects.filter(key=key).first()
    if found is not None:
        return found
    return Application.objects.create(
        key=key,
        name=name,
        purpose=purpose.strip(),
        owner=owners.named(owner),
        profile=profiles.to_dict(profile),
    )


def _deployment(
    by: Actor,
    application: Application,
    where: Environment,
    values: dict[str, str],
    more: dict[str, Any],
) -> Deployment:
    if Deployment.objects.filter(application=application, environment=where).exists():
        raise wrong_fields(
            {
                "environment": (
                    f"{application.name} is in {where.name} already. Open it to change it."
                )
            }
        )
    columns = {key: value for key, value in values.items() if key in ADDRESS_FIELDS}
    rest = {key: value for key, value in values.items() if key not in ADDRESS_FIELDS and value}
    return Deployment.objects.create(
        application=application,
        environment=where,
        changed_at=timezone.now(),
        more=rest,
        **columns,
        **more,
    )


def read_again(by: Actor, deployment: Deployment) -> Deployment:
    """Read the published metadata again, and take over what changed."""
    if not deployment.metadata_address:
        raise Problem(
            409,
            "There is no metadata address.",
            "This environment was entered manually; change its addresses manually.",
            code="no-metadata-address",
        )
    found_at, published, _ = read_published(deployment.metadata_address, Description())
    with transaction.atomic():
        deployment = Deployment.objects.select_for_update().get(pk=deployment.pk)
        before = {key: getattr(deployment, key) for key in ADDRESS_FIELDS[:3]}
        after = {key: getattr(published, key) for key in ADDRESS_FIELDS[:3]}
        deployment.metadata, deployment.read_at = published.as_dict(), timezone.now()
        if after != before:
            before_addresses(deployment)
            for key, value in after.items():
                setattr(deployment, key, value)
            deployment.changed_at = timezone.now()
        deployment.save()
        write(
            by,
            "read metadata again",
            "application",
            deployment.application.key,
            {"environment": deployment.environment.name, "changed": after != before},
        )
    return deployment


def as_yaml(profile: profiles.Profile) -> str:
    """A profile as people write it: what is the scheme's own is left out."""
    return str(
        yaml.safe_dump(profiles.brief(profile), sort_keys=False, allow_unicode=True, width=110)
    )


def change(by: Actor, application: Application, wanted: dict[str, Any]) -> Application:
    """Change an application's description, or its profile as a whole, as it was read, with all that
    follows from it. Raises :class:`Problem` where somebody changed it meanwhile.
    """
    profile = None
    if wanted.get("profile") is not None or wanted.get("text"):
        profile = read_given(wanted.get("profile"), wanted.get("text") or "")
    if wanted.get("scopes") is not None:
        profile = _with_scopes(profile or application.read_profile(), wanted["scopes"])
    following = following_of(application, profile) if profile is not None else []
    return _change(by, application, wanted, profile, following)


@transaction.atomic
def _change(
    by: Actor,
    application: Application,
    wanted: dict[str, Any],
    profile: profiles.Profile | None,
    following: list[Save],
) -> Application:
    seen = application.version
    application = (
        Application.objects.select_for_update().select_related("owner").get(pk=application.pk)
    )
    check_unchanged(application.version, seen)
    stood = _comparable(application)
    if wanted.get("purpose") is not None:
        application.purpose = str(wanted["purpose"]).strip()
    if wanted.get("owner") is not None:
        application.owner = owners.named(str(wanted["owner"]))
    save_with(by, application, profile, following)
    said = changes.in_words(stood, _comparable(application))
    write(
        by,
        "changed",
        "application",
        application.key,
        {"id": application.pk, "version": application.version, "changes": said},
    )
    return application


def save_with(
    by: Actor, application: Application, profile: profiles.Profile | None, following: list[Save]
) -> None:
    """Save an application as a further version, with this profile in place of the one before, which
    is kept (``None``: it stays), and with what follows. Part of the surrounding transaction; the
    row is locked.
    """
    before = application.profile
    if profile is not None:
        application.profile = profiles.to_dict(profile)
    if application.profile != before:
        ProfileVersion.objects.create(
            application=application,
            number=application.version,
            profile=before,
            by=by.username,
            at=timezone.now(),
        )
    application.version += 1
    application.changed_by = by.username
    application.save()
    for save in following:
        save()


def _comparable(application: Application) -> changes.Plain:
    """An application as changes of it are told."""
    profile = application.read_profile()
    return {
        "purpose": application.purpose,
        "owner": application.owner_name,
        "schemes": [scheme.key for scheme in profile.schemes],
        "scopes": {
            scope.name: (
                f"{scope.kind}{', administrator' if scope.administrator else ''}: {scope.meaning}"
            )
            for scope in profile.scopes
        },
        "roles": [role.name for role in profile.roles],
        "operations": {
            operation.name: [sorted(some) for some in operation.alternatives]
            for operation in profile.operations
        },
    }


def _with_scopes(profile: profiles.Profile, given: list[dict[str, Any]]) -> profiles.Profile:
    """The profile with what was said about its scopes: meaning, kind, and whether an administrator
    must consent.
    """
    said = {str(fields.get("name", "")): fields for fields in given}
    for name, one in said.items():
        if one.get("kind", "read") not in ("read", "write", "admin"):
            raise wrong_fields({"scopes": f"{name}: the kind is read, write or admin."})
        if malformed(name):
            raise wrong_fields(
                {
                    "scopes": (
                        f"“{name}” is not a scope: it is empty or holds characters that a scope "
                        f"must not (RFC 6749 §3.3)."
                    )
                }
            )
    scopes = tuple(
        replace(
            scope,
            meaning=str(said[scope.name].get("meaning", scope.meaning)),
            kind=said[scope.name].get("kind", scope.kind),
            administrator=bool(said[scope.name].get("administrator", scope.administrator)),
        )
        if scope.name in said
        else scope
        for scope in profile.scopes
    )
    known = {scope.name for scope in profile.scopes}
    new = tuple(
        profiles.ScopeInfo(
            name,
            str(one.get("meaning", "")),
            one.get("kind", "read"),
            bool(one.get("administrator")),
        )
        for name, one in said.items()
        if name and name not in known
    )
    return replace(profile, scopes=scopes + new)
