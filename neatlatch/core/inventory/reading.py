"""Reading an inventory file: YAML with lines, every mistake told with the line it stands on,
nothing taken where there is one.
"""

from __future__ import annotations

import dataclasses
import datetime as dt
import hashlib
import json
from collections.abc import Collection, Iterable, Iterator, Mapping
from dataclasses import dataclass
from typing import Any

import yaml

from neatlatch.core.references import alternatives

from ..intake import trees
from .shape import BY_NAME, KINDS, USE_FIELDS, VERSION, Content, Field, Kind, brief, full

Path = tuple[str | int, ...]
LARGEST = 36 * 2**20
MOST_VALUES = 3_000_000
MOST_OBJECTS = 200_000
# Nobody reads more; a file with more is read no further.
MOST_MISTAKES = 1_000


@dataclass(frozen=True)
class Mistake:
    """Something wrong with a file: the line, where in it, and what."""

    line: int
    where: str
    says: str
    # The file's name, where several were read.
    file: str = ""

    def __str__(self) -> str:
        at = f"{self.file}, line" if self.file else "line"
        return f"{at} {self.line}: {self.where + ': ' if self.where else ''}{self.says}"


class BadInventory(ValueError):
    """The file cannot be taken; all mistakes are named, up to :data:`MOST_MISTAKES` of them."""

    def __init__(self, mistakes: list[Mistake]) -> None:
        super().__init__("; ".join(str(mistake) for mistake in mistakes[:5]))
        self.mistakes = mistakes

    def __reduce__(self) -> tuple[type[BadInventory], tuple[list[Mistake]]]:
        """It comes back from another process with its mistakes."""
        return type(self), (self.mistakes,)


@dataclass(frozen=True)
class Reference:
    """That an object of the file names another: its kind, its name, the line, and where in the
    file.
    """

    kind: str
    named: str
    line: int
    where: str


@dataclass(frozen=True)
class Lacking:
    """That an object lacks a field which only one that is there already can do without."""

    kind: str
    key: str
    field: str
    line: int
    file: str = ""


@dataclass(frozen=True)
class Inventory:
    """Files that were read: their objects in full, what they were exported from (empty: not said),
    and the line of each object.

    ``references`` are the names of other objects, which stand in the files or here
    (:func:`missing`).
    """

    content: Content
    base: str
    lines: Mapping[tuple[str, str], int]
    references: tuple[Reference, ...] = ()
    # The name of the file that each object is in, where there are several.
    files: Mapping[tuple[str, str], str] = dataclasses.field(default_factory=dict)
    # Where no base is said, the fields that are named of each object, and those that are missing
    # (:mod:`.small_files`).
    said: Mapping[tuple[str, str], frozenset[str]] = dataclasses.field(default_factory=dict)
    lacking: tuple[Lacking, ...] = ()


def digest(content: Content) -> str:
    """Names a content: equal contents have equal ones."""
    plain = {
        kind.name: {key: brief(kind, one) for key, one in content.get(kind.name, {}).items()}
        for kind in KINDS
    }
    return hashlib.sha256(
        json.dumps(plain, sort_keys=True, ensure_ascii=False).encode()
    ).hexdigest()[:24]


def write(content: Content, base: str = "") -> str:
    """The file. The same content is always the same text.

    ``base`` is the content's digest, where that is known.
    """
    plain: dict[str, Any] = {"neat_latch_inventory": VERSION, "base": base or digest(content)}
    for kind in KINDS:
        plain[kind.name] = {
            key: brief(kind, one) for key, one in sorted(content.get(kind.name, {}).items())
        }
    head = (
        "# The inventory of Neat Latch. Secrets stand here by reference only. “base” names "
        "what this file was made from;\n"
        "# leave it as it is, so that changes made here meanwhile are seen and not "
        "overwritten.\n"
    )
    return head + yaml.dump(
        plain,
        Dumper=_Dumper,
        sort_keys=False,
        allow_unicode=True,
        width=110,
        default_flow_style=False,
    )


class _Dumper(getattr(yaml, "CSafeDumper", yaml.SafeDumper)):  # type: ignore[misc]
    def ignore_aliases(self, data: Any) -> bool:
        """Aliases are not read again, so none are written."""
        return True


