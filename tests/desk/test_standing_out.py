"""Findings about credentials is kept, follows every change, and is what lists are filtered
by; their pages are by the ends.
"""

from __future__ import annotations

import contextlib
import re
from collections.abc import Iterator
from datetime import timedelta
from typing import Any
from uuid import UUID

import pytest
from django.apps import apps
from django.db import IntegrityError, transaction
from django.db import connection as database
from django.test import Client as WebClient
from django.test.utils import CaptureQueriesContext
from django.utils import timezone

from neatlatch import cli
from neatlatch.demo.fill import fill
from neatlatch.desk.estate.records.clients.models import Client, Kind
from neatlatch.desk.estate.records.connections.models import Connection, HeldSecret
from neatlatch.desk.estate.records.credentials.models import Credential, Handover, StandsOut
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.ground.common import settling
from neatlatch.desk.ground.people.models import Person
from neatlatch.desk.work.credentials import histories, standing_out, watching
from neatlatch.desk.work.drawing.models import Drawn

from .conftest import forget_the_journal
from .test_summaries import Undone, others


@pytest.fixture
def filled(
    transactional_db: None, tmp_path: Any, monkeypatch: pytest.MonkeyPatch
) -> Iterator[None]:
    """Ten connections with their credentials; one that waits to be handed over, one that a workload
    draws with, one that nobody holds.
    """
    monkeypatch.setattr("neatlatch.demo.fill._logins", lambda: tmp_path / "logins.json")
    fill(10, lambda stand: None)
    now, workload = timezone.now(), Workload.objects.order_by("name")[0]
    old = now - timedelta(days=200)
    deployment = Connection.objects.order_by("ref")[0].deployment
    client = Client.objects.create(
        deployment=deployment,
        name="own",
        kind=Kind.WORKLOAD_KEY,
        workload=workload,
        scheme="bearer",
        house=True,
        changed_at=now,
    )
    for name, of, used in (
        ("drawn with", client, now),
        ("unused", None, old),
        ("waiting", None, None),
    ):
        made = Credential.objects.create(
            hint=name[:9],
            kind="token",
            client=of,
            digest=name,
            issued=old,
            last_used=used,
            ends=now + timedelta(days=300),
        )
        if name == "waiting":
            Handover.objects.create(credential=made, ends=now + timedelta(days=1))
        if name == "unused":
            Drawn.objects.create(
                workload=workload.pk,
                connection=deployment.pk and workload.pk,
                credential=str(made.pk),
                way="draw",
                begins=old,
                count=1,
                last=old,
            )
    settling.catch_up()
    yield
    forget_the_journal()


def fresh() -> dict[UUID, str]:
    now = timezone.now()
    return {
        sighted.credential.pk: standing_out.keys_of(sighted.known, now)
        for sighted in histories.sighted(list(Credential.objects.values_list("pk", flat=True)))
    }


def kept() -> dict[UUID, str]:
    return dict(StandsOut.objects.values_list("pk", "marks"))


def test_a_change_of_any_column_that_is_read_leaves_no_mark_behind(filled: None) -> None:
    before = fresh()
    assert kept() == before
    assert {word for marks in before.values() for word in marks.split()} >= {"unused", "waits"}
    with CaptureQueriesContext(database) as asked:
        fresh()
    said = " ".join(item["sql"] for item in asked)
    read = {
        model
        for model in apps.get_models()
        if not model._meta.proxy and re.search(rf"\b{model._meta.db_table}\b", said)
    }
    watched = {item.model for item in watching.WATCHED} | {Drawn}
    assert read >= watched
    mattered, behind = set(), []
    for model in sorted(read, key=lambda item: item.__name__):
        rows = list(model._default_manager.order_by("pk")[: 2 if model is HeldSecret else 1])
        if model is Credential:
            rows = [
                *Credential.objects.exclude(digest=""),
                *Credential.objects.filter(holders__isnull=False).order_by("pk")[:1],
            ]
        for field in (
            concrete_field
            for concrete_field in model._meta.concrete_fields
            if not concrete_field.primary_key
        ):
            for row in rows:
                for value in ["person"] if field.attname == "account_kind" else others(field, row):
                    with contextlib.suppress(Undone, IntegrityError), transaction.atomic():
                        model._default_manager.filter(pk=row.pk).update(**{field.attname: value})
                        now = fresh()
                        changed = {
                            identity for identity in now if now[identity] != before.get(identity)
                        }
                        marked = set(
                            StandsOut.objects.filter(stale=True).values_list("pk", flat=True)
                        )
                        mattered |= {f"{model.__name__}.{field.attname}"} if changed else set()
                        behind += [
                            (model.__name__, field.attname, value, before[identity], now[identity])
                            for identity in changed - marked
                        ]
                        raise Undone
    assert behind == []
    assert mattered >= {
        "Credential.ends",
        "Credential.state",
        "Credential.weak",
        "Credential.last_used",
        "HeldSecret.credential_id",
        "Client.account_kind",
        "Handover.closed",
        "Drawn.last",
    }, sorted(mattered)


