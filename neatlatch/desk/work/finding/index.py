"""The index of everything that can be found: one full-text table, kept up to date with what is
saved and deleted (SQLite FTS5).
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

from django.apps import apps
from django.db import connection as database
from django.db import transaction
from django.db.models import Model
from django.db.models.signals import post_delete, post_save
from django.utils import timezone

from neatlatch.core.certificates import facts, reading
from neatlatch.desk.authority.records.certificates.models import Authority, Issued
from neatlatch.desk.estate.records.annotations.models import TARGETS, Annotation
from neatlatch.desk.estate.records.applications.models import Application, Deployment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.ground.common import giving_way
from neatlatch.desk.ground.people.models import Owner, Person, Team

from .models import Rebuild, SavedFilter

LISTS = {
    "connections": "/connections",
    "credentials": "/credentials",
    "workloads": "/workloads",
    "applications": "/applications",
    "people": "/people",
    "owners": "/owners",
    "scopes": "/scopes",
    "redirect-uris": "/redirect-uris",
    "access-rules": "/access-rules",
}


@dataclass(frozen=True)
class Entry:
    """Something to be found: its kind, its name as it is shown, further words that find it, where
    it is, and what is said beside it.
    """

    kind: str
    name: str
    address: str
    words: str = ""
    detail: str = ""


def of_application(application: Application) -> Iterator[Entry]:
    """By name, key, purpose, owner and addresses."""
    hosts = " ".join(
        address
        for deployment in application.deployments.all()
        for address in deployment.by_key().values()
    )
    yield Entry(
        "application",
        application.name,
        f"/applications/{application.key}",
        f"{application.key} {application.purpose} {application.owner_name} {hosts}",
        application.purpose,
    )


def of_connection(connection: Connection) -> Iterator[Entry]:
    """By reference name, application, environment, account; its certificate by thumbprint."""
    deployment, address = connection.deployment, f"/connections/{connection.ref}"
    named = " ".join(
        str(connection.values.get(key, ""))
        for key in ("account", "username", "client_id", "key_id", "client_key", "redirect_uri")
    )
    yield Entry(
        "connection",
        connection.ref,
        address,
        f"{deployment.application.name} {deployment.environment.name} {named}",
        f"{deployment.application.name}, {deployment.environment.name}",
    )
    if pem := connection.values.get("certificate"):
        for certificate in _certificates(pem):
            sha256, sha1 = certificate.sha256, certificate.sha1
            yield Entry(
                "thumbprint",
                _colons(sha256),
                address,
                f"{sha256} {_colons(sha1)} {sha1} {certificate.subject} {connection.ref}",
                f"certificate of {connection.ref}",
            )


def _certificates(pem: str) -> list[facts.CertificateFacts]:
    try:
        return [
            facts.of_certificate(certificate)
            for certificate in reading.read(pem.encode("utf-8")).certificates
        ]
    except ValueError:
        return []


def _colons(digits: str) -> str:
    plain = digits.replace(":", "").upper()
    return ":".join(plain[at : at + 2] for at in range(0, len(plain), 2))


def of_client(client: Client) -> Iterator[Entry]:
    """By name, ID, account and whatever it is known by there; each of its redirect URIs."""
    deployment, address = client.deployment, f"/clients/{client.pk}"
    where = f"{deployment.application.name}, {deployment.environment.name}"
    known = " ".join(str(value) for key, value in client.facts.items() if key != "thumbprint")
    yield Entry(
        "client",
        client.name,
        address,
        f"{client.client_id} {client.account} {known} {where} {' '.join(client.contacts)}",
        f"{client.client_id or where}",
    )
    for uri in client.redirect_uris:
        yield Entry(
            "redirect URI",
            uri,
            f"{address}/redirect-uris",
            "",
            f"{client.name}, {deployment.environment.name}",
        )
    if thumbprint := str(client.facts.get("thumbprint", "")):
        plain = thumbprint.replace(":", "").lower()
        yield Entry("thumbprint", _colons(plain), address, plain, f"held by {where}")


def of_credential(credential: Credential) -> Iterator[Entry]:
    """By its hint and the ID of the secret."""
    where = ""
    if credential.client:
        deployment = credential.client.deployment
        where = f"{deployment.application.name}, {deployment.environment.name}"
    yield Entry(
        "credential",
        credential.hint,
        f"/credentials?words={credential.hint.lstrip('…')}",
        f"{credential.secret_id} {credential.kind.replace('_', ' ')} {where}",
        f"{credential.kind.replace('_', ' ')}{', ' + where if where else ''}",
    )


def of_issued(issued: Issued) -> Iterator[Entry]:
    """A certificate of the house: by its names, serial number and fingerprint."""
    sha256 = issued.sha256.lower()
    yield Entry(
        "certificate",
        issued.common_name,
        f"/certificates/{issued.credential_id}",
        (
            f"{' '.join(map(str, issued.names))} {issued.serial} {_colons(issued.serial)} {sha256} "
            f"{_colons(sha256)}"
        ),
        f"…{issued.serial[-6:]}, {issued.profile} certificate, {issued.authority.name}",
    )


def of_authority(authority: Authority) -> Iterator[Entry]:
    """A certificate authority of the house, by its name and fingerprint."""
    sha256 = facts.of_certificate(authority.certificate()).sha256
    yield Entry(
        "authority",
        authority.name,
        "/certificates",
        f"{sha256.replace(':', '').lower()} {sha256}",
        authority.environment.name,
    )


def of_person(person: Person) -> Iterator[Entry]:
    """By name, login name and address."""
    yield Entry(
        "person",
        person.shown_name,
        f"/people/{person.username}",
        f"{person.username} {person.email}",
        person.role,
    )


def of_team(team: Team) -> Iterator[Entry]:
    """By name."""
    yield Entry("team", team.name, "/people#teams", "", "team")


def of_workload(workload: Workload) -> Iterator[Entry]:
    """By name and owner."""
    yield Entry(
        "workload",
        workload.name,
        f"/workloads/{workload.pk}",
        f"{workload.owner_name} {workload.kind} {workload.environment.name}",
        f"{workload.kind}, {workload.environment.name}",
    )


def of_owner(owner: Owner) -> Iterator[Entry]:
    """A contact, by name and address; people and teams are found as such."""
    if owner.kind == Owner.Kind.CONTACT:
        yield Entry("owner", owner.name, f"/owners/{owner.pk}", owner.address, owner.address)


def of_filter(saved_filter: SavedFilter) -> Iterator[Entry]:
    """A filter that is shared, by its name."""
    if saved_filter.shared:
        yield Entry(
            "filter",
            saved_filter.name,
            f"{LISTS.get(saved_filter.list, '/')}?words={saved_filter.words}",
            saved_filter.words,
            f"{saved_filter.list}: {saved_filter.words}",
        )


_WRITERS: dict[type[Model], Callable[[Any], Iterable[Entry]]] = {
    Application: of_application,
    Connection: of_connection,
    Client: of_client,
    Credential: of_credential,
    Person: of_person,
    Team: of_team,
    Workload: of_workload,
    Owner: of_owner,
    SavedFilter: of_filter,
    Issued: of_issued,
    Authority: of_authority,
}
_JOINED = {
    Application: ("owner", "annotation"),
    Connection: ("deployment__application", "deployment__environment", "annotation"),
    Client: ("deployment__application", "deployment__environment", "annotation"),
    Credential: (
        "client__deployment__application",
        "client__deployment__environment",
        "annotation",
    ),
    Person: ("annotation",),
    Owner: ("annotation",),
    Workload: ("environment", "owner", "annotation"),
    Issued: ("authority",),
    Authority: ("environment",),
}
_HUNG: dict[type[Model], tuple[str, ...]] = {
    kind: ("annotation__tags",) for kind, joined in _JOINED.items() if "annotation" in joined
}
_HUNG[Application] += ("deployments",)
_HEAVY = {
    Credential: ("value",),
    Client: ("management_token",),
    Authority: ("private", "revocations"),
}


def _entries(kind: type[Model], row: Model) -> Iterator[Entry]:
    """What finds an object; its tags find it by the first of them."""
    annotation = getattr(row, "annotation", None)
    tags = " ".join(tag.name for tag in annotation.tags.all()) if annotation is not None else ""
    for number, entry in enumerate(_WRITERS[kind](row)):
        yield replace(entry, words=f"{entry.words} {tags}") if tags and not number else entry


def _table(model: Model | type[Model]) -> type[Model]:
    """The class that an object's writer is known by, whatever kind of it the object is."""
    found = model._meta.concrete_model
    assert found is not None
    return found