def read(text: str) -> Inventory:
    """Read a file. Raises :class:`BadInventory`."""
    try:
        plain, lines = trees.read_yaml_with_lines(text, LARGEST, MOST_VALUES)
    except trees.TreeRefused as error:
        raise BadInventory([Mistake(error.line or 1, "", str(error))]) from error
    if not isinstance(plain, dict) or "neat_latch_inventory" not in plain:
        says = f"an inventory begins with “neat_latch_inventory: {VERSION}”"
        raise BadInventory([Mistake(1, "", says)])
    checker = _Checker(*_as_written_now(plain, lines))
    return checker.run()


# Kinds of objects and fields that have other names since a version of the file.
_KINDS_SINCE = {2: {"users": "workloads"}, 3: {"places": "deployments"}}
_FIELDS_SINCE = {3: {"place": "deployment"}}


def _names_since(version: int, since: Mapping[int, Mapping[str, str]]) -> dict[str, str]:
    """The names of a version and their names now."""
    return {
        before: now for at, names in since.items() if at > version for before, now in names.items()
    }


def _as_written_now(
    plain: dict[Any, Any], lines: Mapping[Path, int]
) -> tuple[dict[Any, Any], Mapping[Path, int]]:
    """A file of an earlier version as this version would write it, with the lines that its values
    are on; any other as it is.
    """
    version = plain["neat_latch_inventory"]
    if type(version) is not int or not 1 <= version < VERSION:
        return plain, lines
    kinds, fields = _names_since(version, _KINDS_SINCE), _names_since(version, _FIELDS_SINCE)
    if plain.keys() & set(kinds.values()):
        return plain, lines
    renamed = {
        kinds.get(kind, kind): _with_fields(objects, fields) for kind, objects in plain.items()
    }
    renamed["neat_latch_inventory"] = VERSION
    credentials = renamed.get("credentials") if version == 1 else None
    for credential in credentials.values() if isinstance(credentials, dict) else ():
        if isinstance(credential, dict) and credential.get("state") == "staged":
            credential["state"] = "prepared"
    moved = {
        (
            *(kinds.get(str(kind), kind) for kind in path[:1]),
            *path[1:2],
            *(fields.get(str(field), field) for field in path[2:3]),
            *path[3:],
        ): line
        for path, line in lines.items()
    }
    return renamed, moved


def _with_fields(objects: Any, names: Mapping[str, str]) -> Any:
    """The objects of a kind, with their fields by their names now."""
    if not isinstance(objects, dict) or not names:
        return objects
    return {
        key: {names.get(field, field): value for field, value in fields.items()}
        if isinstance(fields, dict)
        else fields
        for key, fields in objects.items()
    }


