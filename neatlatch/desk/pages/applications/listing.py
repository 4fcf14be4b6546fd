"""The list of applications: what fits a filter, and a page of it."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from django.db.models import Count, F, OuterRef, Q, QuerySet, Subquery
from django.db.models.expressions import RawSQL
from django.db.models.functions import Coalesce

from neatlatch.core.filter_words import Word
from neatlatch.core.schemes import KINDS
from neatlatch.desk.authority.house import issuing
from neatlatch.desk.estate import object_notes
from neatlatch.desk.estate.records.applications.models import (
    Application,
    Deployment,
    Environment,
    profile_of,
)
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.ground.common.pages import page

from .shapes import ApplicationRow, Applications, EnvironmentOut, environment_out

FIELDS = {
    "env": "env",
    "environment": "env",
    "owner": "owner",
    "scheme": "scheme",
    "tag": "tag",
}
_PLAIN = ("name__icontains", "key__icontains", "purpose__icontains", "owner__name__icontains")
# A way in is found by its key, or by its label: the application's own, or else that of its kind.
_BY_WAY = """SELECT a.id FROM applications_application a, json_each(a.profile, '$.schemes') way
    WHERE instr(lower(json_extract(way.value, '$.key')), %%s)
      OR instr(lower(json_extract(way.value, '$.label')), %%s)
      OR json_extract(way.value, '$.label') IS NULL AND json_extract(way.value, '$.key') IN (%s)"""


def fitting(rows: QuerySet[Application], words: Iterable[Word]) -> QuerySet[Application]:
    """Those that fit the words of a filter."""
    for word in words:
        if word.field == "env":
            wanted = Q(
                pk__in=Deployment.objects.filter(environment__key__contains=word.text)
                .order_by()
                .values("application")
            )
        elif word.field == "owner":
            wanted = Q(owner__name__icontains=word.text)
        elif word.field == "tag":
            wanted = Q(**{object_notes.BY_TAG: word.text})
        elif word.field == "scheme":
            wanted = Q(pk__in=_by_scheme(word.text))
        else:
            wanted = Q()
            for lookup in _PLAIN:
                wanted |= Q(**{lookup: word.text})
        chosen = Application.objects.filter(wanted).order_by().values("pk")
        rows = rows.exclude(pk__in=chosen) if word.without else rows.filter(pk__in=chosen)
    return rows


def _by_scheme(text: str) -> RawSQL:
    kinds = [key for key, kind in KINDS.items() if text in kind.label.lower()]
    return RawSQL(_BY_WAY % ", ".join(["%s"] * len(kinds)), [text, text, *kinds])


def page_of(rows: QuerySet[Application], cursor: str | None) -> Applications:
    """One page, by name. Four queries."""
    of_it = (
        Connection.objects.filter(deployment__application=OuterRef("pk"))
        .order_by()
        .values("deployment__application")
    )
    counted = rows.annotate(
        owner_told=F("owner__name"),
        connection_count=Coalesce(Subquery(of_it.annotate(many=Count("pk")).values("many")), 0),
    )
    told: QuerySet[Any] = counted.values_list(
        "pk", "key", "name", "purpose", "profile", "owner_told", "connection_count", named=True
    )
    found, following = page(told, "name", cursor)
    keys = [row.pk for row in found]
    environments, tags = _environments(keys), object_notes.tags_of(Application, keys)
    items = [_row(row, environments.get(row.pk, []), tags.get(row.pk, [])) for row in found]
    return Applications(items=items, next=following)


def _environments(applications: list[int]) -> dict[int, list[EnvironmentOut]]:
    known = {
        environment.pk: environment_out(environment) for environment in Environment.objects.all()
    }
    found: dict[int, list[EnvironmentOut]] = {}
    deployments = Deployment.objects.filter(application__in=applications).order_by(
        "application", "environment__order"
    )
    for application, environment in deployments.values_list("application", "environment"):
        found.setdefault(application, []).append(known[environment])
    return found


def _row(application: Any, environments: list[EnvironmentOut], tags: list[str]) -> ApplicationRow:
    profile = profile_of(application.pk, application.profile)
    return ApplicationRow(
        key=application.key,
        name=application.name,
        own=application.key == issuing.OWN_KEY,
        purpose=application.purpose,
        owner=application.owner_told or "",
        schemes=[each.label for each in profile.schemes],
        scopes=len(profile.scopes),
        environments=environments,
        connections=application.connection_count,
        tags=tags,
    )
