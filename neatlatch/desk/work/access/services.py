"""Keeping access rules, bringing them in and out, pushing them to the application and reading them
back.
"""

from __future__ import annotations

import secrets
import time
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace
from typing import Any, Literal, TypeVar

from django.db import transaction
from django.utils import timezone

from neatlatch.core import access
from neatlatch.core.access import BadRules, Book, KnownRules, Matrix, formats
from neatlatch.core.addresses import joined_path
from neatlatch.core.profiles import Profile, RulesAt
from neatlatch.core.sending import Credentials, NotComplete
from neatlatch.desk.estate.connections import destinations
from neatlatch.desk.estate.records.applications.models import Deployment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.ground.common import heavy
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import Problem, check_unchanged, wrong_fields
from neatlatch.desk.ground.common.quick_rows import Reading
from neatlatch.desk.ground.journal.services import write
from neatlatch.wire import access_rules as wire
from neatlatch.wire.transport import Transport, TransportError

from .models import RuleBook

T = TypeVar("T")
Format = Literal["csv", "json"]
# So many rules, groups and rights of a difference are told; the rest is counted.
MOST_TOLD = 200


@dataclass(frozen=True)
class RulesInForce:
    """Rules with all that follows from them.

    ``derived``: they are the application's roles, and changed by changing an account's role.
    ``unknown`` says why rights and idle rules were not worked out, where they were not.
    """

    book: Book
    matrix: Matrix
    idle: tuple[int, ...]
    derived: bool
    unknown: str = ""


def rules_at(deployment: Deployment) -> RulesAt | None:
    """Where the application keeps rules, if it lets them be read and written."""
    return deployment.application.read_profile().rules


def book_of(deployment: Deployment) -> RuleBook:
    """The rule book of a deployment; a new one that is not saved yet where there is none."""
    found = RuleBook.objects.filter(deployment=deployment).first()
    return found or RuleBook(deployment=deployment, changed_at=timezone.now(), version=0)


def standing(deployment: Deployment, kept: RuleBook, book: Book | None = None) -> RulesInForce:
    """Rules, effective rights and idle rules: of ``book``, else of what is kept, else
    of the roles.
    """
    derived = deployment.application.read_profile().rules is None
    book = book if book is not None and not derived else book_now(deployment, kept)
    found = heavy.run(access.stand, book, known_rules(deployment, kept), not derived)
    return RulesInForce(book, found.matrix, found.idle, derived, found.unknown)


def known_rules(deployment: Deployment, kept: RuleBook) -> KnownRules:
    """What there is beside the rules. One query."""
    accounts = (
        Client.objects.filter(deployment=deployment)
        .exclude(account="")
        .values_list("account", flat=True)
    )
    return _known_of(deployment.application.read_profile(), kept, accounts)


def _known_of(profile: Profile, kept: RuleBook, accounts: Iterable[str]) -> KnownRules:
    if profile.rules is not None:
        return KnownRules(tuple(accounts), tuple(kept.resources), profile.rules.operations)
    return KnownRules(
        tuple(accounts),
        (*kept.resources, *(operation.path for operation in profile.operations)),
        tuple(dict.fromkeys(operation.method for operation in profile.operations)),
    )


def book_now(deployment: Deployment, kept: RuleBook | None = None) -> Book:
    """The rules that stand: those that are kept, or what the application's roles amount to."""
    profile = deployment.application.read_profile()
    if profile.rules is None:
        return _of_roles(deployment, profile)
    return (kept or book_of(deployment)).book()


@dataclass(frozen=True)
class Listed:
    """The rules of a deployment in the list: how many, how many of them never decide (``None``: too
    much work to tell), and whether the application has other rules.
    """

    deployment: Deployment
    derived: bool
    rules: int
    idle: int | None
    differs: bool


_holders = Reading(
    Client, "t.place_id IN {keys}", only=("deployment", "account", "name", "rights"), order="t.name"
)


def listed(deployments: Sequence[Deployment]) -> list[Listed]:
    """The rules of many deployments, which were read with their applications. Two queries."""
    books = RuleBook.objects.in_bulk([deployment.pk for deployment in deployments])
    clients: dict[int, list[Client]] = {}
    for holder in _holders(deployment.pk for deployment in deployments):
        clients.setdefault(holder.deployment_id, []).append(holder)
    found: list[Listed] = []
    counted: list[tuple[int, tuple[Book, KnownRules]]] = []
    for deployment in deployments:
        profile, own = deployment.application.read_profile(), clients.get(deployment.pk, [])
        if profile.rules is None:
            found.append(Listed(deployment, True, len(_derived(profile, own).rules), 0, False))
            continue
        kept = books.get(deployment.pk) or RuleBook(deployment=deployment, version=0)
        book, there = kept.book(), kept.provider_book()
        found.append(
            Listed(deployment, False, len(book.rules), 0, there is not None and there != book)
        )
        if book.rules:
            counted.append(
                (
                    len(found) - 1,
                    (
                        book,
                        _known_of(
                            profile,
                            kept,
                            [principal.account for principal in own if principal.account],
                        ),
                    ),
                )
            )
    if counted:
        counts = heavy.run(access.count_idle, [one for _, one in counted])
        for (number, _), idle in zip(counted, counts, strict=True):
            found[number] = replace(found[number], idle=idle)
    return found


