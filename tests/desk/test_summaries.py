"""What lists show is kept in the database, and is at every moment what would be worked out anew."""

from __future__ import annotations

import base64
import contextlib
import json
import random
import sqlite3
from collections.abc import Iterable, Iterator
from datetime import datetime, timedelta
from typing import Any
from uuid import UUID, uuid4

import pytest
from django.apps import apps
from django.db import IntegrityError, models, transaction
from django.db import connection as database
from django.test import Client as WebClient
from django.test.utils import CaptureQueriesContext
from django.utils import timezone

from neatlatch import cli
from neatlatch.core.health import State
from neatlatch.core.schemes import CODE
from neatlatch.demo.fill import fill
from neatlatch.desk.estate.clients import services as clients
from neatlatch.desk.estate.connections import blocks, halves, naming, summaries, watching
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
from neatlatch.desk.estate.records.workloads.models import Use
from neatlatch.desk.ground.common import marking, settling
from neatlatch.desk.ground.people.models import Person, Team

from .conftest import forget_the_journal


@pytest.fixture
def filled(transactional_db: None) -> Iterator[None]:
    """A connection of every kind, one where each person has an account, one by protocol; one secret
    is held in two environments."""
    fill(60, lambda stand: None)
    schemes = (CODE, "oauth2_jwt", "api_key", "oauth1", "certificate")
    some = Connection.objects.select_related("deployment").filter(
        deployment__environment__key="production", scheme__in=schemes
    )
    kept = {connection.deployment.application_id: connection.pk for connection in some}
    Use.objects.exclude(connection__in=kept.values()).delete()
    Connection.objects.exclude(pk__in=kept.values()).delete()
    own, managed = Connection.objects.filter(scheme=CODE).order_by("ref")[:2]
    one, two = Connection.objects.filter(scheme="api_key").order_by("ref")[:2]
    staging = Deployment.objects.get(
        application=two.deployment.application_id, environment__key="staging"
    )
    Connection.objects.filter(pk=two.pk).update(deployment=staging)
    Client.objects.filter(connections=two).update(deployment=staging)
    HeldSecret.objects.filter(connection=two).update(
        credential=HeldSecret.objects.filter(connection=one)[:1].values("credential")
    )
    team = Team.objects.create(name="Quays")
    team.people.set(Person.objects.filter(username__in=("ewan", "isla")))
    Connection.objects.filter(pk=own.pk).update(
        individual=True, team=team, tests_as="svc@gannet.example"
    )
    TokenSet.objects.filter(connection=own).update(person=Person.objects.get(username="ewan"))
    Account.objects.create(
        connection=own,
        person=Person.objects.get(username="rowan"),
        expected="r.oake@gannet.example",
    )
    assert managed.client is not None
    Client.objects.filter(pk=managed.client.pk).update(managed=True)
    Credential.objects.filter(holders__connection=managed).update(source="registered")
    Connection.objects.filter(pk=managed.pk).update(state="unlatched", failing="It says no.")
    TokenSet.objects.filter(connection=managed).update(refused="It was used before.")
    settling.catch_up()
    yield
    forget_the_journal()


def summed(found: Iterable[Connection], now: datetime) -> dict[UUID, Any]:
    """What connections that were read are summed up to, or stumbled over."""
    made: dict[UUID, Any] = {}
    for connection in found:
        try:
            fresh = vars(summaries.sum_up(connection, now))
        except Exception as error:
            fresh = {"stumbles": type(error)}
        made[connection.pk] = {key: value for key, value in fresh.items() if key != "holds_until"}
    return made


def all_fresh() -> dict[UUID, Any]:
    """Every connection as it is summed up without the fast path."""
    return summed(halves.each(Connection.objects.all()), timezone.now())


def all_kept() -> dict[UUID, Any]:
    found: dict[UUID, Any] = {}
    for summary in Summary.objects.select_related("connection"):
        kept = {
            key: getattr(summary, key)
            for key in summaries.ComputedSummary.__dataclass_fields__
            if key != "holds_until"
        }
        found[summary.pk] = {
            **kept,
            "next_stops": tuple(summary.next_stops),
            "lacks": tuple(summary.lacks),
        }
    return found


def stale() -> set[UUID]:
    return set(Summary.objects.filter(stale=True).values_list("pk", flat=True))


