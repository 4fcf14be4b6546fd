"""Applications, connections and workloads out of a spreadsheet (CSV): what a table would add and
change, as an import that is previewed and can be undone.

An empty cell leaves what is there as it is; a row that is left out removes nothing. Secrets are not
taken from tables: they would lie in a file, and go through more hands than the safe.
"""

from __future__ import annotations

import copy
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Literal

from django.conf import settings
from django.utils.text import slugify

from neatlatch.core import profiles, references
from neatlatch.core.formats import tables
from neatlatch.core.inventory import columns as known_columns
from neatlatch.core.inventory.columns import TABLES, Column
from neatlatch.core.inventory.reading import MOST_MISTAKES, Mistake
from neatlatch.core.inventory.shape import BY_NAME, full
from neatlatch.core.schemes import KINDS, Scheme
from neatlatch.desk.estate.applications import services as applications
from neatlatch.desk.estate.connections import services as connections
from neatlatch.desk.estate.connections.destinations import DestinationPermission
from neatlatch.desk.estate.records.applications.models import Deployment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.workloads import services as workloads
from neatlatch.desk.ground.common.actors import Actor
from neatlatch.desk.ground.common.problems import Problem, wrong_fields
from neatlatch.desk.ground.people import owners

from . import planning, services
from .collecting import CurrentState, collected
from .plain import PlainFields
from .planning import Preview
from .services import BegunImport

What = Literal["applications", "connections", "workloads"]
_YES, _NO = ("yes", "true", "1", "x"), ("no", "false", "0")
_ADDRESSES = ("issuer", "authorization_endpoint", "token_endpoint", "api_base", "stream_address")
_VALUES = ("account", "username", "key_id", "api_base")
_MOST_TOLD = 200


@dataclass(frozen=True)
class TableReading:
    """The heading of a table, how many rows are below it, the columns that are understood, and
    which column of the table each of them probably is.
    """

    heading: tuple[str, ...]
    rows: int
    columns: tuple[Column, ...]
    suggested: dict[str, str]


@dataclass(frozen=True)
class TablePreview:
    """What a table would change; which rows repeat one another or look like something that is there
    already, in sentences; how many objects of it are there as they are in the table; and the
    columns that are not taken.
    """

    changes: Preview
    duplicates: list[str]
    same: int
    left_out: list[str]


def read(what: What, text: str) -> TableReading:
    """Read the heading of a table. Raises a field error."""
    table = _table(text)
    wanted = TABLES[what]
    suggested = known_columns.suggested(table.heading, wanted)
    return TableReading(table.heading, len(table.rows), wanted, suggested)


def preview(by: Actor, what: What, text: str, columns: dict[str, str]) -> TablePreview:
    """What a table would add and change; ``columns`` says by our names which of its columns are
    meant. Nothing is changed. Raises :class:`Problem` with each mistake.
    """
    return _planned(by, what, text, columns)


def begin(
    by: Actor,
    what: What,
    text: str,
    columns: dict[str, str],
    seen: str = "",
    leave: DestinationPermission | None = None,
    check: Callable[[], None] = services.nothing_to_check,
) -> BegunImport:
    """Begin to take a table over, as :func:`services.begin`. Raises :class:`Problem`."""
    return services.begin_planned(
        by, lambda: _planned(by, what, text, columns).changes, seen, leave, check
    )


def _table(text: str) -> tables.Table:
    try:
        return tables.read(text)
    except tables.BadTable as error:
        raise _unread(error) from error


def _unread(error: tables.BadTable) -> Problem:
    says = str(error)
    return wrong_fields({"text": f"{says[:1].upper()}{says[1:].rstrip('.')}. Nothing was changed."})