def _of_roles(deployment: Deployment, profile: Profile) -> Book:
    return _derived(profile, Client.objects.filter(deployment=deployment))


def _derived(profile: Profile, clients: Iterable[Client]) -> Book:
    holders = {
        client.account or client.name: list(client.rights) for client in clients if client.rights
    }
    return access.derive(profile.roles, profile.operations, holders)


def preview(deployment: Deployment, kept: RuleBook, text: str, form: Format) -> formats.Preview:
    """What rules out of a text would change.

    Raises a field error that says what is wrong and in which line.
    """
    found = _read(
        formats.preview,
        text,
        form,
        kept.book(),
        known_rules(deployment, kept),
        _operations(deployment),
        MOST_TOLD,
    )
    if found.difference.unknown:
        raise wrong_fields({"text": found.difference.unknown})
    return found


def out_of(deployment: Deployment, text: str, form: Format) -> Book:
    """Rules out of a text. Raises a field error that says what is wrong and in which line."""
    return _read(formats.read, text, form, _operations(deployment))


def _read(function: Callable[..., T], *arguments: Any) -> T:
    try:
        return heavy.run(function, *arguments)
    except BadRules as error:
        raise wrong_fields(
            {"text": f"{str(error)[:1].upper()}{str(error)[1:]}. Nothing was changed."}
        ) from error


def _operations(deployment: Deployment) -> tuple[str, ...]:
    return (rules_at(deployment) or RulesAt()).operations


def from_plain(deployment: Deployment, content: object) -> Book:
    """Rules out of plain values. Raises a field error."""
    try:
        return formats.from_plain(content, _operations(deployment))
    except BadRules as error:
        raise wrong_fields({"rules": f"{str(error)[:1].upper()}{str(error)[1:]}."}) from error


def difference(
    deployment: Deployment, kept: RuleBook, before: Book, after: Book
) -> formats.Difference:
    """What a change from one book to another comes to, in rules and in rights."""
    return heavy.run(formats.difference, before, after, known_rules(deployment, kept), MOST_TOLD)


def _writable(deployment: Deployment) -> RulesAt:
    found = rules_at(deployment)
    if found is None:
        raise Problem(
            409,
            "This application has roles in place of rules.",
            "What an account may do is changed by changing its role there.",
            code="application-has-roles",
        )
    return found


def save(by: Actor, kept: RuleBook, book: Book, did: str = "changed the access rules") -> RuleBook:
    """Keep these rules in place of those that stood in ``kept``, whose version was checked.

    Raises :class:`Problem` where another edit came between, and a field error where they are too
    many to be worked out.
    """
    deployment = kept.deployment
    _writable(deployment)
    told = difference(deployment, kept, kept.book(), book)
    if too_much := told.unknown or standing(deployment, kept, book).unknown:
        raise wrong_fields({"rules": f"{too_much} Nothing was changed."})
    return _save(by, deployment, book, did, told, kept.version)


@transaction.atomic
def _save(
    by: Actor,
    deployment: Deployment,
    book: Book,
    did: str,
    difference: formats.Difference,
    version: int,
) -> RuleBook:
    kept = RuleBook.objects.select_for_update().filter(deployment=deployment).first() or RuleBook(
        deployment=deployment, version=0
    )
    check_unchanged(kept.version, version)
    kept.content, kept.version = formats.as_plain(book), kept.version + 1
    kept.changed_at, kept.changed_by = timezone.now(), by.username
    kept.save()
    changes = (
        [f"{rule.says} added" for rule in difference.added]
        + [f"{rule.says} taken away" for rule in difference.gone]
        + list(difference.groups)
    )
    if difference.reordered:
        changes.append("put in another order")
    write(
        by,
        did,
        "access rules",
        f"{deployment.application.key} {deployment.environment.key}",
        {"id": deployment.pk, "version": kept.version, "changes": changes[:100]},
    )
    return kept


@transaction.atomic
def check_declared(fields: dict[str, Any]) -> dict[str, Any]:
    """Check the access rules that a file declares; what is kept of them. Raises a field error."""
    try:
        return formats.as_plain(formats.from_plain(fields)) if fields else {}
    except BadRules as error:
        raise wrong_fields({"access_rules": f"access rules: {error}"}) from error


def declare(by: Actor, deployment: Deployment, fields: dict[str, Any]) -> None:
    """Keep the access rules that a file declares of a deployment; empty: none.

    Raises a field error. Part of the change of that deployment, which is what the journal tells.
    """
    content = check_declared(fields)
    kept = RuleBook.objects.select_for_update().filter(deployment=deployment).first()
    if kept is None and not content:
        return
    kept = kept or RuleBook(deployment=deployment, version=0)
    if kept.content != content:
        kept.content, kept.version = content, kept.version + 1
        kept.changed_at, kept.changed_by = timezone.now(), by.username
        kept.save()


