"""Profiles: what an application requires of a caller.

A profile says which schemes the application takes and which values each needs, what its scopes
mean, which operations there are and what a harmless test of real work looks like. Forms, checks and
the API are made from it.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping
from dataclasses import asdict, dataclass, replace
from typing import Any, Literal

from . import addresses, pointers, relaying, schemes
from .retries import IDEMPOTENT
from .schemes import CLIENT, CODE, KINDS, Scheme, Value
from .scopes import Alternatives
from .signed_calls import SignedCalls

ScopeKind = Literal["read", "write", "admin"]
# Where an answer may have the ID of what was made, beside the places of its content (RFC 9110
# §10.2.2).
LOCATION = "Location"


@dataclass(frozen=True)
class ScopeInfo:
    """A scope: what it means, how grave it is, who may consent, and what it implies."""

    name: str
    meaning: str = ""
    kind: ScopeKind = "read"
    administrator: bool = False
    implies: tuple[str, ...] = ()


@dataclass(frozen=True)
class Operation:
    """Something the API can do, and the alternatives of scopes that allow it (an OpenAPI security
    requirement).
    """

    method: str
    path: str
    summary: str = ""
    alternatives: Alternatives = ()

    @property
    def name(self) -> str:
        """As people quote it: ``PUT /manifests/{number}``."""
        return f"{self.method} {self.path}"

    def covers(self, method: str, path: str) -> bool:
        """Whether a call is this operation; a slot such as ``{number}`` stands for any one segment
        (OpenAPI 3.1.0 §4.8.8).
        """
        pattern = "".join(
            "[^/]+" if part.startswith("{") else re.escape(part)
            for part in re.split(r"(\{[^{}]*\})", self.path)
        )
        return self.method == method and re.fullmatch(pattern, path) is not None


@dataclass(frozen=True)
class Probe:
    """A piece of real work that is made, looked at and cleared away.

    In every text ``{test}`` stands for the test's own mark, so that what it makes can be told from
    real things and found again. Where the application gives an ID of its own, ``id_at`` says where
    its answer to the making has it: a JSON Pointer (RFC 6901), or ``Location`` for the last segment
    of that header field's address; the paths of look and clearing may then hold ``{id}``. Without
    it making must be idempotent (RFC 9110 §9.2.2), because a test may be cut off and repeated;
    clearing always.
    """

    make_method: str
    make_path: str
    make_body: Mapping[str, Any]
    look_path: str
    clear_method: str
    clear_path: str
    id_at: str = ""


@dataclass(frozen=True)
class ApplicationLimits:
    """What the application allows: live secrets, seconds a token lives, seconds a change takes to
    spread.

    ``idle_life``: seconds after which a refresh token ends that was not used; 0: it does not say.
    """

    live_secrets: int = 1
    token_life: int = 3600
    spread: int = 30
    idle_life: int = 0


@dataclass(frozen=True)
class RulesAt:
    """Where an application keeps access rules that can be read and written: by which further
    endpoint (empty: the API's own), at which path, for which operations, and what a resource is
    called there.
    """

    endpoint: str = ""
    path: str = "/rules"
    operations: tuple[str, ...] = ()
    resource: str = "resource"


@dataclass(frozen=True)
class Profile:
    """All of it. ``slots`` are filled once for a connection and stand in every address that has
    them (``{tenant}``).

    ``relays`` names header fields of its own that pass the relay both ways. ``roles`` stand where
    an application has roles or permissions of an account in place of scopes; ``operations`` then
    name those. ``signed_calls`` says how the application signs what it sends to us, if it does.
    """

    schemes: tuple[Scheme, ...] = ()
    slots: tuple[Value, ...] = ()
    roles: tuple[ScopeInfo, ...] = ()
    roles_label: str = "role"
    scopes: tuple[ScopeInfo, ...] = ()
    operations: tuple[Operation, ...] = ()
    harmless: str = ""
    probe: Probe | None = None
    limits: ApplicationLimits = ApplicationLimits()
    rules: RulesAt | None = None
    relays: tuple[str, ...] = ()
    signed_calls: SignedCalls | None = None

    @property
    def implies(self) -> dict[str, tuple[str, ...]]:
        """What each scope implies at once."""
        return {scope.name: scope.implies for scope in (*self.scopes, *self.roles) if scope.implies}

    def scope(self, name: str) -> ScopeInfo | None:
        """A scope by its name."""
        return next((scope for scope in self.scopes if scope.name == name), None)

    def operation(self, name: str) -> Operation | None:
        """An operation by ``METHOD /path``."""
        return next((operation for operation in self.operations if operation.name == name), None)

    def scheme(self, key: str) -> Scheme | None:
        """A scheme by its key."""
        return next((scheme for scheme in self.schemes if scheme.key == key), None)

    def scheme_for(self, key: str) -> Scheme:
        """A scheme by its key; one that the profile no longer has as its kind is, so that what goes
        by it is still shown.
        """
        return self.scheme(key) or replace(KINDS[key], further=_further(self.signed_calls))

    def known_rights(self, noted: Iterable[str]) -> frozenset[str] | None:
        """Return the rights of an account, ``noted`` at its client; ``None``: nobody knows them."""
        return (frozenset(noted) or None) if self.roles else None

    def harmless_call(self) -> Operation | None:
        """The call that tests a right and changes nothing: the one named, else the first GET whose
        path has no slot.
        """
        if named := self.operation(self.harmless):
            return named
        return next(
            (
                operation
                for operation in self.operations
                if operation.method == "GET" and "{" not in operation.path
            ),
            None,
        )


def first_harmless(
    named: Operation | None, operations: Iterable[Operation], may: Callable[[Operation], bool]
) -> Operation | None:
    """The harmless call to make: the first reading one without a slot that is allowed, the named
    one before others; where none is, the first of them.
    """
    calls = [
        operation
        for operation in (named, *operations)
        if operation is not None and operation.method == "GET" and "{" not in operation.path
    ]
    return next((call for call in calls if may(call)), calls[0] if calls else None)


def readings(operations: Iterable[Operation], may: Callable[[Operation], bool]) -> list[Operation]:
    """Return the operations that read something, need no slot filled, and are allowed: real work
    where nothing may be made.
    """
    return [
        operation
        for operation in operations
        if operation.method == "GET" and "{" not in operation.path and may(operation)
    ]


AUTHORIZATION_CODE, CLIENT_CREDENTIALS = KINDS[CODE], KINDS[CLIENT]


def schemes_for(grants: tuple[str, ...]) -> tuple[Scheme, ...]:
    """The schemes that a server's grants make possible."""
    return tuple(kind for kind in KINDS.values() if kind.grant and kind.grant in grants)


def check_values(scheme: Scheme, given: Mapping[str, str]) -> dict[str, str]:
    """What is wrong with the values of a form, by key; empty: nothing.

    Secrets and scopes are not looked at here.
    """
    wrong: dict[str, str] = {}
    for value in scheme.all_values():
        text = given.get(value.key, "")
        if value.secret or value.type == "scopes":
            continue
        if not text:
            if value.required:
                wrong[value.key] = f"{value.label} is needed. {value.help}"
        elif value.choices and text not in value.choices:
            wrong[value.key] = f"{value.label} must be one of {', '.join(value.choices)}."
        elif value.pattern and not re.fullmatch(value.pattern, text):
            wrong[value.key] = f"{value.label} does not look right. {value.help}"
        elif value.type == "certificate" and "-----BEGIN" not in text:
            wrong[value.key] = (
                f"{value.label} is required in PEM, from -----BEGIN CERTIFICATE----- to the end."
            )
        elif (
            value.type == "host"
            and (said := addresses.host_port_mistake(text))
            or value.type == "address"
            and value.key != "redirect_uri"
            and (said := addresses.uncallable(text))
        ):
            wrong[value.key] = said
    return wrong


def fill_slots(text: str, slots: Mapping[str, str]) -> str:
    """An address pattern with its slots filled: ``https://ids.example/{tenant}/token``.

    A slot without a value stays as it is.
    """
    for key, value in slots.items():
        if value:
            text = text.replace("{" + key + "}", value)
    return text


def to_dict(profile: Profile) -> dict[str, Any]:
    """Plain values, for keeping and for answers."""
    kept = asdict(profile)
    for scheme in kept["schemes"]:
        scheme["settings"], scheme["endpoints"] = (
            dict(scheme["settings"]),
            list(scheme["endpoints"]),
        )
        del scheme["further"]  # it follows from signed_calls
    kept["operations"] = [_plain_operation(operation) for operation in profile.operations]
    return kept


def brief(profile: Profile) -> dict[str, Any]:
    """Plain values as a person would write them: what a scheme's kind says already is left out.

    :func:`from_dict` reads them back the same.
    """
    found: dict[str, Any] = {}
    for name in ("slots", "roles", "scopes"):
        if ones := getattr(profile, name):
            found[name] = [_brief(item) for item in ones]
    found["schemes"] = [_brief_scheme(scheme) for scheme in profile.schemes]
    if profile.roles:
        found["roles_label"] = profile.roles_label
    found["operations"] = [_plain_operation(operation) for operation in profile.operations]
    if profile.harmless:
        found["harmless"] = profile.harmless
    if profile.probe:
        found["probe"] = {
            name: value for name, value in vars(profile.probe).items() if name != "id_at" or value
        }
    found["limits"] = dict(vars(profile.limits))
    if profile.relays:
        found["relays"] = list(profile.relays)
    if profile.signed_calls:
        usual = SignedCalls()
        found["signed_calls"] = {
            name: said
            for name, said in vars(profile.signed_calls).items()
            if name == "method" or said != getattr(usual, name)
        }
    if profile.rules:
        found["rules"] = {**vars(profile.rules), "operations": list(profile.rules.operations)}
    return found


def _brief(item: ScopeInfo | Value) -> dict[str, Any]:
    """A scope, a role or a slot without what is not said of it."""
    said = {
        key: value
        for key, value in vars(item).items()
        if value not in ("", (), False) or key == "kind"
    }
    if "implies" in said:
        said["implies"] = list(said["implies"])
    said.pop("choices", None)
    return said


def _plain_operation(operation: Operation) -> dict[str, Any]:
    return {
        "method": operation.method,
        "path": operation.path,
        "summary": operation.summary,
        "alternatives": [sorted(some) for some in operation.alternatives],
    }


def _brief_scheme(scheme: Scheme) -> dict[str, Any]:
    base, found = KINDS[scheme.key], {"key": scheme.key}
    if scheme.label != base.label:
        found["label"] = scheme.label
    values = []
    for value, usual in zip(scheme.values, base.values, strict=True):
        own = {
            field: said
            for field, said in vars(value).items()
            if said != getattr(usual, field) and field not in ("where", "secret", "type")
        }
        if own:
            values.append(
                {
                    "key": value.key,
                    **{
                        field: list(said) if isinstance(said, tuple) else said
                        for field, said in own.items()
                    },
                }
            )
    told: dict[str, Any] = {
        "settings": {
            name: said for name, said in scheme.settings.items() if base.settings.get(name) != said
        },
        "values": values,
        "where": {value.key: value.where for value in scheme.values if value.where},
        "switches": list(scheme.switches),
        "acts": [
            {"says": act.says} | ({"copy": act.copy} if act.copy else {}) for act in scheme.acts
        ],
        "endpoints": [
            {
                "key": endpoint.key,
                "label": endpoint.label,
                "kind": endpoint.kind,
                "harmless": endpoint.harmless,
                "where": {
                    value.key.rpartition(".")[2]: value.where
                    for value in endpoint.values
                    if value.where
                },
            }
            for endpoint in scheme.endpoints
        ],
    }
    return found | {name: said for name, said in told.items() if said}


def unsound(profile: Profile) -> str:
    """Why a profile should not be saved although it can be read, in one sentence; empty: nothing
    speaks against it.

    What was saved before such a rule is read all the same.
    """
    if path := path_of_its_own(profile):
        return (
            f"{path[:200]} is an address. A path begins with / and is added to the "
            f"connection's own address."
        )
    if profile.signed_calls and (said := profile.signed_calls.unsound()):
        return said
    return _unsound_probe(profile.probe) if profile.probe else ""


def _unsound_probe(probe: Probe) -> str:
    if probe.id_at and probe.id_at != LOCATION:
        try:
            if not pointers.tokens(probe.id_at):
                raise pointers.BadPointer
        except pointers.BadPointer:
            return (
                f"“{probe.id_at[:80]}” does not say where the ID is: write a JSON Pointer "
                f"such as /number (RFC 6901), or {LOCATION}."
            )
    if "{id}" in f"{probe.make_path}{probe.make_body}":
        return (
            "{id} is known only after the making, so it cannot stand in make_path or make_body; "
            "{test} can."
        )
    if "{id}" in f"{probe.look_path}{probe.clear_path}" and not probe.id_at:
        return (
            "look_path or clear_path holds {id}: say in id_at where the answer to the making "
            "has it."
        )
    if probe.id_at and "{id}" not in probe.clear_path:
        return (
            "id_at names an ID, so clear_path must hold {id}: else something else would be "
            "cleared away."
        )
    if probe.make_method.upper() not in IDEMPOTENT and not probe.id_at:
        return (
            f"{probe.make_method} makes another one each time (RFC 9110 §9.2.2): say in id_at "
            f"where the answer has the ID of what was made."
        )
    if probe.clear_method.upper() not in IDEMPOTENT:
        return (
            f"{probe.clear_method} cannot be repeated (RFC 9110 §9.2.2), and clearing may have "
            f"to be: use DELETE."
        )
    return ""


def path_of_its_own(profile: Profile) -> str:
    """The first path of a profile that is an address of its own, or empty: every path stands behind
    an address of the connection, so that a profile cannot say where a secret is sent.
    """
    probe, ends = (
        profile.probe,
        (one.harmless for scheme in profile.schemes for one in scheme.endpoints),
    )
    paths = [
        *(operation.path for operation in profile.operations),
        *((probe.make_path, probe.look_path, probe.clear_path) if probe else ()),
        *ends,
        *((profile.rules.path,) if profile.rules else ()),
    ]
    return next((path for path in paths if "://" in path or path.startswith("//")), "")


class BadProfile(ValueError):
    """A profile cannot be read; the message says what is wrong."""


def from_dict(kept: Mapping[str, Any]) -> Profile:
    """Read a profile from plain values. Raises :class:`BadProfile`."""
    try:
        signed = _signed_calls(kept["signed_calls"]) if kept.get("signed_calls") else None
        found = Profile(
            schemes=tuple(
                replace(_scheme(scheme), further=_further(signed))
                for scheme in kept.get("schemes", ())
            ),
            slots=tuple(_value(slot) for slot in kept.get("slots", ())),
            roles=tuple(_scope(role) for role in kept.get("roles", ())),
            roles_label=str(kept.get("roles_label", "role")),
            scopes=tuple(_scope(scope) for scope in kept.get("scopes", ())),
            operations=tuple(_operation(operation) for operation in kept.get("operations", ())),
            harmless=str(kept.get("harmless", "")),
            probe=Probe(**kept["probe"]) if kept.get("probe") else None,
            limits=ApplicationLimits(**kept.get("limits", {})),
            relays=tuple(str(relay) for relay in kept.get("relays", ())),
            rules=RulesAt(
                **{**kept["rules"], "operations": tuple(kept["rules"].get("operations", ()))}
            )
            if kept.get("rules")
            else None,
            signed_calls=signed,
        )
    except BadProfile:
        raise
    except (TypeError, KeyError, AttributeError, ValueError) as error:
        raise BadProfile(f"The profile cannot be read: {error}") from error
    _check(found)
    return found


def _check(profile: Profile) -> None:
    keys = [scheme.key for scheme in profile.schemes]
    if twice := next((key for key in keys if keys.count(key) > 1), None):
        raise BadProfile(f"Scheme {twice!r} occurs twice; an application offers each kind once.")
    if wrong := next((relay for relay in profile.relays if not relaying.may_travel(relay)), None):
        raise BadProfile(f"{wrong!r} is no header field that may pass the relay.")
    if profile.harmless and profile.operation(profile.harmless) is None:
        raise BadProfile(f"The harmless call {profile.harmless!r} is not one of the operations.")
    if (
        profile.rules
        and profile.rules.endpoint
        and not any(
            one.key == profile.rules.endpoint for s in profile.schemes for one in s.endpoints
        )
    ):
        raise BadProfile(
            f"The access rules are kept at {profile.rules.endpoint!r}, which is not one of the "
            f"further endpoints."
        )
    for scheme in profile.schemes:
        for value in scheme.all_values():
            try:
                re.compile(value.pattern)
            except re.error as error:
                raise BadProfile(
                    f"The pattern of {value.label} is not a regular expression: {error}."
                ) from error
        if scheme.settings.get("placement", "header") not in ("header", "query", "cookie"):
            raise BadProfile(
                "An API key travels in a header, in the query or in a cookie: placement is "
                "one of these."
            )


OF_ENDPOINT = frozenset({"key", "label", "kind", "harmless", "values", "where", "settings"})
OF_SCHEME = frozenset(
    {
        "key",
        "label",
        "grant",
        "values",
        "where",
        "settings",
        "switches",
        "acts",
        "endpoints",
        "help",
    }
)


def _scheme(kept: Mapping[str, Any]) -> Scheme:
    """A scheme, named by its kind: its values are the kind's, with the profile's own words, and
    more of them where the profile lists more.
    """
    if kept["key"] not in KINDS:
        raise BadProfile(f"Scheme {kept['key']!r} is not known; known are {', '.join(KINDS)}.")
    if unknown := sorted(set(kept) - OF_SCHEME):
        raise BadProfile(f"“{unknown[0]}” is not something that a scheme has.")
    base = KINDS[kept["key"]]
    said = {str(value["key"]): value for value in kept.get("values", ())}
    if unknown := sorted(set(said) - {value.key for value in base.values}):
        raise BadProfile(f"Value {unknown[0]!r} is not one that the scheme “{base.label}” has.")
    values = tuple(
        _value(
            {**asdict(value), **said.get(value.key, {}), "secret": value.secret, "type": value.type}
        )
        for value in base.values
    )
    scheme = replace(
        base,
        label=str(kept.get("label") or base.label),
        values=values,
        settings={
            **base.settings,
            **{str(key): str(value) for key, value in (kept.get("settings") or {}).items()},
        },
        switches=tuple(str(switch) for switch in kept.get("switches", ())),
        acts=tuple(
            schemes.ManualAct(str(act["says"]), str(act.get("copy", "")))
            for act in kept.get("acts", ())
        ),
        endpoints=tuple(_endpoint(endpoint) for endpoint in kept.get("endpoints", ())),
    )
    return schemes.with_directions(scheme, kept.get("where") or {})


def _signed_calls(kept: Mapping[str, Any]) -> SignedCalls:
    tolerance = kept.get("tolerance", SignedCalls.tolerance)
    if isinstance(tolerance, bool) or not isinstance(tolerance, int):
        raise BadProfile("signed_calls: tolerance is a whole number of seconds.")
    texts = {name: str(said) for name, said in kept.items() if name != "tolerance"}
    return SignedCalls(tolerance=tolerance, **texts)  # type: ignore[arg-type]


def _further(signed: SignedCalls | None) -> tuple[Value, ...]:
    """The values that every scheme of the application has beside its own."""
    return (signed.value,) if signed else ()


def _endpoint(kept: Mapping[str, Any]) -> schemes.Endpoint:
    if kept["kind"] not in schemes.ENDPOINT_KINDS:
        raise BadProfile(
            f"A further endpoint is of one of the kinds "
            f"{', '.join(schemes.ENDPOINT_KINDS)}, not {kept['kind']!r}."
        )
    where = {
        str(value["key"]).rpartition(".")[2]: str(value.get("where", ""))
        for value in kept.get("values", ())
    } | dict(kept.get("where") or {})
    return schemes.endpoint(
        str(kept["key"]),
        str(kept["label"]),
        kept["kind"],
        str(kept.get("harmless", "")),
        where,
        kept.get("settings") or {},
    )


def _value(kept: Mapping[str, Any]) -> Value:
    return Value(**{**kept, "choices": tuple(kept.get("choices", ()))})


def _scope(kept: Mapping[str, Any]) -> ScopeInfo:
    return ScopeInfo(**{**kept, "implies": tuple(kept.get("implies", ()))})


def _operation(kept: Mapping[str, Any]) -> Operation:
    return Operation(
        kept["method"].upper(),
        kept["path"],
        kept.get("summary", ""),
        tuple(frozenset(alternative) for alternative in kept.get("alternatives", ())),
    )


__all__ = [
    "AUTHORIZATION_CODE",
    "CLIENT",
    "CLIENT_CREDENTIALS",
    "CODE",
    "BadProfile",
    "ApplicationLimits",
    "Operation",
    "Probe",
    "Profile",
    "Scheme",
    "ScopeInfo",
    "ScopeKind",
    "Value",
    "check_values",
    "fill_slots",
    "from_dict",
    "schemes_for",
    "to_dict",
]