def others(field: Any, row: models.Model) -> list[Any]:
    """Other values for a column: emptied, and altered."""
    value = getattr(row, field.attname)
    if field.is_relation:
        other = field.related_model._default_manager.exclude(pk=value).order_by("pk").first()
        return [
            item
            for item in (other.pk if other else None, None if field.null else value)
            if item != value
        ]
    if isinstance(field, models.BooleanField):
        return [not value]
    if isinstance(field, models.UUIDField):
        return [uuid4()]
    if isinstance(field, models.JSONField):
        if value is None:
            return [{"issuer": "https://other.example"}]
        if isinstance(value, list):
            return [[*value, "x"], []]
        texts = {key: f"{one}x" if isinstance(one, str) else one for key, one in value.items()}
        return [{**texts, "x": "y"}, {}]
    if isinstance(field, models.DateTimeField):
        now = timezone.now()
        return [
            now + timedelta(days=1),
            now - timedelta(days=3),
            *([None] if field.null and value else []),
        ]
    if isinstance(field, models.BinaryField):
        return [None if value else b"x", b"another"]
    if isinstance(field, (models.IntegerField, models.FloatField)):
        return [(value or 0) + 1]
    if field.choices:
        return [one for one, _ in field.choices if one != value]
    text = str(value or "")
    return [name for name in (f"{text[: (field.max_length or 500) - 1]}x", "") if name != value]


def rows_of(model: type[models.Model]) -> list[models.Model]:
    """Two rows to change, of those that bear upon a connection; of some tables all there are."""
    paths = {
        "Connection": "pk__in",
        "HeldSecret": "connection__in",
        "Credential": "holders__connection__in",
        "TokenSet": "connection__in",
        "Account": "connection__in",
        "Use": "connection__in",
        "Client": "connections__in",
        "Deployment": "connections__in",
        "Workload": "uses__connection__in",
        "Environment": "deployments__connections__in",
        "Application": "deployments__connections__in",
        "Person": "teams__connections__in",
        "Team_people": "team__connections__in",
    }
    special = Connection.objects.filter(models.Q(individual=True) | models.Q(state="unlatched"))
    for_each = [
        *special.order_by("-individual")[:2],
        *Connection.objects.filter(scheme__in=("oauth2_jwt", "api_key")).order_by("ref")[:2],
    ]
    found: dict[Any, models.Model] = {}
    for item in for_each:
        found |= {
            each.pk: each
            for each in model._default_manager.filter(
                **{paths[model.__name__]: [item.pk]}
            ).distinct()[:2]
        }
    return list(found.values())[: 3 if model in (Connection, TokenSet) else 2]


def models_read() -> set[type[models.Model]]:
    """The models of the tables that summing up asks."""
    with CaptureQueriesContext(database) as asked:
        all_fresh()
    tables = {
        model._meta.db_table: model
        for model in apps.get_models(include_auto_created=True)
        if not model._meta.proxy
    }
    said = " ".join(item["sql"] for item in asked)
    return {model for table, model in tables.items() if f'"{table}"' in said}


class Undone(Exception):
    """A change is taken back."""


def test_a_change_of_any_column_that_is_read_leaves_no_summary_behind(filled: None) -> None:
    """Every column of every table that is read is changed, each alone: what a summary shows is then
    what is worked out without the fast path, or its mark says that it is not."""
    assert all_kept() == all_fresh()
    read = models_read() - {Summary, Standing}
    watched = {item.model for item in watching.WATCHED}
    assert read - watched <= {Team, apps.get_model("people.Owner")}  # names that no summary tells
    before, mattered, behind = all_fresh(), set(), []
    for model, field, row in columns_of(watched):
        passed_over = next(item.passed_over for item in watching.WATCHED if item.model is model)
        for value in others(field, row)[: 1 if field.attname in passed_over else None]:
            with contextlib.suppress(Undone, IntegrityError), transaction.atomic():
                model._default_manager.filter(pk=row.pk).update(**{field.attname: value})
                fresh, marked = all_fresh(), stale()
                changed = {ref for ref in fresh if fresh[ref] != before[ref]}
                mattered |= {f"{model.__name__}.{field.attname}"} if changed else set()
                behind += [(model.__name__, field.attname, value, key) for key in changed - marked]
                quick = summed(blocks.read_block(changed), timezone.now())
                behind += [
                    (model.__name__, field.attname, value, quick[key])
                    for key in changed
                    if quick[key] != fresh[key]
                ]
                raise Undone
    assert behind == []
    assert len(mattered) > 45, " ".join(sorted(mattered))


