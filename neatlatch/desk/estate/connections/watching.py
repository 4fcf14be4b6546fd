"""Which change makes which summaries stale: triggers on every table that summaries are worked out from.

A column counts unless it is passed over here, so that a new one cannot be forgotten. Triggers are no
part of migrations, which take tables apart and put them together again: they are dropped before and
made after.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from django.apps import apps
from django.db import connection as database
from django.db import models

from neatlatch.desk.estate.records.applications.models import Application, Environment, Place
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Account, Connection, HeldSecret, Standing, Summary, TokenSet
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.users.models import Use, User
from neatlatch.desk.ground.people.models import Person, Team

# Which connections hold what a credential is, by its fingerprint.
_SAME = "SELECT h.connection_id FROM connections_heldsecret h JOIN credentials_credential s ON s.id = h.credential_id WHERE s.fingerprint <> '' AND s.fingerprint"
_OF_APPLICATION = "SELECT c.id FROM connections_connection c JOIN applications_place p ON p.id = c.place_id WHERE p.application_id"


@dataclass(frozen=True)
class Watched:
    """A table that summaries are worked out from: the connections that a row of it bears upon, as SQL
    with ``{row}`` for the row, and the columns that no summary reads."""

    model: type[models.Model]
    reaches: str
    passed_over: tuple[str, ...] = ()

    def columns(self) -> list[models.Field[object, object]]:
        """The columns that count."""
        return [one for one in self.model._meta.concrete_fields if one.attname not in self.passed_over and not one.primary_key]


WATCHED = (
    Watched(Connection, "{row}.id", ("pace", "time_limit", "paused", "tests_as", "work_in_rounds", "version", "changed_by", "created", "score",
                                     "same_failures", "last_class", "failed_rung", "passes", "tested_at", "recent", "scopes_changed_at")),
    Watched(HeldSecret, f"{{row}}.connection_id UNION {_SAME} = (SELECT fingerprint FROM credentials_credential WHERE id = {{row}}.credential_id)"),
    Watched(Credential, "SELECT connection_id FROM connections_heldsecret WHERE credential_id = {row}.id UNION "
                        f"SELECT id FROM connections_connection WHERE client_id = {{row}}.client_id UNION {_SAME} = {{row}}.fingerprint",
            ("value", "digest", "sent_to", "drawn_by", "chain", "root", "weak", "put_in_by", "owner_id", "replaces_id", "last_used", "last_used_from",
             "revoked", "why")),
    Watched(TokenSet, "{row}.connection_id", ("access", "sent_to", "obtained_by", "generation", "lease", "lease_until", "asked_at")),
    Watched(Account, "{row}.connection_id", ("asked_at", "asked_by")),
    Watched(Use, "{row}.connection_id", ("seen", "seen_at")),
    Watched(User, "SELECT connection_id FROM users_use WHERE user_id = {row}.id",
            ("owner_id", "runs", "windows", "notice_days", "draws", "version", "changed_at", "changed_by", "kind", "environment_id")),
    Watched(Client, "SELECT id FROM connections_connection WHERE client_id = {row}.id",
            ("name", "contacts", "state", "version", "changed_by", "created", "planned", "management_address", "management_token", "ticks", "scopes_changed_at",
             "management_digest", "ceiling", "pace", "user_id", "scheme", "kind")),
    Watched(Place, f"{_OF_APPLICATION} = {{row}}.application_id", ("metadata_address", "read_at", "house")),
    # What an environment is called is told of secrets that are held in others, too.
    Watched(Environment, "SELECT connection_id FROM connections_summary", ("order", "look", "reveals", "work_in_rounds")),
    Watched(Application, f"{_OF_APPLICATION} = {{row}}.id", ("key", "name", "purpose", "owner_id", "documentation", "version", "changed_by", "created")),
    Watched(Person, "SELECT connection_id FROM connections_account WHERE person_id = {row}.id UNION "
                    "SELECT connection_id FROM connections_tokenset WHERE person_id = {row}.id UNION "
                    "SELECT c.id FROM connections_connection c JOIN people_team_people t ON t.team_id = c.team_id WHERE t.person_id = {row}.id",
            ("password", "last_login", "is_superuser", "email", "is_staff", "is_active", "date_joined", "role", "keys_on", "must_change", "factor", "factor_begun",
             "factor_step", "factor_wrong", "factor_rests", "factor_since", "epoch", "notices")),
    Watched(Team.people.through, "SELECT id FROM connections_connection WHERE team_id = {row}.team_id"),
)  # fmt: skip
_NAME = "summary_"


def _names(columns: Iterable[str | None]) -> str:
    return ", ".join(f'"{one}"' for one in columns)


def _changed(column: models.Field[object, object]) -> str:
    name = f'"{column.column}"'
    if isinstance(column, models.BinaryField):  # sealed anew each time; whether there is any counts
        return f"(OLD.{name} IS NULL) IS NOT (NEW.{name} IS NULL)"
    return f"OLD.{name} IS NOT NEW.{name}"


def _marks(watched: Watched, *rows: str) -> str:
    return " ".join(
        f"UPDATE connections_summary SET stale = 1 WHERE stale = 0 AND connection_id IN ({_reached(watched.reaches, row)});" for row in rows
    )


def _reached(sql: str, row: str) -> str:
    found = sql.format(row=row)
    return found if found.startswith("SELECT") else f"SELECT {found}"


def _of_summaries() -> Iterator[tuple[str, str]]:
    for one in WATCHED:
        table = one.model._meta.db_table
        columns = one.columns()
        yield f"{table}_added", f"AFTER INSERT ON {table} BEGIN {_marks(one, 'NEW')} END"
        yield f"{table}_removed", f"AFTER DELETE ON {table} BEGIN {_marks(one, 'OLD')} END"
        yield (
            f"{table}_changed",
            f"AFTER UPDATE OF {_names(each.column for each in columns)} ON {table} "
            f"WHEN {' OR '.join(map(_changed, columns))} BEGIN {_marks(one, 'OLD', 'NEW')} END",
        )


def _row_of(model: type[models.Model], key: str, source: str) -> str:
    """A row that is marked as stale, with what a new one of the model has."""
    told: dict[str, str] = {}
    for one in model._meta.concrete_fields:
        value = one.get_default()
        plain = (
            "NULL"
            if value is None
            else f"'{value}'"
            if isinstance(value, str)
            else str(int(value))
            if isinstance(value, (bool, int))
            else "'[]'"
        )
        told[str(one.column)] = f"{source}.id" if one.column == key else plain
    return f"INSERT OR IGNORE INTO {model._meta.db_table} ({_names(told)}) SELECT {', '.join(told.values())}"


def _of_standings() -> Iterator[tuple[str, str]]:
    mark = "UPDATE connections_standing SET stale = 1 WHERE stale = 0 AND application_id IN ({});"
    of_place = "SELECT application_id FROM applications_place WHERE id = {}.place_id"
    of_summary = "SELECT p.application_id FROM applications_place p JOIN connections_connection c ON c.place_id = p.id WHERE c.id = NEW.connection_id"
    yield (
        "connection_made",
        f"AFTER INSERT ON connections_connection BEGIN {_row_of(Summary, 'connection_id', 'NEW')}; {mark.format(of_place.format('NEW'))} END",
    )
    yield "connection_gone", f"AFTER DELETE ON connections_connection BEGIN {mark.format(of_place.format('OLD'))} END"
    yield (
        "connection_stands",
        (
            "AFTER UPDATE OF state, place_id ON connections_connection WHEN OLD.state IS NOT NEW.state OR OLD.place_id IS NOT NEW.place_id BEGIN "
            f"{mark.format(of_place.format('OLD'))} {mark.format(of_place.format('NEW'))} END"
        ),
    )
    yield "connection_out", f"AFTER UPDATE OF out ON connections_summary WHEN OLD.out IS NOT NEW.out BEGIN {mark.format(of_summary)} END"
    yield "application_made", f"AFTER INSERT ON applications_application BEGIN {_row_of(Standing, 'application_id', 'NEW')}; END"
    yield "application_named", f"AFTER UPDATE OF name ON applications_application BEGIN {mark.format('NEW.id')} END"


def install(**told: object) -> None:
    """Make the triggers, and a summary for each connection that has none yet; once tables stand."""
    with database.cursor() as cursor:
        for name, body in (*_of_summaries(), *_of_standings()):
            cursor.execute(f"DROP TRIGGER IF EXISTS {_NAME}{name}")
            cursor.execute(f"CREATE TRIGGER {_NAME}{name} {body}")
        cursor.execute(f"{_row_of(Summary, 'connection_id', 'c')} FROM connections_connection c")
        cursor.execute(f"{_row_of(Standing, 'application_id', 'a')} FROM applications_application a")


def remove(**told: object) -> None:
    """Drop the triggers: tables are about to be taken apart."""
    with database.cursor() as cursor:
        found = cursor.execute("SELECT name FROM sqlite_master WHERE type = 'trigger' AND name LIKE %s", [f"{_NAME}%"]).fetchall()
        for (name,) in found:
            cursor.execute(f"DROP TRIGGER {name}")


def are_there() -> bool:
    """Whether the triggers are those of this version."""
    with database.cursor() as cursor:
        found = cursor.execute("SELECT name, sql FROM sqlite_master WHERE type = 'trigger' AND name LIKE %s", [f"{_NAME}%"]).fetchall()
    wanted = {f"{_NAME}{name}": f"CREATE TRIGGER {_NAME}{name} {body}" for name, body in (*_of_summaries(), *_of_standings())}
    return dict(found) == wanted


def tables_stand() -> bool:
    """Whether the tables of summaries were made yet."""
    return apps.ready and Summary._meta.db_table in database.introspection.table_names()