def _of(model: Model) -> str:
    return f"{_table(model)._meta.label_lower}:{model.pk}"


def _forget(*those: str) -> None:
    """Take away what finds some objects."""
    with database.cursor() as cursor:
        told = [json.dumps(those)]
        of_them = "(SELECT value FROM json_each(%s))"
        cursor.execute(
            f"DELETE FROM finding_entry WHERE rowid IN (SELECT entry FROM finding_place "
            f"WHERE of IN {of_them})",
            told,
        )
        cursor.execute(f"DELETE FROM finding_place WHERE of IN {of_them}", told)


def _write(entries: Iterable[tuple[str, Entry]]) -> None:
    """Write entries, each with what it finds."""
    with database.cursor() as cursor:
        newest = cursor.execute("SELECT coalesce(max(entry), 0) FROM finding_place").fetchone()[0]
        told = [(newest + number, of, one) for number, (of, one) in enumerate(entries, 1)]
        cursor.executemany(
            "INSERT INTO finding_entry (rowid, name, words, kind, address, detail) VALUES "
            "(%s, %s, %s, %s, %s, %s)",
            [
                [entry, one.name, one.words, one.kind, one.address, one.detail[:200]]
                for entry, _, one in told
            ],
        )
        cursor.executemany(
            "INSERT INTO finding_place (entry, of) VALUES (%s, %s)",
            [[entry, of] for entry, of, _ in told],
        )