class _Checker:
    def __init__(self, plain: dict[Any, Any], lines: Mapping[Path, int]) -> None:
        self.plain, self.lines = plain, lines
        self.mistakes: list[Mistake] = []
        self.base = str(plain.get("base") or "")
        self.said: dict[tuple[str, str], frozenset[str]] = {}
        self.lacking: list[Lacking] = []

    def line(self, path: Path) -> int:
        """The line of a value, or of the nearest thing around it."""
        while path and path not in self.lines:
            path = path[:-1]
        return self.lines.get(path, 1)

    def wrong(self, path: Path, says: str) -> None:
        """Record a mistake. Raises :class:`BadInventory` where there are too many to go on."""
        self.mistakes.append(Mistake(self.line(path), where_of(path), says))
        if len(self.mistakes) >= MOST_MISTAKES:
            raise self.refused()

    def refused(self) -> BadInventory:
        """What is wrong so far, by its lines."""
        return BadInventory(sorted(self.mistakes, key=lambda mistake: mistake.line))

    def run(self) -> Inventory:
        """Everything, or all that is wrong."""
        if self.plain.get("neat_latch_inventory") != VERSION:
            self.wrong(
                ("neat_latch_inventory",),
                f"version {self.plain.get('neat_latch_inventory')} is not known; {VERSION} is",
            )
        for name in self.plain:
            if name not in BY_NAME and name not in ("neat_latch_inventory", "base"):
                self.wrong((str(name),), f"there is no such kind; there are {', '.join(BY_NAME)}")
        count = sum(
            len(some) for kind in KINDS if isinstance(some := self.plain.get(kind.name), dict)
        )
        if count > MOST_OBJECTS:
            self.wrong((), f"it holds {count:,} objects; {MOST_OBJECTS:,} are read from one file")
            raise self.refused()
        content: Content = {}
        for kind in KINDS:
            content[kind.name] = self.objects(kind)
        references = tuple(self.references(content))
        if self.mistakes:
            raise self.refused()
        lines = {
            (kind, key): self.line((kind, key)) for kind, some in content.items() for key in some
        }
        return Inventory(
            content,
            self.base,
            lines,
            references,
            said=self.said,
            lacking=tuple(self.lacking),
        )

    def objects(self, kind: Kind) -> dict[str, dict[str, Any]]:
        """The objects of a kind."""
        some = self.plain.get(kind.name)
        if some is None:
            return {}
        if not isinstance(some, dict):
            self.wrong((kind.name,), f"{kind.name} are written as “name:” with their fields below")
            return {}
        found = {}
        for key, given in some.items():
            path: Path = (kind.name, str(key))
            if given is None:
                given = {}
            if not isinstance(given, dict):
                self.wrong(path, f"a {kind.word} is written as fields with their values")
                continue
            taken = {}
            for name, value in given.items():
                field = kind.field(str(name))
                if field is None:
                    self.wrong(
                        (*path, str(name)),
                        (
                            f"a {kind.word} has no such field; it has "
                            f"{', '.join(field.name for field in kind.fields)}"
                        ),
                    )
                else:
                    taken[field.name] = self.value(field, value, (*path, field.name))
            self.check_required(kind, str(key), taken)
            if not self.base:
                self.said[kind.name, str(key)] = frozenset(taken)
            found[str(key)] = full(kind, taken)
        return found

    def check_required(self, kind: Kind, key: str, taken: Mapping[str, Any]) -> None:
        """Record the fields that must be there. Where no base is said, an object that is there
        already has them; and a client's ID follows from its name.
        """
        path = (kind.name, key)
        for field in kind.fields:
            if not field.required or taken.get(field.name) not in (None, ""):
                continue
            if self.base or field.name in taken:
                self.wrong(path, f"“{field.name}” is missing")
            elif (kind.name, field.name) != ("clients", "id"):
                self.lacking.append(Lacking(kind.name, key, field.name, self.line(path)))

    def value(self, field: Field, value: Any, path: Path) -> Any:
        """A field's value as it is kept, or a mistake noted."""
        if value is None:
            return field.default
        if field.type == "flag":
            if not isinstance(value, bool):
                self.wrong(path, f"is true or false, not {value!r}")
            return bool(value)
        if field.type in ("number", "count"):
            if (
                isinstance(value, bool)
                or not isinstance(value, int if field.type == "count" else int | float)
                or value < 0
            ):
                self.wrong(path, f"is a number that is not below 0, not {value!r}")
                return field.default
            return value if field.type == "count" else float(value)
        if field.type == "texts":
            return self.texts(value, path)
        if field.type == "strings":
            if not isinstance(value, dict) or not all(
                isinstance(text, str | int | float) for text in value.values()
            ):
                self.wrong(path, "is written as names with a text each")
                return {}
            return {str(key): str(one) for key, one in value.items()}
        if field.type == "table":
            if not isinstance(value, dict):
                self.wrong(path, "is written as names with their values")
                return {}
            return _plain(value)
        if field.type == "uses":
            return self.uses(value, path)
        if field.type == "moment":
            return self.moment(value, path)
        if isinstance(value, dict | list | bool):
            self.wrong(path, f"is a text, not {value!r}"[:120])
            return field.default
        text = str(value)
        if field.choices and text not in field.choices:
            self.wrong(
                path,
                f"is one of {', '.join(choice or 'nothing' for choice in field.choices)}, "
                f"not {text!r}",
            )
        return text

    def texts(self, value: Any, path: Path) -> list[str]:
        """A list of texts."""
        if not isinstance(value, list) or not all(
            isinstance(item, str | int | float) and not isinstance(item, bool) for item in value
        ):
            self.wrong(path, "is a list of texts")
            return []
        return [str(item) for item in value]

    def moment(self, value: Any, path: Path) -> str:
        """A moment in UTC, by RFC 3339; YAML may have made one of it already."""
        if isinstance(value, dt.datetime):
            moment = value
        else:
            try:
                moment = dt.datetime.fromisoformat(str(value))
            except ValueError:
                self.wrong(path, f"is a moment like 2026-11-25T08:00:00+00:00, not {value!r}")
                return ""
        return (
            (moment if moment.tzinfo else moment.replace(tzinfo=dt.UTC))
            .astimezone(dt.UTC)
            .isoformat()
        )

    def uses(self, value: Any, path: Path) -> list[dict[str, Any]]:
        """What a workload calls."""
        if not isinstance(value, list) or not all(isinstance(item, dict) for item in value):
            self.wrong(path, "is a list of uses with application, connection and operations")
            return []
        found = []
        for number, one in enumerate(value):
            for name in one:
                if name not in USE_FIELDS:
                    self.wrong(
                        (*path, number, str(name)),
                        f"a use has no such field; it has {', '.join(USE_FIELDS)}",
                    )
            if not isinstance(one.get("application"), str):
                self.wrong((*path, number), "“application” is missing")
                continue
            operations = self.texts(one.get("operations") or [], (*path, number, "operations"))
            kept: dict[str, Any] = {"application": one["application"]}
            if one.get("connection"):
                kept["connection"] = str(one["connection"])
            if operations:
                kept["operations"] = operations
            if isinstance(one.get("seen"), dict) and one["seen"]:
                kept["seen"] = {
                    str(name): int(count)
                    for name, count in one["seen"].items()
                    if isinstance(count, int)
                }
            if one.get("seen_at"):
                kept["seen_at"] = self.moment(one["seen_at"], (*path, number, "seen_at"))
            found.append(kept)
        return found

    def references(self, content: Content) -> Iterator[Reference]:
        """Every name of another object, with the line it stands on."""
        for key, one in content["connections"].items():
            for name, secret in one["secrets"].items():
                if not secret.startswith(SAFE):
                    self.wrong(
                        ("connections", key, "secrets", name),
                        "is no reference to one of the credentials (safe:…)",
                    )
        for target, named, path in names_in(content):
            yield Reference(target, named, self.line(path), where_of(path))


