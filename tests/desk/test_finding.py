"""Finding anything as one types; filters of lists, kept and shared."""

from __future__ import annotations

from collections.abc import Iterator
from urllib.parse import quote

import pytest
from django.db import connection as database
from django.test import Client as WebClient

from neatlatch.desk.estate.clients import services as clients
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.estate.records.workloads.models import Workload
from neatlatch.desk.ground.people.models import Person, Team
from neatlatch.desk.work.finding import index
from tests.harness import StandIns

from .conftest import forget_the_journal, load_once
from .test_workbenches import send


@pytest.fixture
def web(transactional_db: None, stand_ins: StandIns) -> Iterator[WebClient]:
    """OAuth clients, a certificate and their workloads."""
    load_once(stand_ins.port, only=("cargo-manifests", "crew-roster"), with_benches=False)
    client = WebClient()
    client.force_login(
        Person.objects.get(username="morag"), backend="django.contrib.auth.backends.ModelBackend"
    )
    index.rebuild()  # other tests' databases were emptied behind the index's back
    yield client
    forget_the_journal()


def found(web: WebClient, words: str) -> list[tuple[str, str]]:
    return [
        (find["kind"], find["name"]) for find in send(web, "get", f"/search?words={quote(words)}")
    ]


def test_everything_is_found_as_one_types(web: WebClient) -> None:
    assert set(found(web, "cargo-man")[:3]) == {
        ("connection", f"{environment}/cargo-manifests")
        for environment in ("sandbox", "staging", "production")
    }
    assert ("application", "Cargo manifests") in found(web, "carg")
    assert found(web, "sandbox/cargo-man")[0] == ("connection", "sandbox/cargo-manifests")
    client = Client.objects.get(connections__ref="production/cargo-manifests")
    assert ("client", client.name) in found(web, client.client_id)
    assert ("client", client.name) in found(web, client.client_id[:6])
    hint = Credential.objects.filter(client=client).latest("issued").hint
    assert ("credential", hint) in found(web, hint.lstrip("…"))
    assert ("redirect URI", client.redirect_uris[0]) in found(web, client.redirect_uris[0])
    assert ("redirect URI", client.redirect_uris[0]) in found(web, "127.0.0.1:8600/ret")
    assert ("person", "Morag Orr") in found(web, "mor")
    assert ("workload", "Night manifest run") in found(web, "night man")
    assert ("workload", "Customs return") in found(web, "oake customs")
    assert ("page", "Access rules") in found(web, "acc")
    crew = Connection.objects.get(ref="production/crew-roster")
    assert crew.client is not None
    digits = crew.client.facts["thumbprint"].replace(":", "").lower()
    thumbprint = ":".join(digits[at : at + 2] for at in range(0, 64, 2)).upper()
    for typed in (digits[:8], digits, thumbprint[:11], thumbprint.lower()):
        assert ("thumbprint", thumbprint) in found(web, typed), typed


def test_words_are_taken_as_they_stand(web: WebClient) -> None:
    for typed in (
        '"',
        "*",
        "AND",
        "a OR b",
        "NEAR(",
        "-",
        "cargo*",
        "kind:connection",
        "%",
        "'; DROP TABLE finding_entry; --",
        "é",
        "x" * 3000,
    ):
        assert isinstance(found(web, typed), list)
    assert found(web, "") == []
    assert found(web, "zzz-no-such-thing") == []


def test_the_index_follows_every_change(web: WebClient) -> None:
    by, client = (
        Person.objects.get(username="morag"),
        Client.objects.get(connections__ref="staging/cargo-manifests"),
    )
    clients.change(by, client, clients.with_uris(["https://desk.gannet.example/brand-new"]))
    assert ("redirect URI", "https://desk.gannet.example/brand-new") in found(web, "brand-new")
    assert not any(
        "127.0.0.1" in name
        for kind, name in found(web, client.name)
        if kind == "redirect URI" and "staging" in name
    )
    workload = Workload.objects.get(name="Customs return")
    workload.name = "Customs paper"
    workload.save()
    assert ("workload", "Customs paper") in found(web, "customs paper")
    assert ("workload", "Customs return") not in found(web, "customs return")
    workload.delete()
    assert found(web, "customs paper") == []
    before = sorted(found(web, "cargo"))
    assert index.rebuild() > 10
    assert sorted(found(web, "cargo")) == before