def _planned(by: Actor, what: What, text: str, columns: dict[str, str]) -> TablePreview:
    table, wanted = _table(text), TABLES[what]
    columns = {ours: theirs for ours, theirs in columns.items() if theirs}
    if unknown := sorted(set(columns) - {column.name for column in wanted}):
        raise wrong_fields({"columns": f"There is no column {unknown[0][:60]} of {what}."})
    if lacking := [c.name for c in wanted if c.required and c.name not in columns]:
        raise wrong_fields({"columns": f"Choose a column for {', '.join(lacking)}."})
    try:
        rows = tables.mapped(table, columns)
    except tables.BadTable as error:
        raise _unread(error) from error
    reading = _READERS[what](collected())
    for line, row in rows:
        reading.row(line, row)
    reading.finish()
    if reading.mistakes:
        raise planning.refused(sorted(reading.mistakes, key=lambda mistake: mistake.line))
    changes = planning.of_wanted(by, reading.now, reading.wanted, reading.lines)
    changed = {(change.kind, change.key) for change in changes.outcome.changes if change.does}
    taken = {name.lower() for name in columns.values()}
    return TablePreview(
        changes,
        reading.duplicate_rows(),
        sum(each not in changed for each in reading.lines),
        [name for name in table.heading if name and name.lower() not in taken],
    )


@dataclass
class _Reading:
    """What the rows of a table make of everything as it is now."""

    now: CurrentState
    # Everything as it would be, and the lines that objects of the table are first on.
    wanted: dict[str, dict[str, PlainFields]] = field(default_factory=dict)
    lines: dict[tuple[str, str], int] = field(default_factory=dict)
    mistakes: list[Mistake] = field(default_factory=list)
    duplicates: list[str] = field(default_factory=list)
    # The first line of each row that is the same as another.
    rows: dict[tuple[str, ...], int] = field(default_factory=dict)
    # Each cell that was given for an object, and its line.
    cells: dict[tuple[str, str, str], tuple[str, int]] = field(default_factory=dict)

    what = ""

    def __post_init__(self) -> None:
        self.wanted = {kind: dict(some) for kind, some in self.now.content.items()}
        content = self.now.content
        self._profiles: dict[str, profiles.Profile] = {}
        self._environments: dict[str, str] = {
            key.lower(): key for key in content["environments"]
        } | {fields["name"].lower(): key for key, fields in content["environments"].items()}
        self._applications: dict[str, str] = {
            key.lower(): key for key in content["applications"]
        } | {fields["name"].lower(): key for key, fields in content["applications"].items()}

    def row(self, line: int, row: dict[str, str]) -> None:
        """Take a row; what is wrong with it becomes a mistake."""
        if len(self.mistakes) >= MOST_MISTAKES:
            return
        first = self.rows.setdefault(tuple(row.values()), line)
        if first != line:
            self.tell(f"Line {line} repeats line {first}.")
            return
        try:
            self.take(line, row)
        except _Wrong as wrong:
            self.wrong(line, str(wrong))
        except Problem as problem:
            self.wrong(line, next(iter(problem.errors.values()), problem.detail))

    def take(self, line: int, row: dict[str, str]) -> None:
        """Put what a row says into what is wanted. Raises :class:`_Wrong`, :class:`Problem`."""
        raise NotImplementedError

    def finish(self) -> None:
        """Once all rows are taken."""
        owned = [self.wanted[kind][key] for kind, key in self.lines if kind in _OWNED]
        keys = owners.keys_of(fields["owner"] for fields in owned)
        for fields in owned:
            fields["owner"] = keys.get(fields["owner"], fields["owner"])

    def wrong(self, line: int, says: str) -> None:
        """Record a mistake."""
        self.mistakes.append(Mistake(line, "", says.rstrip(".")))

    def duplicate_rows(self) -> list[str]:
        """Rows that repeat one another, and new names that differ from others only in how they are
        written.
        """
        known = self.now.content[self.what]
        new = {
            self.name_of(key): line
            for (kind, key), line in self.lines.items()
            if kind == self.what and key not in known
        }
        for name, line, other, where in known_columns.look_alikes(new, map(self.name_of, known)):
            there = f"on line {where}" if where else "which is there already"
            self.tell(f"“{name}” on line {line} looks like “{other}”, {there}.")
        return self.duplicates

    def name_of(self, key: str) -> str:
        """What an object of the table is called where names are compared."""
        return key

    def tell(self, says: str) -> None:
        """Report a row that is probably a duplicate."""
        if len(self.duplicates) < _MOST_TOLD:
            self.duplicates.append(says)

    def fields(self, kind: str, key: str, line: int, new: PlainFields) -> PlainFields:
        """The fields of an object as they would be, to be changed; ``new``: of one that is not
        there yet.
        """
        if (kind, key) not in self.lines:
            self.lines[kind, key] = line
            stands = self.now.content[kind].get(key)
            self.wanted[kind][key] = copy.deepcopy(stands or full(BY_NAME[kind], new))
        return self.wanted[kind][key]

    def put(self, kind: str, key: str, line: int, row: dict[str, str], *names: str) -> None:
        """Put cells into the fields of the same name; an empty one changes nothing. Raises
        :class:`_Wrong` where an earlier row of the same object says otherwise.
        """
        for name in names:
            if text := row.get(name, ""):
                self._refuse_repeated_row(kind, key, line, name, text)
                self.wanted[kind][key][name] = text
        annotated = self.wanted[kind][key]
        if tags := row.get("tags", "").replace(",", " ").split():
            annotated["tags"] = sorted({*annotated["tags"], *(tag.lower() for tag in tags)})
        if notes := row.get("notes", ""):
            self._refuse_repeated_row(kind, key, line, "notes", notes)
            annotated["notes"] = notes

    def _refuse_repeated_row(self, kind: str, key: str, line: int, name: str, text: str) -> None:
        said, where = self.cells.setdefault((kind, key, name), (text, line))
        if said != text:
            raise _Wrong(
                f"{key} is on line {where} with another {name.replace('_', ' ')}: “{said[:60]}”"
            )

    def environment(self, row: dict[str, str]) -> str:
        """The key of a row's environment. Raises :class:`_Wrong`."""
        found = self._environments.get(row["environment"].lower())
        if found is None:
            raise _Wrong(f"there is no environment {row['environment'][:60]!r}")
        return found

    def application(self, text: str) -> str | None:
        """The key of the application that a text names; ``None``: there is none."""
        return self._applications.get(text.lower())

    def profile(self, application: str) -> profiles.Profile:
        """The profile of an application as it would be."""
        if application not in self._profiles:
            plain = self.wanted["applications"][application]["profile"]
            self._profiles[application] = profiles.from_dict(plain)
        return self._profiles[application]


