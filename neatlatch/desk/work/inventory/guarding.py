"""Refusing changes of an object while an import that includes it is open, by whatever means: by
triggers on the columns that every edit by a person changes.

What a program keeps beside them (health, tokens, when something was seen) goes on meanwhile.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from django.db.models import Model

from neatlatch.desk.estate.records.applications.models import Application, Deployment, Environment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Account, Connection, HeldSecret
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.workloads.models import Use, Workload
from neatlatch.desk.ground.common import marking, refusals
from neatlatch.desk.ground.common.marking import Trigger
from neatlatch.desk.ground.people.models import Owner, Person, Team
from neatlatch.desk.work.access.models import RuleBook

from .models import ImportPlan, ImportStep


@dataclass(frozen=True)
class GuardedTable:
    """A table whose rows belong to objects of an inventory."""

    model: type[Model]
    # The kind of object that a row belongs to.
    kind: str
    # The columns that an edit changes; the database's names.
    columns: tuple[str, ...]
    # The column that names the object's own row.
    row: str = "id"
    # Whether a row is a part of its object, so that adding one is an edit, too.
    part: bool = False
    # Whether rows also come and go by what is no edit: a sign-in notes whose account it was.
    comes_and_goes: bool = False


_ALL = (
    GuardedTable(
        Environment,
        "environments",
        ("key", "name", "order", "look", "production", "wants_service_account"),
    ),
    GuardedTable(
        Person, "people", ("role", "is_active", "email", "first_name", "last_name", "limits")
    ),
    GuardedTable(Team, "teams", ("name",)),
    GuardedTable(Team.people.through, "teams", (), row="team_id", part=True),
    GuardedTable(Owner, "owners", ("version",)),
    GuardedTable(Application, "applications", ("version",)),
    GuardedTable(Deployment, "deployments", ("changed_at",)),
    GuardedTable(RuleBook, "deployments", ("version",), row="place_id", part=True),
    GuardedTable(
        Credential, "credentials", ("hint", "secret_id", "state", "source", "ends", "public_key")
    ),
    GuardedTable(Client, "clients", ("changed_at", "state", "ticks")),
    GuardedTable(Connection, "connections", ("changed_at", "version")),
    GuardedTable(Account, "connections", ("expected",), row="connection_id", comes_and_goes=True),
    GuardedTable(HeldSecret, "connections", ("credential_id",), row="connection_id", part=True),
    GuardedTable(Workload, "workloads", ("changed_at", "version")),
    GuardedTable(
        Use,
        "workloads",
        ("operations", "connection_id", "application_id"),
        row="workload_id",
        part=True,
    ),
)


def _is_held(guarded: GuardedTable, row: str) -> str:
    """SQL that says, in a trigger, whether a row belongs to an object of an open import."""
    plan, step = ImportPlan._meta.db_table, ImportStep._meta.db_table
    return (
        f"EXISTS (SELECT 1 FROM {plan} p JOIN {step} s ON s.plan_id = p.id WHERE p.is_open "
        f"AND NOT p.own_turn "
        f"AND s.row = CAST({row}.{guarded.row} AS TEXT) AND s.kind = '{guarded.kind}' AND "
        f"s.guarded)"
    )


def triggers() -> Iterator[Trigger]:
    """The triggers."""
    refuse = f"BEGIN SELECT RAISE(ABORT, '{refusals.BEING_IMPORTED}'); END"
    for guarded in _ALL:
        meta = guarded.model._meta
        table, held = meta.db_table, _is_held(guarded, "OLD")
        if not guarded.comes_and_goes:
            yield f"{table}_removed", f"BEFORE DELETE ON {table} WHEN {held} {refuse}"
        if guarded.part:
            yield (
                f"{table}_added",
                f"BEFORE INSERT ON {table} WHEN {_is_held(guarded, 'NEW')} {refuse}",
            )
        columns = [field for field in meta.concrete_fields if field.column in guarded.columns]
        if columns:
            names = ", ".join(f'"{field.column}"' for field in columns)
            changed = marking.changed(columns)
            yield (
                f"{table}_changed",
                f"BEFORE UPDATE OF {names} ON {table} WHEN ({changed}) AND {held} {refuse}",
            )


def begin() -> None:
    """From now on the triggers are made with the others."""
    marking.register_guards(triggers)