def note(model: Model, new: bool = False) -> None:
    """Write what finds an object anew; ``new``: nothing found it before."""
    kind = _table(model)
    fresh = (
        kind._default_manager.select_related(*_JOINED.get(kind, ()))
        .defer(*_HEAVY.get(kind, ()))
        .filter(pk=model.pk)
        .first()
    )
    with transaction.atomic(savepoint=False):
        if not new:
            _forget(_of(model))
        if fresh is not None:
            _write((_of(model), entry) for entry in _entries(kind, fresh))


def _saved(
    sender: type[Model],
    instance: Model,
    created: bool = False,
    update_fields: Any = None,
    raw: bool = False,
    **more: Any,
) -> None:
    # Last use, states and the like are not what anybody looks for.
    if update_fields is None or set(update_fields) & {
        "name",
        "words",
        "redirect_uris",
        "first_name",
        "last_name",
        "email",
        "values",
        "hint",
        "shared",
    }:
        if isinstance(instance, Deployment):
            note(instance.application)
        else:
            note(instance, created)
        if isinstance(instance, Owner):  # what is theirs is found by their name, too
            for application in (*instance.applications.all(), *instance.workloads.all()):
                note(application)


def _annotated(sender: type[Model], instance: Annotation, created: bool, **more: Any) -> None:
    if created:  # its tags come after it, and then it is saved again
        return
    target = next(getattr(instance, name) for name in TARGETS if getattr(instance, f"{name}_id"))
    if _table(target) in _WRITERS:
        note(target)


def _deleted(sender: type[Model], instance: Model, **more: Any) -> None:
    _forget(_of(instance))


def listen() -> None:
    """From now on, whatever is saved or deleted is found, or not, at once."""
    for kind in apps.get_models():
        if _table(kind) in _WRITERS:
            post_save.connect(_saved, sender=kind, dispatch_uid=f"finding-saved-{kind.__name__}")
            post_delete.connect(
                _deleted, sender=kind, dispatch_uid=f"finding-deleted-{kind.__name__}"
            )
    post_save.connect(_saved, sender=Deployment, dispatch_uid="finding-saved-Deployment")
    post_save.connect(_annotated, sender=Annotation, dispatch_uid="finding-saved-annotation")


# Rows, or entries that are taken away, of one transaction.
BLOCK = 300


def rebuild() -> int:
    """Write the whole index anew, a block in a transaction; returns how many entries it has.

    What stands in it is found meanwhile.
    """
    begin()
    finish()
    with database.cursor() as cursor:
        return int(cursor.execute("SELECT count(*) FROM finding_place").fetchone()[0])


@transaction.atomic
def begin() -> None:
    """Have the index written anew from the beginning."""
    Rebuild.objects.all().delete()
    with database.cursor() as cursor:
        newest = cursor.execute("SELECT coalesce(max(entry), 0) FROM finding_place").fetchone()[0]
    Rebuild.objects.create(newest=newest)