class _Wrong(ValueError):
    """Something is wrong with a row."""


def _truth(row: dict[str, str], name: str) -> bool | None:
    text = row.get(name, "").lower()
    if text and text not in (*_YES, *_NO):
        raise _Wrong(f"{name.replace('_', ' ')} is yes or no, not {text[:20]!r}")
    return text in _YES if text else None


def _number(row: dict[str, str], name: str) -> int | None:
    text = row.get(name, "")
    if text and not (text.isascii() and text.isdigit() and len(text) < 10):
        raise _Wrong(f"{name.replace('_', ' ')} is a number, not {text[:20]!r}")
    return int(text) if text else None


def _listed(row: dict[str, str], name: str) -> list[str]:
    return [part.strip() for part in row.get(name, "").split(";") if part.strip()]


_OWNED = ("applications", "workloads")
_SCHEMES = {key: key for key in KINDS} | {
    known_columns.alike(kind.label): key for key, kind in KINDS.items()
}


class _Applications(_Reading):
    what = "applications"

    def name_of(self, key: str) -> str:
        return str(self.wanted["applications"][key]["name"])

    def finish(self) -> None:
        """Tell of new addresses that another application has in the same environment, too."""
        super().finish()
        known = {
            (deployment["environment"], deployment["addresses"].get("api_base")): deployment[
                "application"
            ]
            for deployment in self.now.content["deployments"].values()
        }
        for (kind, key), line in self.lines.items():
            if kind == "deployments" and key not in self.now.content["deployments"]:
                deployment = self.wanted["deployments"][key]
                address = deployment["addresses"].get("api_base")
                other = known.get((deployment["environment"], address)) if address else None
                if other is not None:
                    name = self.wanted["applications"][other]["name"]
                    self.tell(f"Line {line}: {address} is the API address of {name}, too.")

    def take(self, line: int, row: dict[str, str]) -> None:
        """An application in an environment; one that has several is on as many rows."""
        name, environment = row["name"], self.environment(row)
        key = self.application(name) or slugify(name)[:80]
        if not key:
            raise _Wrong("an application needs a name")
        scheme = self._scheme(row)
        if key not in self.wanted["applications"]:
            if scheme is None:
                raise _Wrong(f"say how others authenticate at {name}: {', '.join(KINDS)}")
            profile = {"schemes": [{"key": scheme.key}]}
            self._applications[name.lower()] = key
            self.fields("applications", key, line, {"name": name, "profile": profile})
        fields = self.fields("applications", key, line, {})
        if scheme is not None and self.profile(key).scheme(scheme.key) is None:
            known = key in self.now.content["applications"]
            there = "is there already, and its profile" if known else "is of another scheme: it"
            raise _Wrong(f"{fields['name']} {there} has no {scheme.key}")
        self.put("applications", key, line, row, "purpose", "owner", "documentation")
        self._deployment(key, environment, line, row, scheme)

    def _scheme(self, row: dict[str, str]) -> Scheme | None:
        text = row.get("scheme", "")
        if not text:
            return None
        found = _SCHEMES.get(text.lower()) or _SCHEMES.get(known_columns.alike(text))
        if found is None:
            raise _Wrong(f"there is no scheme {text[:40]!r}; there are {', '.join(KINDS)}")
        return KINDS[found]

    def _deployment(
        self, key: str, environment: str, line: int, row: dict[str, str], scheme: Scheme | None
    ) -> None:
        where = f"{key}/{environment}"
        if where in self.wanted["deployments"] and ("deployments", where) in self.lines:
            first = self.lines["deployments", where]
            raise _Wrong(f"{row['name']} is on line {first} with this environment already")
        new = {"application": key, "environment": environment}
        deployment = self.fields("deployments", where, line, new)
        stands = dict(deployment["addresses"])
        cells = {name: row[name] for name in _ADDRESSES if row.get(name)}
        deployment["addresses"] = {**stands, **cells}
        if deployment["addresses"] == stands and where in self.now.content["deployments"]:
            return
        if wrong := applications.wrong_addresses(
            self.profile(key), deployment["addresses"], scheme.key if scheme is not None else ""
        ):
            name, says = next(iter(wrong.items()))
            raise _Wrong(f"{name}: {says}")