def columns_of(
    watched: set[type[models.Model]],
) -> Iterator[tuple[type[models.Model], Any, models.Model]]:
    for model in sorted(watched, key=lambda item: item.__name__):
        rows = rows_of(model)
        assert rows, model
        passed_over = next(item.passed_over for item in watching.WATCHED if item.model is model)
        for field in model._meta.concrete_fields:
            if not field.primary_key:
                yield from (
                    (model, field, row)
                    for row in (rows[:1] if field.attname in passed_over else rows)
                )


def test_a_change_and_its_summary_are_one_transaction(filled: None) -> None:
    before = all_kept()
    broken = Connection.objects.filter(scheme="api_key").order_by("ref")[0]
    assert broken.client is not None
    with sqlite3.connect(database.settings_dict["NAME"]) as elsewhere, transaction.atomic():
        Client.objects.filter(pk=broken.client.pk).update(rights=[])
        told = elsewhere.execute(
            "SELECT stale, off FROM connections_summary WHERE connection_id = ?", [broken.pk.hex]
        ).fetchone()
        assert told == (0, before[broken.pk]["off"])  # another process sees the state before
    kept = Summary.objects.get(pk=broken.pk)
    assert not kept.stale
    assert " rights " in kept.off
    assert kept.out
    with contextlib.suppress(Undone), transaction.atomic():
        Client.objects.filter(pk=broken.client.pk).update(rights=["reader", "clerk"])
        raise Undone
    assert Summary.objects.get(pk=broken.pk).off == kept.off
    assert all_kept() == all_fresh()


