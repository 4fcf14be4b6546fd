"""Finding anything as one types, and filters that are kept."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from django.db import IntegrityError, transaction
from django.http import HttpRequest
from ninja import Router

from neatlatch.desk.ground import guard
from neatlatch.desk.ground.common import problems
from neatlatch.desk.ground.common.problems import wrong_fields
from neatlatch.desk.ground.common.request_bodies import RequestBody
from neatlatch.desk.ground.people.models import Person
from neatlatch.desk.work.finding import index
from neatlatch.desk.work.finding.models import SavedFilter

router = Router(tags=["find"])
PAGES = (
    ("Today", "/"),
    ("Applications", "/applications"),
    ("Redirect URIs", "/redirect-uris"),
    ("Scopes and consent", "/scopes"),
    ("Access rules", "/access-rules"),
    ("Connections", "/connections"),
    ("Workloads of connections", "/workloads"),
    ("My accounts", "/accounts"),
    ("Credentials", "/credentials"),
    ("Rounds", "/rounds"),
    ("House authority", "/credentials/house"),
    ("Certificates", "/certificates"),
    ("Read a certificate", "/certificates/read"),
    ("Handovers", "/credentials/handovers"),
    ("Leaked credential", "/credentials/leaked"),
    ("Inventory", "/inventory"),
    ("People and teams", "/people"),
    ("Owners", "/owners"),
    ("Journal", "/journal"),
)
# Of my own, and of others'.
_MOST_FILTERS = 50
Lists = Literal[
    "connections",
    "credentials",
    "workloads",
    "applications",
    "people",
    "owners",
    "scopes",
    "redirect-uris",
    "access-rules",
]


class FilterIn(RequestBody):
    """A filter to keep."""

    list: Lists
    name: str
    words: str
    shared: bool = False


@dataclass(frozen=True, kw_only=True)
class FilterOut:
    """A filter that is kept."""

    id: int
    list: str
    name: str
    words: str
    shared: bool
    mine: bool
    by: str


@router.get("/search", response=list[index.FoundEntry])
def find(request: HttpRequest, words: str) -> list[index.FoundEntry]:
    """Any application, connection, client, credential hint, redirect URI, thumbprint, person or
    page whose words begin with those that are typed.
    """
    guard.need(request, "look")
    asked = words.lower().split()
    pages = [
        index.FoundEntry(name, "page", address)
        for name, address in PAGES
        if asked and all(_begins_in(name, word) for word in asked)
    ]
    return [*pages[:3], *index.find(words)]


def _begins_in(name: str, word: str) -> bool:
    """Whether a word begins one of a page's name."""
    return any(part.startswith(word) for part in name.lower().replace(",", "").split())


def _filter(saved_filter: SavedFilter, by: Person) -> FilterOut:
    return FilterOut(
        id=saved_filter.pk,
        list=saved_filter.list,
        name=saved_filter.name,
        words=saved_filter.words,
        shared=saved_filter.shared,
        mine=saved_filter.person_id == by.pk,
        by=saved_filter.person.shown_name,
    )


@router.get("/filters", response=list[FilterOut])
def filters(request: HttpRequest, list: Lists) -> list[FilterOut]:
    """The filters of a list that are mine, then those that others share."""
    by = guard.need_person(request, "look")
    rows = SavedFilter.objects.filter(list=list).select_related("person")
    found = [
        *rows.filter(person=by)[:_MOST_FILTERS],
        *rows.filter(shared=True).exclude(person=by)[:_MOST_FILTERS],
    ]
    return [_filter(row, by) for row in found]


@router.post("/filters", response={201: FilterOut})
def keep(request: HttpRequest, body: FilterIn) -> tuple[int, FilterOut]:
    """Keep a filter under a name; the same name again replaces it."""
    by = guard.need_person(request, "look")
    name, words = body.name.strip(), body.words.strip()
    if not name or len(name) > 60:
        raise wrong_fields({"name": "Give it a name of up to 60 characters."})
    if not words or len(words) > 300:
        raise wrong_fields({"words": "A filter has up to 300 characters."})
    try:
        with transaction.atomic():
            one, _ = SavedFilter.objects.update_or_create(
                person=by,
                list=body.list,
                name=name,
                defaults={"words": words, "shared": body.shared},
            )
    except IntegrityError as error:
        raise wrong_fields({"name": "A filter of this name is there already."}) from error
    return 201, _filter(one, by)


@router.delete("/filters/{identity}", response={204: None})
def forget(request: HttpRequest, identity: int) -> tuple[int, None]:
    """Forget a filter of one's own."""
    by = guard.need_person(request, "look")
    found = SavedFilter.objects.filter(pk=identity, person=by).first() if identity < 2**63 else None
    if found is None:
        raise problems.not_found("filter of yours")
    found.delete()
    return 204, None
