"""What a caller who is held to some environments or applications may ask for.

Everything that is not named here is refused: an operation that is added later does not leak
(:mod:`neatlatch.desk.ground.common.narrowed` is asked by look-ups and lists).
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any
from uuid import UUID

from django.db.models import Model
from django.http import HttpRequest

from neatlatch.core.reach import Place, Reach
from neatlatch.desk.authority.records.certificates.models import Issued
from neatlatch.desk.authority.records.house.models import Grant
from neatlatch.desk.estate import reaches
from neatlatch.desk.estate.records.clients.models import Client, ConsentRequest
from neatlatch.desk.estate.records.connections.models import Connection, SignIn
from neatlatch.desk.estate.records.credentials.models import Credential, Handover
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.ground.common import narrowed
from neatlatch.desk.ground.people.models import Person
from neatlatch.desk.work.replacing.models import Replacement
from neatlatch.desk.work.rounds.models import Leftover, Test

# The ways from a thing to the keys of its environment and its application.
Ways = tuple[tuple[str, str], ...]


def _below(path: str) -> tuple[str, str]:
    """The two ways by a deployment, which ``path`` leads to."""
    return f"{path}deployment__environment__key", f"{path}deployment__application__key"


def _of_credential(path: str = "") -> Ways:
    """A credential is where its client is, and where the connections are that hold it."""
    return _below(f"{path}client__"), _below(f"{path}holders__connection__")


# Things that an address names by an ID or a number, by its first part.
_THINGS: dict[str, tuple[type[Model], Ways]] = {
    "clients": (Client, (_below(""),)),
    "consent-requests": (ConsentRequest, (_below("client__"),)),
    "workloads": (Workload, (("environment__key", "uses__application__key"),)),
    "credentials": (Credential, _of_credential()),
    "handovers": (Handover, _of_credential("credential__")),
    "certificates": (
        Issued,
        (("authority__environment__key", "credential__client__deployment__application__key"),),
    ),
    "replacements": (Replacement, _of_credential("old__")),
    "tests": (Test, (_below("connection__"),)),
    "sign-ins": (SignIn, (_below("connection__"),)),
    "leftovers": (Leftover, (_below("connection__"),)),
    "grants": (Grant, (_below("client__"),)),
}
# Places of one thing that are looked at; a thing that is in more is in none.
_MOST = 1000
# Operations that name no thing in their address, and whose lists or look-ups ask for themselves; or
# that tell nothing of any environment.
_OPEN = {
    ("GET", "connections"),
    ("POST", "connections"),
    ("POST", "set-ups"),
    ("GET", "clients"),
    ("POST", "clients"),
    ("GET", "workloads"),
    ("POST", "workloads"),
    ("GET", "credentials"),
    ("GET", "schemes"),
    ("GET", "shipped-profiles"),
    ("GET", "account-statuses"),
    ("POST", "account-links"),
}


# What a person with limits may add: its body names environment and application, or only the first.
_NAMED_IN_BODY = {
    ("POST", "connections"),
    ("POST", "set-ups"),
    ("POST", "clients"),
    ("POST", "workloads"),
}
# A file is looked at object by object before it is compared with what is here.
_BY_FILE = {("POST", "inventory/previews"), ("POST", "inventory/imports")}
# What changes nothing, although it requires a right to change.
_COMPUTES = {("POST", "intakes"), ("POST", "leaks")}


def hold(request: HttpRequest, environments: frozenset[str] | None) -> None:
    """Hold a request to environments, by their keys (``None``: to none). Raises
    :class:`~neatlatch.desk.ground.common.problems.Problem` (403) where what it asks for is in
    another one, or in no single one.
    """
    narrowed.narrow(environments)
    if environments is None:
        return
    method, parts, named = _asked(request)
    if (method, "/".join(parts)) in _BY_FILE or _is_one_import(method, parts, named):
        return
    if not named:
        if (method, parts[0]) not in _OPEN or len(parts) > 1:
            raise narrowed.outside()
        return
    if not Reach(environments).covers(_places(parts, named)):
        raise narrowed.outside()


def _is_one_import(method: str, parts: list[str], named: dict[str, Any]) -> bool:
    """Whether an import is looked at by its ID; the page asks whose it is."""
    of_imports = parts[:2] == ["inventory", "imports"] and len(parts) == 3
    return method == "GET" and of_imports and "identity" in named


def limit(request: HttpRequest, person: Person) -> None:
    """Hold what a person does with this request to the limits of their rights."""
    if not person.limits:
        return
    method, parts, _ = _asked(request)
    if len(parts) > 1 or (method, parts[0]) not in _COMPUTES:
        reach = reaches.reach_of(person)
        narrowed.limit(reach, lambda: _places_of_act(request, reach))


def _places_of_act(request: HttpRequest, reach: Reach) -> Iterable[Place] | None:
    method, parts, named = _asked(request)
    if (method, "/".join(parts)) in _BY_FILE:
        return [
            Place(environment, application)
            for environment in reach.environments or ("",)
            for application in reach.applications or ("",)
        ]
    if named:
        return _places(parts, named)
    return None if (method, parts[0]) in _NAMED_IN_BODY and len(parts) == 1 else []


def _asked(request: HttpRequest) -> tuple[str, list[str], dict[str, Any]]:
    """The method, the parts of the address below ``/api``, and what it names."""
    match = request.resolver_match
    assert match is not None
    return request.method or "", match.route.removeprefix("api/").split("/"), match.kwargs


def _places(parts: list[str], named: dict[str, Any]) -> list[Place]:
    """Where the thing is that an address names; empty: in no single place."""
    first = parts[0]
    if first == "connections" and "ref" in named:
        ref = str(named["ref"])
        said = ref.partition("/")[0]
        found = _rows(Connection, (_below(""),), ref=ref)
        return [*found, *(Place(said, place.application) for place in found)] or [Place(said)]
    if first == "annotations":
        return _annotated(str(named["of"]), str(named["key"]))
    if "environment" in named or first == "applications":
        application = named.get("application") or (
            named.get("key", "") if first == "applications" else ""
        )
        return [Place(str(named.get("environment", "")), str(application))]
    if first == "house" and parts[1:2] == ["grants"]:
        first = "grants"
    key = named.get("identity") or named.get("number")
    if first not in _THINGS or key is None:
        return []
    model, ways = _THINGS[first]
    return _rows(model, ways, pk=key)


def _annotated(of: str, key: str) -> list[Place]:
    """Where an object is that notes are put on."""
    if of == "connections":
        return _rows(Connection, (_below(""),), ref=key)
    if of in ("applications", "environments"):
        return [Place(application=key) if of == "applications" else Place(environment=key)]
    if of not in _THINGS:
        return []
    model, ways = _THINGS[of]
    try:
        return _rows(model, ways, pk=UUID(key))
    except ValueError:
        return []


def _rows(model: type[Model], ways: Ways, **which: object) -> list[Place]:
    found: list[Place] = []
    for environment, application in ways:
        rows = model._default_manager.filter(**which).values_list(environment, application)
        some = list(rows.distinct().order_by()[: _MOST + 1])
        if len(some) > _MOST:
            return []
        found += [Place(key, other or "") for key, other in some if key]
    return found