class _Connections(_Reading):
    what = "connections"

    def __post_init__(self) -> None:
        super().__post_init__()
        self._deployments: dict[str, Deployment] = {}
        self._clients: dict[str, dict[str, Client]] = {}
        for deployment in Deployment.objects.select_related("application", "environment"):
            self._deployments[f"{deployment.application.key}/{deployment.environment.key}"] = (
                deployment
            )
        names: dict[str, list[str]] = {}
        for name, fields in self.now.content["clients"].items():
            names.setdefault(fields["deployment"], []).append(name)
        self._names = names

    def take(self, line: int, row: dict[str, str]) -> None:
        """A connection, new or there already."""
        environment = self.environment(row)
        application = self.application(row["application"])
        if application is None:
            raise _Wrong(f"there is no application {row['application'][:60]!r}")
        where = f"{application}/{environment}"
        if where not in self._deployments:
            raise _Wrong(f"{row['application']} has no {row['environment']} environment")
        name = row["name"].removeprefix(f"{environment}/").lower()
        ref = references.write(environment, name)
        if ("connections", ref) in self.lines:
            first = self.lines["connections", ref]
            raise _Wrong(f"{ref} is on line {first} already, with other values")
        stands = self.now.content["connections"].get(ref)
        if stands is not None and stands["deployment"] != where:
            raise _Wrong(f"{ref} is a connection into another application: {stands['deployment']}")
        scheme = self._scheme(application, row, stands)
        fields = self.fields(
            "connections",
            ref,
            line,
            # What is not set up yet is not tested in rounds: it could only fail.
            {"deployment": where, "scheme": scheme.key, "left_out_of_rounds": True},
        )
        client = self._client(where, row) or (fields["client"] if stands is not None else "")
        fields["client"] = client
        if stands is None:
            fields["values"] = self._defaults(where, scheme, client)
        for value in _VALUES:
            if text := row.get(value, ""):
                if scheme.value(value) is None:
                    raise _Wrong(f"{scheme.label} has no {value.replace('_', ' ')}")
                fields["values"][value] = text
        if scopes := row.get("scopes", "").replace(",", " ").split():
            fields["scopes"] = sorted(set(scopes))
        if (paused := _truth(row, "paused")) is not None:
            fields["left_out_of_rounds"] = paused
        if (interval := _number(row, "test_interval")) is not None:
            if interval > connections.LONGEST_INTERVAL:
                raise _Wrong(f"a test interval has at most {connections.LONGEST_INTERVAL} minutes")
            fields["test_interval"] = interval
        if wrong := profiles.check_values(scheme, {k: v for k, v in fields["values"].items() if v}):
            shown = {key: says for key, says in wrong.items() if fields["values"].get(key)}
            if shown:
                raise _Wrong(next(iter(shown.values())))
        self.put("connections", ref, line, row)

    def _scheme(self, application: str, row: dict[str, str], stands: PlainFields | None) -> Scheme:
        schemes = self.profile(application).schemes
        text = known_columns.alike(row.get("scheme", ""))
        for scheme in schemes:
            if text in (known_columns.alike(scheme.key), known_columns.alike(scheme.label)):
                break
        else:
            if text or (len(schemes) != 1 and stands is None):
                keys = ", ".join(scheme.key for scheme in schemes)
                raise _Wrong(f"choose a scheme of {row['application']}: {keys}")
            wanted = str(stands["scheme"]) if stands is not None else schemes[0].key
            scheme = self.profile(application).scheme_for(wanted)
        if stands is not None and stands["scheme"] != scheme.key:
            raise _Wrong("the scheme of a connection is changed on its page, not by a table")
        return scheme

    def _client(self, deployment: str, row: dict[str, str]) -> str:
        text = row.get("client", "")
        if not text:
            return ""
        clients = self.now.content["clients"]
        for key in self._names.get(deployment, []):
            if text in (clients[key]["name"], clients[key]["client_id"], key):
                return key
        raise _Wrong(f"there is no client {text[:60]!r} of this application there")

    def _defaults(self, where: str, scheme: Scheme, client: str) -> dict[str, str]:
        row = None
        if client:
            identity = self.now.content["clients"][client]["id"]
            if where not in self._clients:
                found = Client.objects.filter(deployment=self._deployments[where])
                self._clients[where] = {str(each.pk): each for each in found}
            row = self._clients[where].get(identity)
        known = connections.defaults(self._deployments[where], scheme, row, settings.RETURN_ADDRESS)
        return {key: value for key, value in known.items() if value}