def test_lists_are_filtered_by_what_stands_out(filled: None) -> None:
    web = WebClient()
    web.force_login(
        Person.objects.get(username="morag"), backend="django.contrib.auth.backends.ModelBackend"
    )

    def listed(words: str) -> list[dict[str, Any]]:
        found: list[dict[str, Any]] = web.get("/api/credentials", {"words": words}).json()["items"]
        return found

    for word in ("unused", "waits", "dead", "no_end", "shared", "ends_soon"):
        wanted = {str(key) for key, marks in fresh().items() if f" {word} " in marks}
        assert {item["id"] for item in listed(f"mark:{word}")} == wanted, word
        assert {item["id"] for item in listed(f"-mark:{word}")} == {
            str(key) for key in fresh()
        } - wanted
    held = {str(key) for key in HeldSecret.objects.values_list("credential", flat=True)}
    assert {item["id"] for item in listed("used:yes")} == held
    assert (
        {item["id"] for item in listed("-used:yes")}
        == {item["id"] for item in listed("used:no")}
        == {str(key) for key in fresh()} - held
    )
    assert all(item["over"] for item in listed("over:yes"))
    for nonsense in ("used:sometimes", "ends:99999", "-over:maybe"):
        assert web.get("/api/credentials", {"words": nonsense}).status_code == 422, nonsense
    now = timezone.now()
    first, second = (item["id"] for item in listed("")[:2])
    for credential, hours in ((first, 47), (second, 49)):
        Credential.objects.filter(pk=credential).update(ends=now + timedelta(hours=hours))
    assert (
        first
        in {item["id"] for item in listed("ends:2d")}
        == {item["id"] for item in listed("ends:2")}
    )
    assert second in {item["id"] for item in listed("-ends:2d ends:3d")}
    assert not {item["id"] for item in listed("over:yes")} & {
        item["id"] for item in listed("ends:9999d")
    }
    assert {item["hint"] for item in listed("waiting")} == {"waiting"}
    ref = Connection.objects.order_by("ref")[0].ref
    assert all(ref in item["connections"] for item in listed(f"connection:{ref}"))
    name = Workload.objects.order_by("name")[0]
    assert "drawn wit" in {item["hint"] for item in listed(f'owner:"{name.owner_name}"')}


def test_pages_are_by_the_ends_and_none_is_twice(
    filled: None, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("neatlatch.desk.pages.credentials.listing.PAGE", 4)
    Credential.objects.filter(
        pk__in=list(Credential.objects.order_by("pk").values_list("pk", flat=True)[:9])
    ).update(ends=None)
    web = WebClient()
    web.force_login(
        Person.objects.get(username="morag"), backend="django.contrib.auth.backends.ModelBackend"
    )
    seen: list[dict[str, Any]] = []
    cursor: str | None = ""
    while cursor is not None:
        told = web.get("/api/credentials", {"cursor": cursor}).json()
        assert len(told["items"]) == 4 or told["next"] is None
        seen += told["items"]
        cursor = told["next"]
    assert len({item["id"] for item in seen}) == len(seen) == Credential.objects.count()
    ends = [item["ends"] or "z" for item in seen]
    assert ends == sorted(ends)
    assert web.get("/api/credentials", {"cursor": "bm9uc2Vuc2U"}).status_code == 422


def test_the_command_compares_marks_too(filled: None, capsys: pytest.CaptureFixture[str]) -> None:
    assert cli.main(["summaries", "check"]) == 0
    StandsOut.objects.filter(pk__in=list(kept())[:1]).update(marks=" weak ")
    assert cli.main(["summaries", "check"]) == 1
    assert "' weak '" in capsys.readouterr().out
    assert cli.main(["summaries", "anew"]) == 0
    assert kept() == fresh()


def test_what_stands_out_comes_with_its_moment(
    filled: None, monkeypatch: pytest.MonkeyPatch
) -> None:
    one = Credential.objects.get(digest="drawn with")
    assert kept()[one.pk] == ""
    later = timezone.now() + timedelta(days=271)
    monkeypatch.setattr(timezone, "now", lambda: later)
    assert settling.catch_up() >= 1
    assert kept()[one.pk].split() == ["ends_soon", "unused"]
    assert kept() == fresh()
