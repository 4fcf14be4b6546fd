"""Adding applications, and keeping what they want of a caller."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

from django.db import transaction
from django.utils import timezone
from django.utils.text import slugify

from neatlatch.core import addresses, openapi, profiles
from neatlatch.core.metadata import ServerMetadata
from neatlatch.core.scopes import malformed
from neatlatch.desk.common.problems import Problem, wrong_fields
from neatlatch.desk.common.roads import road
from neatlatch.desk.journal.services import write
from neatlatch.desk.people.models import Person
from neatlatch.wire import oauth

from .models import Application, Environment, Place

ADDRESS_FIELDS = ("issuer", "authorization_endpoint", "token_endpoint", "api_base")
_LABELS = {"issuer": "The issuer", "authorization_endpoint": "The authorization endpoint", "token_endpoint": "The token endpoint",
           "api_base": "The API base address"}  # fmt: skip


def environment(key: str) -> Environment:
    """An environment by its key, or a field error."""
    found = Environment.objects.filter(key=key).first()
    if found is None:
        raise wrong_fields({"environment": "Choose one of the environments."})
    return found


def read_published(metadata_address: str, description_address: str) -> tuple[str, ServerMetadata, openapi.Described | None]:
    """Fetch what an application publishes about itself: where the metadata was, the metadata, and its API description if an address was given."""
    for field, address in (("metadata_address", metadata_address), ("description_address", description_address)):
        if address and (wrong := addresses.unsound_web_address(address)):
            raise wrong_fields({field: wrong})
    with road() as way:
        try:
            found_at, published = oauth.fetch_metadata(way, metadata_address)
        except oauth.Unreadable as error:
            raise wrong_fields({"metadata_address": str(error)}) from error
        try:
            described = oauth.fetch_description(way, description_address) if description_address else None
        except oauth.Unreadable as error:
            raise wrong_fields({"description_address": str(error)}) from error
    return found_at, published, described


def profile_of(published: ServerMetadata, described: openapi.Described | None) -> profiles.Profile:
    """A profile out of what was published."""
    scopes = described.scopes if described else ()
    known = {one.name for one in scopes}
    scopes += tuple(profiles.ScopeInfo(name) for name in published.scopes_supported if name not in known)
    return profiles.Profile(schemes=profiles.schemes_for(published.grant_types_supported), scopes=scopes,
                            operations=described.operations if described else ())  # fmt: skip


def add_from_metadata(by: Person, name: str, env: str, metadata_address: str, description_address: str, api_base: str = "",
                      purpose: str = "", owner: str = "") -> Place:  # fmt: skip
    """Add an application, or one more environment of it, by its published metadata."""
    where = environment(env)
    found_at, published, described = read_published(metadata_address.strip(), description_address.strip())
    base = api_base.strip() or next(iter(described.servers), "") if described else api_base.strip()
    if base.startswith("/"):  # a server address may be relative to the description's own (OpenAPI 3.1 §4.8.5)
        origin = addresses.take_apart(description_address.strip())
        base = replace(origin, path=base, query=None, fragment=None).text
    if base and (wrong := addresses.unsound_web_address(base)):
        raise wrong_fields({"api_base": wrong})
    values = {"issuer": published.issuer, "authorization_endpoint": published.authorization_endpoint, "token_endpoint": published.token_endpoint,
              "api_base": base.rstrip("/")}  # fmt: skip
    with transaction.atomic():
        application = _application(name or (described.title if described else ""), purpose, owner, profile_of(published, described))
        place = _place(
            by, application, where, values, {"metadata_address": found_at, "metadata": published.as_dict(), "read_at": timezone.now()}
        )
        write(by, "added by metadata", "application", application.key, {"environment": where.name, "issuer": published.issuer})
    return place


def add_by_hand(by: Person, name: str, env: str, values: dict[str, str], profile: dict[str, Any] | None = None, purpose: str = "",
                owner: str = "") -> Place:  # fmt: skip
    """Add an application, or one more environment of it, from what a person read in its documents."""
    where = environment(env)
    values = {key: values.get(key, "").strip() for key in ADDRESS_FIELDS}
    errors = {}
    for key, address in values.items():
        if not address and key != "authorization_endpoint":
            errors[key] = f"{_LABELS[key]} is needed."
        elif address and (wrong := addresses.unsound_web_address(address)):
            errors[key] = wrong
        elif address and not addresses.is_protected(address):
            errors[key] = "It must be https, unless it is a loopback address."
    if errors:
        raise wrong_fields(errors)
    grants = ("authorization_code", "client_credentials") if values["authorization_endpoint"] else ("client_credentials",)
    try:
        read = profiles.from_dict(profile) if profile else profiles.Profile(schemes=profiles.schemes_for(grants))
    except profiles.BadProfile as error:
        raise wrong_fields({"profile": str(error)}) from error
    with transaction.atomic():
        application = _application(name, purpose, owner, read)
        place = _place(by, application, where, values, {})
        write(by, "added by hand", "application", application.key, {"environment": where.name, "issuer": values["issuer"]})
    return place


def _application(name: str, purpose: str, owner: str, profile: profiles.Profile) -> Application:
    name = name.strip()
    key = slugify(name)
    if not key:
        raise wrong_fields({"name": "The application needs a name."})
    found = Application.objects.filter(key=key).first()
    if found is not None:
        return found
    return Application.objects.create(key=key, name=name, purpose=purpose.strip(), owner=owner.strip(), profile=profiles.to_dict(profile))


def _place(by: Person, application: Application, where: Environment, values: dict[str, str], more: dict[str, Any]) -> Place:
    if Place.objects.filter(application=application, environment=where).exists():
        raise wrong_fields({"environment": f"{application.name} stands in {where.name} already. Open it to change it."})
    return Place.objects.create(application=application, environment=where, changed_at=timezone.now(), **values, **more)


def read_again(by: Person, place: Place) -> Place:
    """Read the published metadata again, and take over what changed."""
    if not place.metadata_address:
        raise Problem(409, "There is no metadata address.", "This environment was entered by hand; change its addresses by hand.")
    found_at, published, _ = read_published(place.metadata_address, "")
    with transaction.atomic():
        place = Place.objects.select_for_update().get(pk=place.pk)
        before = {key: getattr(place, key) for key in ADDRESS_FIELDS[:3]}
        after = {key: getattr(published, key) for key in ADDRESS_FIELDS[:3]}
        place.metadata, place.read_at = published.as_dict(), timezone.now()
        if after != before:
            for key, value in after.items():
                setattr(place, key, value)
            place.changed_at = timezone.now()
        place.save()
        write(
            by,
            "read metadata again",
            "application",
            place.application.key,
            {"environment": place.environment.name, "changed": after != before},
        )
    return place


@transaction.atomic
def change(by: Person, application: Application, wanted: dict[str, Any]) -> Application:
    """Change an application's description, or its profile as a whole. The version must have been checked."""
    for field in ("purpose", "owner"):
        if wanted.get(field) is not None:
            setattr(application, field, str(wanted[field]).strip())
    if wanted.get("profile") is not None:
        try:
            application.profile = profiles.to_dict(profiles.from_dict(wanted["profile"]))
        except profiles.BadProfile as error:
            raise wrong_fields({"profile": str(error)}) from error
    if wanted.get("scopes") is not None:
        application.profile = profiles.to_dict(_with_scopes(application.read_profile(), wanted["scopes"]))
    application.version += 1
    application.changed_by = by.username
    application.save()
    write(by, "changed", "application", application.key, {"fields": sorted(key for key, value in wanted.items() if value is not None)})
    return application


def _with_scopes(profile: profiles.Profile, given: list[dict[str, Any]]) -> profiles.Profile:
    """The profile with what was said about its scopes: meaning, kind, and whether an administrator must consent."""
    said = {str(one.get("name", "")): one for one in given}
    for name, one in said.items():
        if one.get("kind", "read") not in ("read", "write", "admin"):
            raise wrong_fields({"scopes": f"{name}: the kind is read, write or admin."})
        if malformed(name):
            raise wrong_fields(
                {"scopes": f"“{name}” is not a scope: it is empty or holds characters that a scope must not (RFC 6749 §3.3)."}
            )
    scopes = tuple(replace(one, meaning=str(said[one.name].get("meaning", one.meaning)), kind=said[one.name].get("kind", one.kind),
                           administrator=bool(said[one.name].get("administrator", one.administrator))) if one.name in said else one
                   for one in profile.scopes)  # fmt: skip
    known = {one.name for one in profile.scopes}
    new = tuple(profiles.ScopeInfo(name, str(one.get("meaning", "")), one.get("kind", "read"), bool(one.get("administrator")))
                for name, one in said.items() if name and name not in known)  # fmt: skip
    return replace(profile, scopes=scopes + new)
