"""Owners: those who are asked before something of theirs changes, and what is theirs."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from django.db import connection as database
from django.db.models import QuerySet
from django.http import HttpRequest, HttpResponse
from ninja import Router

from neatlatch.core import filter_words
from neatlatch.desk.estate import object_notes
from neatlatch.desk.estate.records.applications.models import Application
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common import filtering, problems
from neatlatch.desk.ground.common.answers import written
from neatlatch.desk.ground.common.pages import page
from neatlatch.desk.ground.common.quick_rows import Reading, join
from neatlatch.desk.ground.common.request_bodies import RequestBody
from neatlatch.desk.ground.people import owners as services
from neatlatch.desk.ground.people.models import Owner, Person, Team

router = Router(tags=["owners"])
# Of each kind of thing that is somebody's, on their page.
_MOST = 200


@dataclass(frozen=True, kw_only=True)
class OwnerOut:
    """An owner. ``key`` names exactly this one, ``written`` is how people would; ``mail`` of a
    person is their own; the deputy as people write it, and by name."""

    id: int
    key: str
    written: str
    kind: str
    name: str
    mail: str
    zone: str
    deputy: str
    deputy_name: str
    applications: int
    workloads: int
    credentials: int
    version: int


@dataclass(frozen=True, kw_only=True)
class ThingOut:
    """Something that an owner owns."""

    what: str
    name: str
    says: str
    address: str


@dataclass(frozen=True, kw_only=True)
class OwnerFull:
    """An owner with what is theirs, as far as a page goes."""

    owner: OwnerOut
    username: str
    things: list[ThingOut]


@dataclass(frozen=True, kw_only=True)
class Owners:
    """One page of owners."""

    items: list[OwnerOut]
    next: str | None


class ContactIn(RequestBody):
    """A contact outside."""

    name: str
    mail: str = ""
    zone: str = ""
    deputy: str = ""


class OwnerChange(RequestBody):
    """How an owner is reached; absent: stays. A contact's name, too."""

    name: str | None = None
    mail: str | None = None
    zone: str | None = None
    deputy: str | None = None


_owners = Reading(
    Owner, "t.id IN {keys} OR t.id IN (SELECT deputy_id FROM people_owner WHERE id IN {keys})"
)
_people = Reading(Person, "t.id IN {keys}", only=("username", "email", "first_name", "last_name"))
_teams = Reading(Team, "t.id IN {keys}")
# How many rows of each table are an owner's: by its index, for the owners of one page.
_COUNTS = f"""SELECT k.value, {
    ", ".join(
        f"(SELECT count(*) FROM {model._meta.db_table} WHERE owner_id = k.value)"
        for model in (Application, Workload, Credential)
    )
} FROM json_each(%s) k"""


def _rows(keys: Sequence[int]) -> list[OwnerOut]:
    """Owners by their keys in the database, in this order, with what they have. Six queries."""
    known = {one.pk: one for one in _owners(keys)}
    join(
        known.values(),
        "person",
        {
            person.pk: person
            for person in _people({owner.person_id for owner in known.values() if owner.person_id})
        },
    )
    join(
        known.values(),
        "team",
        {
            team.pk: team
            for team in _teams({owner.team_id for owner in known.values() if owner.team_id})
        },
    )
    join(known.values(), "deputy", known)
    names = services.written(known.values())
    with database.cursor() as cursor:
        counts = {
            key: owned
            for key, *owned in cursor.execute(_COUNTS, [json.dumps(list(keys))]).fetchall()
        }
    return [_out(known[key], names, counts[key]) for key in keys if key in known]


def _out(owner: Owner, names: Mapping[int, str], owned: Sequence[int]) -> OwnerOut:
    applications, workloads, credentials = owned
    return OwnerOut(
        id=owner.pk,
        key=owner.key,
        written=names[owner.pk],
        kind=owner.kind,
        name=owner.name,
        mail=owner.mail,
        zone=owner.zone,
        deputy=names[owner.deputy.pk] if owner.deputy is not None else "",
        deputy_name=owner.deputy.name if owner.deputy is not None else "",
        applications=applications,
        workloads=workloads,
        credentials=credentials,
        version=owner.version,
    )


def _find(identity: int) -> Owner:
    found = None
    if 0 < identity < 2**63:
        found = Owner.objects.select_related("person", "team").filter(pk=identity).first()
    if found is None:
        raise problems.not_found("owner")
    return found


def _full(identity: int) -> OwnerFull:
    one = _find(identity)
    things = [
        ThingOut(
            what="application", name=of.name, says=of.purpose, address=f"/applications/{of.key}"
        )
        for of in one.applications.all()[:_MOST]
    ]
    things += [
        ThingOut(
            what=of.kind, name=of.name, says=of.environment.name, address=f"/workloads/{of.pk}"
        )
        for of in one.workloads.select_related("environment")[:_MOST]
    ]
    rows = one.credentials.defer("value").select_related("client__deployment__application")
    things += [
        ThingOut(
            what=of.kind.replace("_", " "),
            name=of.hint,
            says=of.client.deployment.application.name if of.client else "",
            address=f"/credentials/{of.pk}",
        )
        for of in rows[:_MOST]
    ]
    username = one.person.username if one.person is not None else ""
    return OwnerFull(owner=_rows([one.pk])[0], username=username, things=things)


LOOKUPS = {
    "kind": "kind__startswith",
    "zone": "zone__icontains",
    "tag": object_notes.BY_TAG,
}


@router.get("/owners", response=Owners)
def owners(request: HttpRequest, words: str = "", cursor: str | None = None) -> HttpResponse:
    """Owners by name; filtered by plain words and field words (``kind:contact zone:London``)."""
    guard.need(request, "look")
    asked = filter_words.read(words, {key: key for key in LOOKUPS})
    plain = ("name__icontains", "address__icontains", "person__email__icontains")
    rows = filtering.apply(Owner.objects.all(), asked, LOOKUPS, plain)
    named: QuerySet[Any] = rows.values_list("id", "name", named=True)
    found, following = page(named, "name", cursor, then="id")
    return written(Owners(items=_rows([one.id for one in found]), next=following))


@router.post("/owners", response={201: OwnerFull})
def add(request: HttpRequest, body: ContactIn) -> tuple[int, OwnerFull]:
    """Add a contact outside."""
    by = guard.need(request, "change")
    reached = services.ContactDetails(body.mail, body.zone, body.deputy)

    def create() -> tuple[int, OwnerFull]:
        return 201, _full(services.add(by, body.name, reached).pk)

    return guard.repeatable(request, body.dict(), create)


@router.get("/owners/{identity}", response=OwnerFull)
def owner(request: HttpRequest, response: HttpResponse, identity: int) -> OwnerFull:
    """An owner, and what is theirs."""
    guard.need(request, "look")
    found = _full(identity)
    guard.tagged(response, found.owner.version)
    return found


@router.patch("/owners/{identity}", response=OwnerFull)
def change(
    request: HttpRequest, response: HttpResponse, identity: int, body: OwnerChange
) -> OwnerFull:
    """Change how an owner is reached, or what a contact is called."""
    by, found = guard.need(request, "change"), _find(identity)
    guard.check_version(request, found.version, "", ("owner", found.pk))
    changed = services.change(by, found, body.dict())
    guard.tagged(response, changed.version)
    return _full(identity)


@router.delete("/owners/{identity}", response={204: None})
def remove(request: HttpRequest, identity: int) -> tuple[int, None]:
    """Remove a contact that owns nothing and is nobody's deputy."""
    services.remove(guard.need(request, "change"), _find(identity))
    return 204, None