class _Workloads(_Reading):
    what = "workloads"

    def name_of(self, key: str) -> str:
        return key

    def take(self, line: int, row: dict[str, str]) -> None:
        """A workload, and what it calls; one that calls several connections is on as many rows.
        What it calls by other connections than the table names stays.
        """
        environment, name = self.environment(row), row["name"]
        key = f"{name}/{environment}"
        fields = self.fields("workloads", key, line, {"name": name, "environment": environment})
        self.put("workloads", key, line, row, "kind", "owner", "runs")
        if windows := _listed(row, "windows"):
            fields["windows"] = windows
        if (days := _number(row, "notice_days")) is not None:
            fields["notice_days"] = days
        if (draws := _truth(row, "draws")) is not None:
            fields["draws"] = draws
        said = {each: fields[each] for each in ("kind", "owner", "runs", "notice_days", "draws")}
        workloads.WorkloadFields(
            name, environment, windows=tuple(fields["windows"]), **said
        ).checked()
        self._call(fields, row)

    def _call(self, fields: PlainFields, row: dict[str, str]) -> None:
        ref, operations = row.get("connection", ""), _listed(row, "operations")
        if not ref:
            if operations:
                raise _Wrong("operations are of a connection, and none is named")
            return
        known = self.now.content["connections"]
        if ref not in known:
            candidates = [each for each in known if each.endswith(f"/{ref}")]
            raise _Wrong(
                f"there is no connection {ref[:60]!r}"
                + (f"; write {references.alternatives(candidates)}" if candidates else "")
            )
        application = self.now.content["deployments"][known[ref]["deployment"]]["application"]
        profile = self.profile(application)
        unknown = [each for each in operations if profile.operation(each) is None]
        if unknown:
            name = self.wanted["applications"][application]["name"]
            raise _Wrong(f"{unknown[0][:60]!r} is not an operation of {name}")
        use = next((use for use in fields["uses"] if use.get("connection") == ref), None)
        if use is None:
            fields["uses"].append(use := {"application": application, "connection": ref})
        if operations:
            use["operations"] = operations


_READERS: dict[What, Callable[[CurrentState], _Reading]] = {
    "applications": _Applications,
    "connections": _Connections,
    "workloads": _Workloads,
}