SAFE = "safe:"


def names_in(content: Content) -> Iterator[tuple[str, str, Path]]:
    """Every name of another object in a content: the kind that is named, the name, and
    where it is.
    """
    for kind in KINDS:
        for field in kind.fields:
            target = "clients" if field.type == "clients_later" else field.type
            if target not in BY_NAME:
                continue
            for key, fields in content.get(kind.name, {}).items():
                if fields[field.name]:
                    yield target, fields[field.name], (kind.name, key, field.name)
    for key, team in content.get("teams", {}).items():
        for person in team["people"]:
            yield "people", person, ("teams", key, "people")
    for key, connection in content.get("connections", {}).items():
        for name, secret in connection["secrets"].items():
            yield "credentials", secret.removeprefix(SAFE), ("connections", key, "secrets", name)
        for person in connection["accounts"]:
            yield "people", person, ("connections", key, "accounts", person)
    for key, workload in content.get("workloads", {}).items():
        for number, use in enumerate(workload["uses"]):
            for name, target in (("application", "applications"), ("connection", "connections")):
                if use.get(name):
                    yield target, use[name], ("workloads", key, "uses", number, name)


def still_named(content: Content, removed: Collection[tuple[str, str]]) -> list[Mistake]:
    """What ``content``, all that would be there once a file is applied, names though the file
    removes it; ``removed`` are kinds and names.
    """
    if not removed:
        return []
    return [
        Mistake(
            1, f"{target} → {named}", f"it would be removed, but is still used: {where_of(path)}"
        )
        for target, named, path in names_in(content)
        if (target, named) in removed
    ]


def missing(references: Iterable[Reference], content: Content) -> list[Mistake]:
    """What a file names and ``content``, all that would stand once it is applied, does not hold."""
    return [
        Mistake(
            reference.line,
            reference.where,
            f"there is no {BY_NAME[reference.kind].word} {reference.named[:120]!r}, "
            f"in this file or here"
            f"{_candidates(reference, content)}",
        )
        for reference in references
        if reference.named not in content.get(reference.kind, {})
    ]


def _candidates(reference: Reference, content: Content) -> str:
    """What a connection that is named without its environment can be."""
    if reference.kind != "connections" or "/" in reference.named:
        return ""
    ending = f"/{reference.named}"
    found = sorted(
        connection for connection in content.get("connections", {}) if connection.endswith(ending)
    )[:20]
    return f"; write {alternatives(found)}" if found else ""


def where_of(path: Path) -> str:
    """Where in a file something is, as mistakes name it."""
    return " → ".join(str(step) for step in path)


def _plain(value: Any) -> Any:
    """Nested values as JSON has them: what YAML made a moment of is text again."""
    if isinstance(value, dict):
        return {str(key): _plain(one) for key, one in value.items()}
    if isinstance(value, list):
        return [_plain(item) for item in value]
    return value.isoformat() if isinstance(value, dt.datetime | dt.date) else value