def go_on() -> bool:
    """Write the next block of an index that is rewritten; returns whether there is more to do.

    A program that is killed leaves off between two blocks, and another goes on.
    """
    return Rebuild.objects.filter(ended=None).exists() and _next_block()


def finish() -> None:
    """Write all blocks that are left of an index that is rewritten; others write in between."""
    while go_on():
        giving_way.let_others_write()


@transaction.atomic
def _next_block() -> bool:
    going = Rebuild.objects.select_for_update().filter(ended=None).first()
    if going is None:  # another came to the end of it
        return False
    kinds = list(_WRITERS)
    if going.place < len(kinds):
        last = _write_block(kinds[going.place], going.after)
        going.place, going.after = (
            (going.place, str(last)) if last is not None else (going.place + 1, "")
        )
    elif not _forget_older(going.newest):
        going.ended = timezone.now()
    going.save()
    return going.ended is None


def _write_block(kind: type[Model], after: str) -> Any:
    """Write a block of rows of a kind; returns the key of the last one (``None``: there
    was none).
    """
    rows = (
        kind._default_manager.select_related(*_JOINED.get(kind, ()))
        .prefetch_related(*_HUNG.get(kind, ()))
        .defer(*_HEAVY.get(kind, ()))
    )
    if after:
        rows = rows.filter(pk__gt=after)
    found = list(rows.order_by("pk")[:BLOCK])
    _forget(*(_of(row) for row in found))
    _write((_of(row), entry) for row in found for entry in _entries(kind, row))
    return found[-1].pk if found else None


def _forget_older(newest: int) -> int:
    """Take a block of entries away that nothing has written again; returns how many."""
    with database.cursor() as cursor:
        older = cursor.execute(
            "SELECT entry FROM finding_place WHERE entry <= %s LIMIT %s", [newest, BLOCK]
        ).fetchall()
        cursor.executemany("DELETE FROM finding_entry WHERE rowid = %s", older)
        cursor.executemany("DELETE FROM finding_place WHERE entry = %s", older)
    return len(older)


def fill() -> None:
    """Write the index where there is none although there is something to find, and go on where that
    was cut off.
    """
    with database.cursor() as cursor:
        filled = cursor.execute("SELECT 1 FROM finding_place LIMIT 1").fetchone()
    if not filled and Application.objects.exists():
        begin()
    finish()


_TOKEN = re.compile(r"[^\W_]+", re.UNICODE)
MOST = 12
# Kinds as people look for them; the same words find a connection before the redirect URI of its
# client.
_ORDER = (
    "connection",
    "application",
    "workload",
    "client",
    "person",
    "certificate",
    "authority",
    "credential",
    "redirect URI",
    "thumbprint",
    "team",
    "filter",
)


def query(words: str) -> str:
    """What is typed as a query of the full-text table: every word begins a word, and words joined
    by signs stand one after the other.
    """
    parts = []
    for word in words.split()[:8]:
        if tokens := _TOKEN.findall(word)[:12]:
            parts.append('"' + " ".join(tokens) + '" *')
    return " AND ".join(parts)


_SELECT = """SELECT name, kind, address, detail FROM finding_entry WHERE finding_entry MATCH %s
    ORDER BY bm25(finding_entry, 8.0, 1.0) LIMIT %s"""


@dataclass(frozen=True)
class FoundEntry:
    """Something that was found, its address, and what is said beside it."""

    name: str
    kind: str
    address: str
    detail: str = ""


def find(words: str) -> list[FoundEntry]:
    """The best entries for what is typed."""
    asked = query(words)
    if not asked:
        return []
    with database.cursor() as cursor:
        rows = cursor.execute(_SELECT, [asked, MOST * 3]).fetchall()
    found = [FoundEntry(*row) for row in rows]
    typed = words.strip().lower()
    best = sorted(enumerate(found), key=partial(_rank, typed))
    return [one for _, one in best][:MOST]


def _rank(typed: str, placed: tuple[int, FoundEntry]) -> tuple[bool, bool, int, int]:
    place, one = placed
    name = one.name.lower()
    order = _ORDER.index(one.kind) if one.kind in _ORDER else 99
    # Of names that begin with all that is typed, the shortest of its kind is the likeliest; else
    # the better match.
    begins = name.startswith(typed)
    return (
        name != typed,
        not begins,
        order if begins else place // 6,
        len(name) if begins else order,
    )