# At the application


def _endpoint(deployment: Deployment) -> tuple[Connection, str, Credentials]:
    """Where the rules are, and a credential that some connection holds for it."""
    at = _writable(deployment)
    profile = deployment.application.read_profile()
    start = f"{at.endpoint}." if at.endpoint else ""
    for connection in (
        Connection.objects.filter(deployment=deployment)
        .prefetch_related("held_secrets__credential")
        .order_by("paused", "ref")
    ):
        scheme = profile.scheme_for(connection.scheme)
        endpoint = next((each for each in scheme.endpoints if each.key == at.endpoint), None)
        base = connection.values.get(f"{start}api_base", "")
        secrets_of = {
            key.removeprefix(start): held.open().reveal()
            for key, held in connection.sent_secrets().items()
            if key.startswith(start)
        }
        if base and secrets_of and (endpoint is not None or not at.endpoint):
            values = {
                key.removeprefix(start): value
                for key, value in connection.values.items()
                if key.startswith(start)
            }
            kind, settings = (
                (endpoint.kind, endpoint.settings)
                if endpoint
                else (connection.scheme, scheme.settings)
            )
            return (
                connection,
                joined_path(base, at.path),
                Credentials(kind, values, secrets_of, settings),
            )
    raise Problem(
        409,
        "No connection can reach its rules.",
        f"A connection into {deployment.application.name} in {deployment.environment.name} with "
        f"the credential of the {at.endpoint or 'API'} is required. Set one up first.",
        code="rules-not-reachable",
    )


def _published_rules(
    connection: Connection, ask: Callable[[Transport, str, int], wire.PublishedRules]
) -> wire.PublishedRules:
    try:
        with destinations.transport_of(connection, 15.0) as transport:
            return ask(transport, secrets.token_hex(12), int(time.time()))
    except wire.RulesRefused as error:
        if error.changed:
            raise Problem(
                409,
                "The rules were changed there manually.",
                "Nothing was written. Read them back and look at what differs.",
                code="provider-rules-changed",
            ) from error
        raise Problem(
            502, "The application did not do it.", str(error), code="application-refused"
        ) from error
    except NotComplete as error:
        raise Problem(
            409, "The credential is not complete.", str(error), code="credential-incomplete"
        ) from error
    except TransportError as error:
        raise Problem(
            502,
            "The application could not be reached.",
            f"{error.failure.detail} Nothing was changed.",
            code="application-unreachable",
        ) from error


def read_back(by: Actor, deployment: Deployment) -> RuleBook:
    """Read the rules that the application holds now."""
    connection, address, held = _endpoint(deployment)
    found = _published_rules(
        connection, lambda transport, nonce, now: wire.read(transport, address, held, nonce, now)
    )
    return _saw(by, deployment, found, "read the access rules back")


@transaction.atomic
def _saw(
    by: Actor,
    deployment: Deployment,
    published: wire.PublishedRules,
    did: str,
    pushed: Book | None = None,
) -> RuleBook:
    kept = RuleBook.objects.select_for_update().filter(deployment=deployment).first() or RuleBook(
        deployment=deployment, version=0, changed_at=timezone.now()
    )
    before = kept.book_pushed()
    kept.there, kept.tag, kept.read_at = (
        formats.as_plain(published.book),
        published.tag,
        timezone.now(),
    )
    kept.resources = list(published.resources) or kept.resources
    if pushed is not None:
        kept.pushed, kept.pushed_at = formats.as_plain(pushed), timezone.now()
    kept.save()
    by_hand = pushed is None and before is not None and before != published.book
    write(
        by,
        did,
        "access rules",
        f"{deployment.application.key} {deployment.environment.key}",
        {"rules": len(published.book.rules), "changed there manually": by_hand},
    )
    return kept


def push(by: Actor, deployment: Deployment) -> RuleBook:
    """Write our rules to the application, in place of those that were last read there.

    Refused where they were changed since.
    """
    kept = book_of(deployment)
    if not kept.tag or kept.there is None:
        raise Problem(
            409,
            "It is not known which rules stand there.",
            "Read them back first, so that nothing is overwritten unseen.",
            code="provider-rules-unknown",
        )
    connection, address, held = _endpoint(deployment)
    book = kept.book()
    found = _published_rules(
        connection,
        lambda transport, nonce, now: wire.write(
            transport, address, held, nonce, now, book, kept.tag
        ),
    )
    return _saw(by, deployment, found, "pushed the access rules", book)


def take_theirs(by: Actor, deployment: Deployment) -> RuleBook:
    """Take the rules that were last read there as ours."""
    kept = book_of(deployment)
    there = kept.provider_book()
    if there is None:
        raise Problem(
            409,
            "The rules there have not been read yet.",
            "Read them back first.",
            code="provider-rules-not-read",
        )
    return save(by, kept, there, "took the application's access rules")
