"""What a caller who is held to some environments may ask for.

Everything that is not named here is refused: an operation that is added later does not leak
(:mod:`neatlatch.desk.ground.common.narrowed` is asked by look-ups and lists).
"""

from __future__ import annotations

from typing import Any

from django.db.models import Model
from django.http import HttpRequest

from neatlatch.desk.authority.records.certificates.models import Issued
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import SignIn
from neatlatch.desk.estate.records.credentials.models import Credential, Handover
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.ground.common import narrowed
from neatlatch.desk.work.replacing.models import Replacement
from neatlatch.desk.work.rounds.models import Leftover, Test

_OF_DEPLOYMENT = "deployment__environment__key"
_OF_CLIENT = f"client__{_OF_DEPLOYMENT}"
_OF_CONNECTION = f"connection__{_OF_DEPLOYMENT}"
# Things that an address names by an ID or a number, by its first part: the model, and the way to
# the key of their environment.
_THINGS: dict[str, tuple[type[Model], str]] = {
    "clients": (Client, _OF_DEPLOYMENT),
    "workloads": (Workload, "environment__key"),
    "credentials": (Credential, _OF_CLIENT),
    "handovers": (Handover, f"credential__{_OF_CLIENT}"),
    "certificates": (Issued, "authority__environment__key"),
    "replacements": (Replacement, f"old__{_OF_CLIENT}"),
    "tests": (Test, _OF_CONNECTION),
    "sign-ins": (SignIn, _OF_CONNECTION),
    "leftovers": (Leftover, _OF_CONNECTION),
}
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


def hold(request: HttpRequest, environments: frozenset[str] | None) -> None:
    """Hold a request to environments, by their keys (``None``: to none). Raises
    :class:`~neatlatch.desk.ground.common.problems.Problem` (403) where what it asks for is in
    another one, or in no single one.
    """
    narrowed.narrow(environments)
    if environments is None:
        return
    match = request.resolver_match
    assert match is not None
    parts = match.route.removeprefix("api/").split("/")
    if not match.kwargs:
        if (request.method or "", parts[0]) not in _OPEN or len(parts) > 1:
            raise narrowed.outside()
        return
    where = _environment_of(parts[0], match.kwargs)
    if where is None:
        raise narrowed.outside()
    narrowed.check(where)


def _environment_of(first: str, named: dict[str, Any]) -> str | None:
    """The key of the environment of what an address names; ``None``: of none, or of no single
    one.
    """
    if "environment" in named:
        return str(named["environment"])
    if first == "connections" and "ref" in named:
        return str(named["ref"]).partition("/")[0]
    if first not in _THINGS:
        return None
    model, path = _THINGS[first]
    key = named.get("identity") or named.get("number")
    rows = (
        model._default_manager.filter(pk=key) if key is not None else model._default_manager.none()
    )
    return rows.values_list(path, flat=True).first()