def test_what_is_more_than_a_block_is_caught_up_with(
    filled: None, monkeypatch: pytest.MonkeyPatch
) -> None:
    """An environment bears upon every connection: one block is part of the change, each other one
    of its own.
    """
    monkeypatch.setattr(blocks, "MOST", 3)
    count = Connection.objects.count()
    with transaction.atomic():
        Environment.objects.filter(key="production").update(production=False)
    assert Summary.objects.filter(stale=True).count() == count - 3
    with CaptureQueriesContext(database) as asked:
        assert settling.catch_up() >= count - 3  # and the applications
    blocks_of = sum(item["sql"].startswith("BEGIN") for item in asked)
    assert blocks_of == -(-(count - 3) // 3)
    assert len(asked) <= 40 * blocks_of
    assert all_kept() == all_fresh()


def test_a_change_of_a_client_with_two_hundred_connections_shows_on_its_page_at_once(
    filled: None,
) -> None:
    """All of them in the transaction of the change, by as many statements as for three."""
    like = (
        Connection.objects.filter(scheme=CODE, individual=False)
        .select_related("client", "deployment")
        .order_by("ref")[0]
    )
    client = like.client
    assert client is not None
    same = {
        "deployment": like.deployment,
        "client": client,
        "scheme": CODE,
        "values": like.values,
        "scopes": like.scopes,
        "changed_at": timezone.now(),
    }
    by = Person.objects.get(username="morag")

    def note(count: int, number: int) -> int:
        Connection.objects.bulk_create(
            [
                Connection(**naming.named(like.deployment, f"many-{number:03}"), **same)
                for number in range(Connection.objects.filter(client=client).count() - 1, count - 1)
            ]
        )
        settling.catch_up()
        with CaptureQueriesContext(database) as asked:
            clients.record_facts(by, client, {"allow_list": [f"192.0.2.{number}"]})
        return len(asked)

    few, many = note(3, 1), note(200, 2)
    assert many <= few <= 40  # the change itself, with all that follows from it
    assert stale() == set()
    web = WebClient()
    web.force_login(by, backend="django.contrib.auth.backends.ModelBackend")
    with transaction.atomic():
        Client.objects.filter(pk=client.pk).update(scopes=[])
    assert stale() == set()
    rows = web.get("/api/connections?words=many-1").json()["items"]
    assert len(rows) > 90
    assert all(
        "differs" in row["glyph"]["fits"] or "missing" in row["glyph"]["fits"] for row in rows
    )


def test_a_list_works_out_for_itself_what_is_stale(filled: None) -> None:
    web = WebClient()
    web.force_login(
        Person.objects.get(username="morag"), backend="django.contrib.auth.backends.ModelBackend"
    )
    one = Connection.objects.filter(scheme="api_key").order_by("ref")[0]
    assert one.client is not None
    Client.objects.filter(pk=one.client.pk).update(
        rights=[]
    )  # beside any transaction: nothing follows at once
    assert Summary.objects.get(pk=one.pk).stale
    rows = {row["ref"]: row for row in web.get("/api/connections").json()["items"]}
    assert "role" in rows[one.ref]["glyph"]["says"]
    cells = [
        cell
        for row in web.get("/api/today/wall").json()["items"]
        for cells in row["cells"].values()
        for cell in cells
    ]
    assert {cell["ref"]: cell["says"] for cell in cells}[one.ref] == "role missing"
    assert settling.catch_up() >= 1
    found = web.get("/api/connections?words=pin:rights").json()["items"]
    assert one.ref in [row["ref"] for row in found]
    assert one.ref not in {
        row["ref"] for row in web.get("/api/connections?words=-pin:rights").json()["items"]
    }


def test_a_summary_is_worked_out_again_when_its_moment_passes(
    filled: None, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Between two moments it is the same, whatever the time; only “ended 3 days ago” may be a
    minute old.
    """
    pick, now = random.Random(14), timezone.now()
    for connection in halves.each(Connection.objects.all()):
        at = now
        for _ in range(6):
            kept = summaries.sum_up(connection, at)
            until = kept.holds_until or at + timedelta(days=900)
            assert until > at
            for moment in (at + (until - at) * pick.random(), until - timedelta(microseconds=1)):
                then = vars(summaries.sum_up(connection, moment))
                differ = {key for key, value in vars(kept).items() if then[key] != value} - {
                    "holds_until"
                }
                assert differ <= (
                    {"next_why"} if (moment - at) < timedelta(minutes=1) else set()
                ), (connection.ref, at, moment)
            at = until
    soon = Summary.objects.exclude(holds_until=None).order_by("holds_until")[0]
    assert soon.holds_until is not None
    monkeypatch.setattr(timezone, "now", lambda: soon.holds_until)
    assert settling.catch_up() >= 1
    assert Summary.objects.get(pk=soon.pk).worked_out == soon.holds_until


def test_the_command_finds_what_is_not_as_it_would_be(
    filled: None, capsys: pytest.CaptureFixture[str]
) -> None:
    assert cli.main(["summaries", "check"]) == 0
    one = Summary.objects.select_related("connection").order_by("connection__ref")[0]
    Summary.objects.filter(pk=one.pk).update(workloads=77)
    capsys.readouterr()
    assert cli.main(["summaries", "check"]) == 1
    said = capsys.readouterr().out
    assert one.connection.ref in said
    assert "workloads is 77" in said
    assert cli.main(["summaries", "anew"]) == 0
    assert cli.main(["summaries", "check"]) == 0
    marking.remove()
    try:
        with transaction.atomic():
            Connection.objects.filter(pk=one.pk).update(values={})
        assert cli.main(["summaries", "check"]) == 1
    finally:
        marking.install()


def test_other_rules_and_lost_triggers_are_seen_at_the_start(
    filled: None, monkeypatch: pytest.MonkeyPatch
) -> None:
    marking.remove()
    assert not marking.triggers_are_current()
    settling.check_at_start()
    assert marking.triggers_are_current()
    assert not Summary.objects.filter(stale=True).exists()
    monkeypatch.setattr(summaries, "form", lambda: "others")
    settling.check_at_start()
    assert settling.catch_up() >= Connection.objects.count()
    assert set(Summary.objects.values_list("form", flat=True)) == {"others"}


def test_applications_stand_as_their_connections_do(filled: None) -> None:
    states = [state.value for state in State]

    def counted() -> dict[str, Any]:
        ranks = {"unlatched": 0, "sticking": 1, "not_proven": 3, "latched": 4}
        found = {}
        for application in Application.objects.all():
            own = Summary.objects.filter(
                connection__deployment__application=application
            ).select_related("connection")
            worst = [
                min(2, ranks[each.connection.state]) if each.out else ranks[each.connection.state]
                for each in own
            ]
            held = [each.connection.state for each in own]
            found[application.name] = (
                min(worst, default=5),
                *(held.count(state) for state in states),
            )
        return found

    def kept() -> dict[str, Any]:
        rows = Standing.objects.filter(stale=False).values_list("name", "worst", *states)
        return {name: (worst, *counts) for name, worst, *counts in rows}

    assert kept() == counted()
    one = Connection.objects.filter(state="latched").order_by("ref")[0]
    with transaction.atomic():
        Connection.objects.filter(pk=one.pk).update(state="sticking")
    assert kept() == counted()
    with transaction.atomic():
        Application.objects.filter(pk=one.deployment.application_id).update(name="Renamed")
    assert kept() == counted()
    with transaction.atomic():
        Use.objects.filter(connection=one).delete()
        one.delete()
    assert kept() == counted()
    assert kept()["Renamed"][0] == 5


def test_one_that_cannot_be_summed_up_takes_no_list_with_it(
    filled: None, monkeypatch: pytest.MonkeyPatch
) -> None:
    web = WebClient()
    web.force_login(
        Person.objects.get(username="morag"), backend="django.contrib.auth.backends.ModelBackend"
    )
    one, real = Connection.objects.order_by("ref")[0], summaries.sum_up
    before = {row["ref"]: row["glyph"] for row in web.get("/api/connections").json()["items"]}

    def stumble(connection: Connection, now: datetime) -> summaries.ComputedSummary:
        if connection.pk == one.pk:
            raise KeyError("what it stumbles over")
        return real(connection, now)

    monkeypatch.setattr(summaries, "sum_up", stumble)
    with transaction.atomic():
        Connection.objects.update(scopes=["other"])
    assert Connection.objects.get(pk=one.pk).scopes == ["other"]  # the change is not lost
    assert list(Summary.objects.filter(stale=True).values_list("pk", flat=True)) == [one.pk]
    rows = {row["ref"]: row["glyph"] for row in web.get("/api/connections").json()["items"]}
    assert rows[one.ref] == before[one.ref]
    assert web.get("/api/today").status_code == 200
    monkeypatch.undo()
    assert settling.catch_up() >= 1
    assert all_kept() == all_fresh()


def test_of_many_in_a_cell_the_worst_are_drawn(
    filled: None, monkeypatch: pytest.MonkeyPatch
) -> None:
    """One that works and has a pin out stands before those that have none."""
    monkeypatch.setattr("neatlatch.desk.pages.today.IN_A_CELL", 1)
    one = (
        Connection.objects.filter(scheme="api_key", state="latched")
        .select_related("deployment__application", "deployment__environment")
        .order_by("ref")[0]
    )
    with transaction.atomic():
        Connection.objects.filter(pk=one.pk).update(ref="zz-last", values={})
        for number in range(3):
            Connection.objects.create(
                **naming.named(one.deployment, f"aa-{number}"),
                deployment=one.deployment,
                client=one.client,
                scheme=one.scheme,
                values=one.values,
                state="latched",
                changed_at=one.changed_at,
                proven_at=timezone.now(),
                secret_taken_at=timezone.now(),
            )
            held = HeldSecret.objects.filter(connection=one)[0]
            HeldSecret.objects.create(
                connection=Connection.objects.get(name=f"aa-{number}"),
                key=held.key,
                credential=held.credential,
            )
    web = WebClient()
    web.force_login(
        Person.objects.get(username="morag"), backend="django.contrib.auth.backends.ModelBackend"
    )
    row = next(
        each
        for each in web.get("/api/today/wall").json()["items"]
        if each["application"] == one.deployment.application.key
    )
    assert [cell["ref"] for cell in row["cells"][one.deployment.environment.key]] == ["zz-last"]
    assert row["more"][one.deployment.environment.key] == 3


def test_a_made_up_cursor_is_told_so(filled: None) -> None:
    web = WebClient()
    web.force_login(
        Person.objects.get(username="morag"), backend="django.contrib.auth.backends.ModelBackend"
    )
    for values in (
        ["1", "2026-01-01T00:00:00", "x"],
        ["1", None, "x"],
        [None, "2026-01-01T00:00:00+00:00", "x"],
        ["1", "0001-01-01T00:00:00+14:00", "x"],
        ["1", "9999-12-31T23:59:59-14:00", "x"],
        ["1"],
        "x",
    ):
        cursor = base64.urlsafe_b64encode(json.dumps(values).encode()).decode().rstrip("=")
        for address in ("/api/today/breaks", "/api/credentials"):
            assert web.get(address, {"cursor": cursor}).status_code == 422, (address, values)