def test_an_index_that_is_written_anew_is_gone_on_with_where_it_was_cut_off(
    web: WebClient, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(index, "BLOCK", 7)
    before = sorted(found(web, "cargo"))
    with database.cursor() as cursor:  # one that nothing stands behind, and one that is missing
        cursor.execute(
            "INSERT INTO finding_entry (rowid, name, kind) SELECT max(entry) + 1, 'cargo of "
            "nobody', 'client' FROM finding_place"
        )
        cursor.execute(
            "INSERT INTO finding_place (entry, of) SELECT max(entry) + 1, 'nothing:1' FROM "
            "finding_place"
        )
        cursor.execute("DELETE FROM finding_entry WHERE name = 'Cargo manifests'")
        cursor.execute(
            "DELETE FROM finding_place WHERE entry NOT IN (SELECT rowid FROM finding_entry)"
        )
    assert sorted(found(web, "cargo")) != before
    index.begin()
    for _ in range(5):
        assert index.go_on()
    Team.objects.create(name="Cargo of the night")  # what is saved meanwhile stays found
    workload = Workload.objects.get(name="Customs return")
    workload.delete()
    blocks = 0
    while index.go_on():  # as another program would
        blocks += 1
    assert blocks > 5
    assert sorted(found(web, "cargo")) == sorted([*before, ("team", "Cargo of the night")])
    assert found(web, "customs return") == []
    assert not index.go_on()


def test_no_secret_is_in_the_index(web: WebClient) -> None:
    with database.cursor() as cursor:
        text = str(cursor.execute("SELECT name, words, detail FROM finding_entry").fetchall())
    for credential in Credential.objects.all():
        assert credential.open().reveal() not in text


def listed(web: WebClient, words: str) -> list[str]:
    return [item["ref"] for item in send(web, "get", f"/connections?words={quote(words)}")["items"]]


def test_lists_filter_by_plain_and_field_words(web: WebClient) -> None:
    everything = listed(web, "")
    assert listed(web, "env:production") == ["production/cargo-manifests", "production/crew-roster"]
    assert listed(web, "cargo -env:production") == [
        "sandbox/cargo-manifests",
        "staging/cargo-manifests",
    ]
    assert listed(web, "pin:scopes app:cargo env:prod") == ["production/cargo-manifests"]
    assert "production/cargo-manifests" not in listed(web, "-pin:scopes")
    assert listed(web, 'workload:"night manifest"') == ["production/cargo-manifests"]
    assert listed(web, "-workload:manifest") == [
        item for item in everything if item != "production/cargo-manifests"
    ]
    assert listed(web, "owner:crewing") == ["production/crew-roster"]
    assert listed(web, 'env:"no such') == []
    assert listed(web, "env:") == everything
    used = send(web, "get", "/credentials?words=used%3Ayes")["items"]
    assert used
    assert all(item["connections"] for item in used)
    assert {
        item["environment"]
        for item in send(web, "get", "/credentials?words=env%3Aproduction")["items"]
    } == {"Production"}


def test_a_filter_is_kept_and_shared(web: WebClient) -> None:
    isla = WebClient()
    isla.force_login(
        Person.objects.get(username="isla"), backend="django.contrib.auth.backends.ModelBackend"
    )
    made = send(
        web,
        "post",
        "/filters",
        {"list": "connections", "name": "Broken ones", "words": "state:unlatched"},
        201,
    )
    assert [item["name"] for item in send(web, "get", "/filters?list=connections")] == [
        "Broken ones"
    ]
    assert send(isla, "get", "/filters?list=connections") == []
    assert found(isla, "broken") == []
    send(
        web,
        "post",
        "/filters",
        {
            "list": "connections",
            "name": "Broken ones",
            "words": "state:unlatched env:production",
            "shared": True,
        },
        201,
    )
    seen = send(isla, "get", "/filters?list=connections")
    assert [(item["words"], item["mine"], item["by"]) for item in seen] == [
        ("state:unlatched env:production", False, "Morag Orr")
    ]
    assert ("filter", "Broken ones") in found(isla, "broken")
    send(isla, "delete", f"/filters/{made['id']}", status=404)
    send(web, "delete", f"/filters/{made['id']}", status=204)
    assert found(web, "broken") == []
    send(web, "post", "/filters", {"list": "connections", "name": " ", "words": "x"}, 422)
    send(web, "post", "/filters", {"list": "nothing", "name": "a", "words": "x"}, 422)
