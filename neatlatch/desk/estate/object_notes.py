"""Tags, notes and links of objects: reading and changing them."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Any

from django.db import connection as database
from django.db import transaction
from django.db.models import Model, QuerySet
from django.utils import timezone

from neatlatch.core import annotating, changes
from neatlatch.core.annotating import BadAnnotation, Link, TagsAndNotes
from neatlatch.desk.estate.records.annotations.models import TARGETS, Annotation, Tag
from neatlatch.desk.estate.records.applications.models import Application, Environment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import check_unchanged, wrong_fields
from neatlatch.desk.ground.journal.services import write
from neatlatch.desk.ground.people.models import Owner, Person

# The column of each kind of object, and the field by which the journal names one.
_KINDS: dict[type[Model], tuple[str, str]] = {
    Application: ("application", "key"),
    Client: ("client", "name"),
    Connection: ("connection", "ref"),
    Credential: ("credential", "hint"),
    Environment: ("environment", "name"),
    Owner: ("owner", "key"),
    Person: ("person", "username"),
    Workload: ("workload", "name"),
}
# The lookup by which lists are filtered by a tag.
BY_TAG = "annotation__tags__name"


@dataclass(frozen=True)
class StoredNotes:
    """What people have put on an object, and who last changed it; version 0: nobody has."""

    content: TagsAndNotes
    version: int = 0
    changed_at: datetime | None = None
    changed_by: str = ""


def _kind_of(target: Model) -> tuple[str, str]:
    return next(names for model, names in _KINDS.items() if isinstance(target, model))


def _of(target: Model) -> QuerySet[Annotation]:
    return Annotation.objects.filter(**{_kind_of(target)[0]: target.pk})


def kept(target: Model) -> StoredNotes:
    """What people have put on an object. Two queries."""
    found = _of(target).prefetch_related("tags").first()
    if found is None:
        return StoredNotes(TagsAndNotes())
    return StoredNotes(found.read(), found.version, found.changed_at, found.changed_by)


@transaction.atomic
def change(by: Actor, target: Model, content: TagsAndNotes, seen: int | None = None) -> StoredNotes:
    """Put tags, notes and links on an object in place of those that are there.

    ``seen`` is the version that the change was made on (``None``: any). Raises :class:`Problem`
    with field errors, or where somebody changed them meanwhile.
    """
    annotation = _locked(target)
    check_unchanged(annotation.version, seen)
    before = annotation.read() if annotation.pk else TagsAndNotes()
    after = _checked(content)
    if before == after:
        return StoredNotes(before, annotation.version, annotation.changed_at, annotation.changed_by)
    _change(by, target, annotation, before, after)
    return StoredNotes(after, annotation.version, annotation.changed_at, annotation.changed_by)


def _change(
    by: Actor, target: Model, annotation: Annotation, before: TagsAndNotes, after: TagsAndNotes
) -> None:
    _save(by, annotation, before, after)
    column, named_by = _kind_of(target)
    about = {"annotation": annotation.pk, "changes": _in_words(before, after)}
    write(by, "changed the notes of", column, str(getattr(target, named_by)), about)


def change_tags(
    by: Actor, target: Model, add: Iterable[str] = (), remove: Iterable[str] = ()
) -> bool:
    """Add tags to an object and remove others; whether that changed anything. Raises a field
    error.
    """
    with transaction.atomic():
        annotation = _locked(target)
        before = annotation.read() if annotation.pk else TagsAndNotes()
        try:
            tags = annotating.with_and_without(before.tags, add, remove)
        except BadAnnotation as error:
            raise wrong_fields({error.field: str(error)}) from error
        if tags == before.tags:
            return False
        _change(by, target, annotation, before, TagsAndNotes(tags, before.notes, before.links))
        return True


def declare(by: Actor, target: Model, fields: Mapping[str, Any]) -> None:
    """Put what a file declares on an object: ``tags``, ``notes`` and ``links`` (label by address).

    Part of the surrounding transaction, whose journal entry tells of it. Raises a field error.
    """
    content = declared(fields)
    annotation = _locked(target)
    before = annotation.read() if annotation.pk else TagsAndNotes()
    if before != content:
        _save(by, annotation, before, content)


def declared(fields: Mapping[str, Any]) -> TagsAndNotes:
    """What a file declares, checked. Raises a field error."""
    links = tuple(Link(address, label) for address, label in fields["links"].items())
    return _checked(TagsAndNotes(tuple(fields["tags"]), fields["notes"], links))


def plain(content: TagsAndNotes | None) -> dict[str, Any]:
    """As a file declares it: what :func:`declared` reads."""
    found = content or TagsAndNotes()
    links = {link.address: link.label for link in found.links}
    return {"tags": list(found.tags), "notes": found.notes, "links": links}


class AllAnnotations:
    """What people have put on all objects. Two queries."""

    def __init__(self) -> None:
        self._found: dict[tuple[str, Any], TagsAndNotes] = {}
        for row in Annotation.objects.prefetch_related("tags"):
            column = next(name for name in TARGETS if getattr(row, f"{name}_id") is not None)
            self._found[column, getattr(row, f"{column}_id")] = row.read()

    def of(self, target: Model) -> TagsAndNotes | None:
        """What people have put on one of them; ``None``: nothing."""
        return self._found.get((_kind_of(target)[0], target.pk))


def some(targets: Sequence[Model]) -> dict[Any, TagsAndNotes]:
    """What people have put on some objects of one kind, by their keys. Two queries."""
    if not targets:
        return {}
    column = f"{_kind_of(targets[0])[0]}_id"
    wanted = {f"{column}__in": [target.pk for target in targets]}
    rows = Annotation.objects.filter(**wanted).prefetch_related("tags")
    return {getattr(row, column): row.read() for row in rows}


def tags_of(model: type[Model], keys: Iterable[Any]) -> dict[Any, list[str]]:
    """The tags of some objects of a kind, by their keys. One query."""
    column = f"annotation__{_KINDS[model][0]}"
    rows = Tag.objects.filter(**{f"{column}__in": list(keys)}).order_by("name")
    found: dict[Any, list[str]] = {}
    for key, name in rows.values_list(column, "name"):
        found.setdefault(key, []).append(name)
    return found


# Each step of the recursion finds the next name by the index, however many rows have one.
_NAMES = """WITH RECURSIVE known(name) AS (
        SELECT min(name) FROM annotations_tag WHERE name >= %s
        UNION ALL
        SELECT (SELECT min(name) FROM annotations_tag WHERE name > known.name)
        FROM known WHERE known.name IS NOT NULL LIMIT %s)
    SELECT name FROM known WHERE substr(name, 1, length(%s)) = %s"""
MOST_NAMES = 50


def names_beginning(begin: str) -> list[str]:
    """The first tags in use, in alphabetical order, that begin so. One query."""
    begin = begin.strip().lower()
    with database.cursor() as cursor:
        rows = cursor.execute(_NAMES, [begin, MOST_NAMES, begin, begin]).fetchall()
    return [name for (name,) in rows]


def _locked(target: Model) -> Annotation:
    """The row of an object, or a new one that is not saved yet; nobody else changes it meanwhile:
    the transaction writes.
    """
    found = _of(target).select_for_update().prefetch_related("tags").first()
    return found or Annotation(**{f"{_kind_of(target)[0]}_id": target.pk})


def _checked(content: TagsAndNotes) -> TagsAndNotes:
    try:
        return annotating.checked(content.tags, content.notes, content.links)
    except BadAnnotation as error:
        raise wrong_fields({error.field: str(error)}) from error


def _save(by: Actor, annotation: Annotation, before: TagsAndNotes, after: TagsAndNotes) -> None:
    annotation.notes = after.notes
    annotation.links = [[link.address, link.label] for link in after.links]
    annotation.version += 1
    annotation.changed_at, annotation.changed_by = timezone.now(), by.username
    if annotation.pk is None:  # the tags need its key
        annotation.save(force_insert=True)
    gone, new = set(before.tags) - set(after.tags), set(after.tags) - set(before.tags)
    if gone:
        Tag.objects.filter(annotation=annotation, name__in=gone).delete()
    Tag.objects.bulk_create(Tag(annotation=annotation, name=name) for name in sorted(new))
    # Saved last: the index of everything that can be found hears of it then.
    annotation.save(force_update=True)


def _in_words(before: TagsAndNotes, after: TagsAndNotes) -> list[str]:
    """What was changed, without the text of notes: the journal is read by others, and for good."""
    words = changes.in_words({"tags": list(before.tags)}, {"tags": list(after.tags)})
    links_before, links_after = ([link.address for link in c.links] for c in (before, after))
    words += changes.in_words({"links": links_before}, {"links": links_after})
    if before.notes != after.notes:
        did = "changed" if before.notes and after.notes else "added" if after.notes else "removed"
        words.append(f"notes {did}")
    return words
