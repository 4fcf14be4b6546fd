"""The keys that a profile may hold: one that is not known would change nothing and look as if it
had.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import fields
from difflib import get_close_matches
from typing import Any

from . import oauth1
from .profiles import (
    OF_ENDPOINT,
    OF_SCHEME,
    ApplicationLimits,
    Operation,
    Probe,
    Profile,
    RulesAt,
    ScopeInfo,
)
from .schemes import API_KEY, CODE, OAUTH1, PAIR, ManualAct, Value
from .signed_calls import SignedCalls

# What an application fixes, by the kind of scheme.
SETTINGS: dict[str, tuple[str, ...]] = {
    API_KEY: ("placement", "name"),
    PAIR: ("id_header", "secret_header"),
    OAUTH1: ("signature_method",),
    CODE: ("renews_with",),
}
CHOICES = {
    "placement": ("header", "query", "cookie"),
    "signature_method": oauth1.METHODS,
    "renews_with": ("access",),
}


def _names(kind: type) -> tuple[str, ...]:
    return tuple(field.name for field in fields(kind))


_LISTED: dict[str, tuple[str, ...]] = {
    "slots": _names(Value),
    "roles": _names(ScopeInfo),
    "scopes": _names(ScopeInfo),
    "operations": _names(Operation),
}
_SINGLE: dict[str, tuple[str, ...]] = {
    "probe": _names(Probe),
    "limits": _names(ApplicationLimits),
    "rules": _names(RulesAt),
    "signed_calls": _names(SignedCalls),
}


def wrong_in(kept: Mapping[str, Any]) -> str:
    """Return what is wrong with the keys of a profile in plain values, in one sentence; empty:
    nothing.

    What is no mapping where one belongs is left to :func:`profiles.from_dict`.
    """
    return next(_wrong(kept), "")


def _wrong(kept: Mapping[str, Any]) -> Iterator[str]:
    yield from _unknown(kept, _names(Profile), "a profile")
    for name, known in _LISTED.items():
        for at, one in enumerate(_list(kept.get(name)), 1):
            yield from _unknown(one, known, f"{name}, entry {at},")
    for name, known in _SINGLE.items():
        yield from _unknown(kept.get(name), known, name)
    for scheme in _list(kept.get("schemes")):
        yield from _of_scheme(scheme)


def _of_scheme(scheme: Any) -> Iterator[str]:
    if not isinstance(scheme, Mapping):
        return
    key = str(scheme.get("key", ""))
    yield from _unknown(scheme, OF_SCHEME, f"the scheme {key}")
    yield from _settings(scheme.get("settings"), key, f"settings of {key}")
    for value in _list(scheme.get("values")):
        yield from _unknown(value, _names(Value), f"a value of {key}")
    for act in _list(scheme.get("acts")):
        yield from _unknown(act, _names(ManualAct), f"an act of {key}")
    for endpoint in _list(scheme.get("endpoints")):
        yield from _unknown(endpoint, OF_ENDPOINT, f"an endpoint of {key}")
        if isinstance(endpoint, Mapping):
            kind = str(endpoint.get("kind", ""))
            yield from _settings(
                endpoint.get("settings"),
                kind,
                f"settings of the endpoint {endpoint.get('key', '')}",
            )


def _settings(given: Any, kind: str, where: str) -> Iterator[str]:
    yield from _unknown(given, SETTINGS.get(kind, ()), where)
    for name, choices in CHOICES.items():
        said = given.get(name) if isinstance(given, Mapping) else None
        if said is not None and said not in choices:
            yield f"{name} in {where} is {' or '.join(choices)}, not “{str(said)[:60]}”."


def _unknown(given: Any, known: tuple[str, ...] | frozenset[str], where: str) -> Iterator[str]:
    if not isinstance(given, Mapping):
        return
    for key in given:
        if key in known:
            continue
        name = str(key)[:60]
        near = get_close_matches(name, sorted(known), 1)
        if near:
            yield f"“{name}” is not known in {where}. Do you mean “{near[0]}”?"
        elif known:
            yield f"“{name}” is not known in {where}. Known are {', '.join(sorted(known))}."
        else:
            yield f"“{name}” is not known in {where}: it takes none."


def _list(given: Any) -> list[Any]:
    return list(given) if isinstance(given, list | tuple) else []
