"""Checking all that an inventory would do, before any of it is done: by the rules that the services
themselves apply, each asked of the content as it would be."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from neatlatch.core import profiles
from neatlatch.core.inventory import reading
from neatlatch.core.inventory.merging import Change, Outcome
from neatlatch.core.inventory.reading import SAFE, Mistake
from neatlatch.core.inventory.shape import ANNOTATIONS, Content
from neatlatch.core.profiles import Profile
from neatlatch.desk.estate import object_notes
from neatlatch.desk.estate.applications.services import read_given
from neatlatch.desk.estate.clients import declared as clients
from neatlatch.desk.estate.connections import declared as connections
from neatlatch.desk.estate.connections.declared import DeclaredIn
from neatlatch.desk.estate.credentials import declared as credentials
from neatlatch.desk.estate.workloads import declared as workloads
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import Problem
from neatlatch.desk.ground.people import owners
from neatlatch.desk.ground.people.services import LAST_ADMINISTRATOR
from neatlatch.desk.work.access import services as access

from .collecting import CurrentState
from .plain import PlainFields

REGISTERED_THERE = (
    "the client is registered there by protocol; remove it on its page, so that it is removed "
    "there too"
)


def mistakes(
    by: Actor | None, now: CurrentState, outcome: Outcome, references: tuple[reading.Reference, ...]
) -> list[Mistake]:
    """All that is wrong with what an outcome would do, by line.

    ``now`` is everything as it is; ``by`` is who would do it (``None``: nobody yet); ``references``
    are the names in the file.
    """
    found = reading.missing(references, outcome.content)
    if found:
        return found  # rules may take it for granted that what is named is there
    removed = {(change.kind, change.key) for change in outcome.changes if change.act == "remove"}
    found += reading.still_named(outcome.content, removed)
    rules = _Rules(now.content, outcome.content)
    for change in outcome.changes:
        if change.act == "remove":
            found += _about(change, _check_removal, by, change, now)
        elif change.does:
            fields = outcome.content[change.kind][change.key]
            if ANNOTATIONS[0] in fields:
                found += _about(change, object_notes.declared, fields)
            if change.kind in rules.by_kind:
                found += _about(change, rules.by_kind[change.kind], change.key, fields)
    found += _about_administrators(now.content, outcome)
    return sorted(found, key=lambda mistake: mistake.line)


def _about(change: Change, check: Callable[..., object], *facts: object) -> list[Mistake]:
    try:
        check(*facts)
    except Problem as problem:
        return [of_problem(change.kind, change.key, change.line, problem)]
    return []


def of_problem(kind: str, key: str, line: int, problem: Problem) -> Mistake:
    """What a service, or one of its rules, says of an object of a file."""
    says = next(iter(problem.errors.values()), problem.detail)
    return Mistake(line or 1, f"{kind} → {key}", says.rstrip("."))


def _check_removal(by: Actor | None, change: Change, now: CurrentState) -> None:
    if change.kind == "clients" and change.key in now.managed:
        raise Problem(409, "It is registered there.", REGISTERED_THERE, code="still-registered")
    if change.kind == "people" and by is not None and change.key == by.username:
        raise Problem(
            409,
            "You cannot do this to yourself.",
            "you cannot remove yourself; ask another administrator",
            code="not-to-yourself",
        )


def _about_administrators(current: Content, outcome: Outcome) -> list[Mistake]:
    """Require that an administrator who can log in remains."""
    if not _administrators(current) or _administrators(outcome.content):
        return []
    changed = [change for change in outcome.changes if change.kind == "people" and change.does]
    return [
        Mistake(change.line or 1, f"people → {change.key}", LAST_ADMINISTRATOR.rstrip("."))
        for change in changed
        if change.key in _administrators(current)
    ]


def _administrators(content: Content) -> set[str]:
    people = content.get("people", {})
    return {
        key
        for key, person in people.items()
        if person["role"] == "administrator" and person["active"]
    }


class _Rules:
    """The rules for an object that is added or changed, by its kind."""

    def __init__(self, current: Content, content: Content) -> None:
        self._current, self._content = current, content
        self._profiles: dict[str, Profile | None] = {}
        self._ids: set[str] = set()
        self._held_at = _deployments_of_secrets(current, content)
        self.by_kind: Mapping[str, Callable[[str, PlainFields], object]] = {
            "owners": self._owner,
            "applications": self._application,
            "deployments": self._deployment,
            "clients": self._client,
            "credentials": self._credential,
            "connections": self._connection,
            "workloads": self._workload,
        }

    def _owner(self, key: str, fields: PlainFields) -> None:
        person = key.startswith("person/")
        reached = {name: fields[name] for name in ("mail", "zone", "deputy")}
        owners.ContactDetails(**{**reached, "mail": "" if person else reached["mail"]}).checked()
        if person and any(fields[name] for name in ANNOTATIONS):
            says = "a person's tags, notes and links belong to the person, not to the owner"
            raise Problem(422, "These belong to the person.", says, code="belongs-to-person")

    def _application(self, key: str, fields: PlainFields) -> None:
        read_given(fields["profile"], "")

    def _deployment(self, key: str, fields: PlainFields) -> None:
        access.check_declared(fields["access_rules"])
        where = f"{fields['application']}/{fields['environment']}"
        _check_named("deployment", "its application and environment", key, where)

    def _client(self, key: str, fields: PlainFields) -> None:
        identity = str(clients.check(fields))
        if identity in self._ids:
            raise Problem(409, "This ID is taken.", "another client has this ID", code="id-taken")
        self._ids.add(identity)

    def _credential(self, key: str, fields: PlainFields) -> None:
        credentials.check(key)

    def _profile(self, application: str) -> Profile | None:
        if application not in self._profiles:
            try:
                fields = self._content["applications"][application]
                self._profiles[application] = profiles.from_dict(fields["profile"])
            except profiles.BadProfile:  # which is told of the application
                self._profiles[application] = None
        return self._profiles[application]

    def _connection(self, key: str, fields: PlainFields) -> None:
        deployment = self._content["deployments"][fields["deployment"]]
        application = deployment["application"]
        profile = self._profile(application)
        if profile is None:
            return
        declared_in = DeclaredIn(
            application, self._content["applications"][application]["name"], profile
        )
        client = self._content["clients"][fields["client"]] if fields["client"] else None
        client_application = (
            self._content["deployments"][client["deployment"]]["application"] if client else None
        )
        connections.check_reference(key, deployment["environment"])
        connections.check(fields["scheme"], declared_in, client_application)
        before = self._current.get("connections", {}).get(key, {}).get("secrets", {})
        for name, reference in fields["secrets"].items():
            deployments = self._held_at.setdefault(reference.removeprefix(SAFE), set())
            if before.get(name) != reference:
                connections.check_belongs(name, fields["deployment"], deployments)
            deployments.add(fields["deployment"])

    def _workload(self, key: str, fields: PlainFields) -> None:
        workloads.check(fields)
        _check_named(
            "workload", "its name and environment", key, f"{fields['name']}/{fields['environment']}"
        )
        for use in fields["uses"]:
            if ref := use.get("connection"):
                deployment = self._content["deployments"][
                    self._content["connections"][ref]["deployment"]
                ]
                name = self._content["applications"][use["application"]]["name"]
                workloads.check_use(ref, deployment["application"], use["application"], name)


def _check_named(word: str, after: str, key: str, name: str) -> None:
    """Check that the name of an object in a file is what it is made of. Raises :class:`Problem`."""
    if key != name:
        raise Problem(
            422,
            "It has another name.",
            f"a {word} is named by {after}: {name}",
            code="name-differs",
        )


def _deployments_of_secrets(current: Content, content: Content) -> dict[str, set[object]]:
    """Where each credential is held: by connections as they are now, and by its client as it would
    be.
    """
    found: dict[str, set[object]] = {}
    clients = content.get("clients", {})
    for key, credential in content.get("credentials", {}).items():
        if (client := clients.get(credential["client"])) is not None:
            found.setdefault(key, set()).add(client["deployment"])
    for connection in current.get("connections", {}).values():
        for reference in connection["secrets"].values():
            found.setdefault(reference.removeprefix(SAFE), set()).add(connection["deployment"])
    return found
