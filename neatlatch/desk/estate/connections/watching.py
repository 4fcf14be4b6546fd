"""Which change makes which summaries stale (:mod:`neatlatch.desk.ground.common.marking`).

A column counts unless it is passed over here, so that a new one cannot be forgotten.
"""

from __future__ import annotations

from collections.abc import Iterator

from django.db.models import Model

from neatlatch.desk.estate.records.applications.models import Application, Deployment, Environment
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import (
    Account,
    Connection,
    HeldSecret,
    Standing,
    Summary,
    TokenSet,
)
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.workloads.models import Use, Workload
from neatlatch.desk.ground.common.marking import MarkedTable, Trigger, WatchedTable, register
from neatlatch.desk.ground.people.models import Person, Team

# Which connections hold what a credential is, by its fingerprint.
_SAME = (
    "SELECT h.connection_id FROM connections_heldsecret h JOIN credentials_credential s ON s.id "
    "= h.credential_id WHERE s.fingerprint <> '' AND s.fingerprint"
)
_OF_APPLICATION = (
    "SELECT c.id FROM connections_connection c JOIN applications_place p ON p.id = c.place_id "
    "WHERE p.application_id"
)


WATCHED = (
    WatchedTable(
        Connection,
        "{row}.id",
        (
            "pace",
            "time_limit",
            "paused",
            "tests_as",
            "work_in_rounds",
            "version",
            "changed_by",
            "created",
            "score",
            "same_failures",
            "last_class",
            "failed_rung",
            "passes",
            "tested_at",
            "recent",
            "scopes_changed_at",
            "name",
        ),
    ),
    WatchedTable(
        HeldSecret,
        (
            f"{{row}}.connection_id UNION {_SAME} = (SELECT fingerprint FROM "
            f"credentials_credential WHERE id = {{row}}.credential_id)"
        ),
    ),
    WatchedTable(
        Credential,
        "SELECT connection_id FROM connections_heldsecret WHERE credential_id = {row}.id UNION "
        f"SELECT id FROM connections_connection WHERE client_id = {{row}}.client_id UNION "
        f"{_SAME} = {{row}}.fingerprint",
        (
            "value",
            "digest",
            "sent_to",
            "drawn_by",
            "chain",
            "root",
            "weak",
            "put_in_by",
            "owner_id",
            "replaces_id",
            "last_used",
            "last_used_from",
            "revoked",
            "why",
        ),
    ),
    WatchedTable(
        TokenSet,
        "{row}.connection_id",
        ("access", "sent_to", "obtained_by", "generation", "lease", "lease_until", "asked_at"),
    ),
    WatchedTable(Account, "{row}.connection_id", ("asked_at", "asked_by")),
    WatchedTable(Use, "{row}.connection_id", ("seen", "seen_at")),
    WatchedTable(
        Workload,
        "SELECT connection_id FROM users_use WHERE workload_id = {row}.id",
        (
            "owner_id",
            "runs",
            "windows",
            "notice_days",
            "draws",
            "version",
            "changed_at",
            "changed_by",
            "kind",
            "environment_id",
        ),
    ),
    WatchedTable(
        Client,
        "SELECT id FROM connections_connection WHERE client_id = {row}.id",
        (
            "name",
            "contacts",
            "state",
            "version",
            "changed_by",
            "created",
            "planned",
            "management_address",
            "management_token",
            "ticks",
            "scopes_changed_at",
            "management_digest",
            "ceiling",
            "pace",
            "workload_id",
            "scheme",
            "kind",
        ),
    ),
    WatchedTable(
        Deployment,
        f"{_OF_APPLICATION} = {{row}}.application_id",
        ("metadata_address", "read_at", "house"),
    ),
    # What an environment is called is told of secrets that are held in others, too.
    WatchedTable(
        Environment,
        "SELECT connection_id FROM connections_summary",
        ("order", "look", "reveals", "work_in_rounds"),
    ),
    WatchedTable(
        Application,
        f"{_OF_APPLICATION} = {{row}}.id",
        ("key", "name", "purpose", "owner_id", "documentation", "version", "changed_by", "created"),
    ),
    WatchedTable(
        Person,
        "SELECT connection_id FROM connections_account WHERE person_id = {row}.id UNION "
        "SELECT connection_id FROM connections_tokenset WHERE person_id = {row}.id UNION "
        "SELECT c.id FROM connections_connection c JOIN people_team_people t ON t.team_id = "
        "c.team_id WHERE t.person_id = {row}.id",
        (
            "password",
            "last_login",
            "is_superuser",
            "email",
            "is_staff",
            "is_active",
            "date_joined",
            "role",
            "keys_on",
            "must_change",
            "factor",
            "factor_begun",
            "factor_step",
            "factor_wrong",
            "factor_rests",
            "factor_since",
            "epoch",
            "notices",
        ),
    ),
    WatchedTable(
        Team.people.through, "SELECT id FROM connections_connection WHERE team_id = {row}.team_id"
    ),
)


def passed_over(model: type[Model]) -> tuple[str, ...]:
    """The columns of a watched model that no summary is worked out from.

    Raises ``LookupError`` for a model that is not watched.
    """
    for watched in WATCHED:
        if watched.model is model:
            return watched.passed_over
    raise LookupError(f"{model.__name__} is not watched.")


SUMMARIES, STANDINGS = MarkedTable(Summary, Connection), MarkedTable(Standing, Application)


def _of_summaries() -> Iterator[Trigger]:
    yield from SUMMARIES.follow(WATCHED)


def _of_standings() -> Iterator[Trigger]:
    of_deployment = "SELECT application_id FROM applications_place WHERE id = {}.place_id"
    of_summary = (
        "SELECT p.application_id FROM applications_place p JOIN connections_connection c ON "
        "c.place_id = p.id WHERE c.id = NEW.connection_id"
    )
    old, new = (STANDINGS.mark(of_deployment.format(row)) for row in ("OLD", "NEW"))
    yield "standing_connection_made", f"AFTER INSERT ON connections_connection BEGIN {new} END"
    yield "standing_connection_gone", f"AFTER DELETE ON connections_connection BEGIN {old} END"
    yield (
        "standing_connection_changed",
        "AFTER UPDATE OF state, place_id ON connections_connection "
        f"WHEN OLD.state IS NOT NEW.state OR OLD.place_id IS NOT NEW.place_id BEGIN {old} "
        f"{new} END",
    )
    yield (
        "standing_summary_changed",
        (
            f"AFTER UPDATE OF out ON connections_summary WHEN OLD.out IS NOT NEW.out BEGIN "
            f"{STANDINGS.mark(of_summary)} END"
        ),
    )
    yield (
        "standing_application_named",
        f"AFTER UPDATE OF name ON applications_application BEGIN {STANDINGS.mark('NEW.id')} END",
    )


def begin() -> None:
    """Watch from now on."""
    register(SUMMARIES, _of_summaries)
    register(STANDINGS, _of_standings)
