"""Tags, notes and links of any object."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from typing import Any, Literal
from uuid import UUID

from django.db.models import Model
from django.http import HttpRequest, HttpResponse
from ninja import Router
from pydantic import Field

from neatlatch.core.annotating import MOST_LINKS, MOST_TAGS, Link, TagsAndNotes
from neatlatch.desk.estate import object_notes
from neatlatch.desk.estate.connections import naming
from neatlatch.desk.estate.lookups import (
    find_application,
    find_client,
    find_environment,
    find_person,
)
from neatlatch.desk.estate.object_notes import StoredNotes
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common.problems import not_found
from neatlatch.desk.ground.common.request_bodies import RequestBody
from neatlatch.desk.ground.people.models import Owner

router = Router(tags=["annotations"])
Target = Literal[
    "applications",
    "clients",
    "connections",
    "credentials",
    "environments",
    "owners",
    "people",
    "workloads",
]


class NoteLinkIn(RequestBody):
    """An address outside, and what it is called (empty: the address itself)."""

    address: str
    label: str = ""


@dataclass(frozen=True, kw_only=True)
class NoteLinkOut:
    """An address outside, and what it is called (empty: the address itself)."""

    address: str
    label: str


class AnnotationIn(RequestBody):
    """All that is put on an object from now on."""

    tags: list[str] = Field(default=[], max_length=MOST_TAGS)
    notes: str = ""
    links: list[NoteLinkIn] = Field(default=[], max_length=MOST_LINKS)


@dataclass(frozen=True, kw_only=True)
class AnnotationOut:
    """What people have put on an object, and who last changed it; version 0: nobody has."""

    tags: list[str]
    notes: str
    links: list[NoteLinkOut]
    version: int
    changed_at: datetime | None
    changed_by: str


def _out(kept: StoredNotes) -> AnnotationOut:
    content = kept.content
    return AnnotationOut(
        tags=list(content.tags),
        notes=content.notes,
        links=[NoteLinkOut(address=link.address, label=link.label) for link in content.links],
        version=kept.version,
        changed_at=kept.changed_at,
        changed_by=kept.changed_by,
    )


def _connection(ref: str) -> Model:
    found = Connection.objects.filter(ref=ref).first()
    if found is None:
        raise naming.no_connection(ref)
    return found


def _by_id(model: type[Model], word: str, key: str, **which: Any) -> Model:
    try:
        found = model._default_manager.filter(pk=UUID(key), **which).first()
    except ValueError:
        found = None
    if found is None:
        raise not_found(word)
    return found


def _owner(key: str) -> Model:
    number = int(key) if key.isascii() and key.isdigit() and len(key) < 19 else 0
    found = Owner.objects.select_related("person").filter(pk=number).first()
    if found is None:
        raise not_found("owner")
    # What is put on a person is theirs, whichever of their two pages shows it.
    return found.person if found.person is not None else found


def _client(key: str) -> Model:
    try:
        return find_client(UUID(key))
    except ValueError as error:
        raise not_found("client") from error


_FIND: dict[str, Callable[[str], Model]] = {
    "applications": find_application,
    "clients": _client,
    "connections": _connection,
    "credentials": lambda key: _by_id(Credential, "credential", key),
    "environments": find_environment,
    "owners": _owner,
    "people": find_person,
    "workloads": lambda key: _by_id(Workload, "workload", key),
}


@router.get("/annotations/{of}/{path:key}", response=AnnotationOut)
def annotation(request: HttpRequest, response: HttpResponse, of: Target, key: str) -> AnnotationOut:
    """Tags, notes and links of an object, by the key, reference or ID in its page's address."""
    guard.need(request, "look")
    kept = object_notes.kept(_FIND[of](key))
    guard.tagged(response, kept.version)
    return _out(kept)


@router.put("/annotations/{of}/{path:key}", response=AnnotationOut)
def put_annotation(
    request: HttpRequest, response: HttpResponse, of: Target, key: str, body: AnnotationIn
) -> AnnotationOut:
    """Put tags, notes and links on an object in place of those that are there."""
    by = guard.need(request, "change")
    target = _FIND[of](key)
    stands = object_notes.kept(target)
    guard.check_version(request, stands.version, stands.changed_by, ("annotation", target.pk))
    links = tuple(Link(link.address, link.label) for link in body.links)
    content = TagsAndNotes(tuple(body.tags), body.notes, links)
    kept = object_notes.change(by, target, content, stands.version)
    guard.tagged(response, kept.version)
    return _out(kept)


@router.get("/tags", response=list[str])
def tags(request: HttpRequest, begin: str = "") -> list[str]:
    """The first tags in use, in alphabetical order, that begin so."""
    guard.need(request, "look")
    return object_notes.names_beginning(begin[:100])
