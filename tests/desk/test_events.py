"""Live progress: bounded, and over when anyone who watches is logged out (security.md L7).

What strangers have written down is bounded too (L12).
"""

from __future__ import annotations

import json
from collections import Counter
from typing import Any

import pytest
from asgiref.sync import async_to_sync, sync_to_async
from django.test import AsyncClient
from django.test import Client as WebClient
from django.utils import timezone

from neatlatch.desk.authority.house import issuing
from neatlatch.desk.authority.records.house.models import RejectedRequest, Waiting
from neatlatch.desk.ground.common import heavy, strangers
from neatlatch.desk.ground.people import log_in
from neatlatch.desk.ground.people.models import Person, Session
from neatlatch.desk.pages.house import endpoints
from neatlatch.desk.pages.rounds import events
from neatlatch.desk.work.access import services as access
from neatlatch.desk.work.rounds import services
from neatlatch.desk.work.rounds.models import Test
from tests.refused import refused_with

from .conftest import Setup
from .houses import House
from .test_programs import Token


@pytest.fixture
def running(setup: Setup, monkeypatch: pytest.MonkeyPatch) -> Test:
    """A test that somebody runs, and does not come to its end."""
    monkeypatch.setattr(events, "_MAY_EVERY", 0.0)
    monkeypatch.setattr(events, "_watching", Counter())
    made = services.begin_test(
        setup.by, setup.connection(setup.client(setup.deployment(), "manifest.read"))
    )
    Test.objects.filter(pk=made.pk).update(
        state=Test.State.RUNNING, alive_until=timezone.now() + services.ALIVE
    )
    return made


def watch(person: Person, test: Test, meanwhile: Any) -> tuple[list[Any], int]:
    """What a stream tells until it ends by itself, and how many watch afterwards; ``meanwhile`` is
    done after the first event.
    """

    async def go() -> tuple[list[Any], int]:
        client = AsyncClient()
        await client.aforce_login(person)
        answer = await client.get(f"/api/tests/{test.pk}/events")
        told = []
        async for part in answer.streaming_content:
            told.append(json.loads(part.decode().removeprefix("data: ")))
            if len(told) == 1:
                await sync_to_async(meanwhile)(client)
        return told, events._watching.total()

    return async_to_sync(go)()


def test_a_stream_ends_with_what_it_shows(setup: Setup, running: Test) -> None:
    told, left = watch(
        setup.by, running, lambda _: Test.objects.update(state=Test.State.DONE, passed=True)
    )
    assert [item["state"] for item in told] == ["running", "done"]
    assert left == 0


@pytest.mark.parametrize(
    "how",
    [
        "access off",
        "another role",
        "logged out everywhere",
        "this session ended",
        "another password",
    ],
)
def test_a_stream_ends_with_the_log_in(setup: Setup, running: Test, how: str) -> None:
    """Nothing ends here but the log-in: without that the stream would go on for ten minutes."""
    acts = {
        "access off": lambda _: Person.objects.update(is_active=False),
        "another role": lambda _: Person.objects.update(role="reader"),
        "logged out everywhere": lambda _: log_in.end_sessions(setup.by, setup.by),
        "this session ended": lambda _: Session.objects.all().delete(),
        "another password": lambda _: Person.objects.update(password="x"),
    }
    told, left = watch(setup.by, running, acts[how])
    assert [item["state"] for item in told] == ["running"]
    assert left == 0


def test_one_person_watches_so_many_at_once(
    setup: Setup, running: Test, monkeypatch: pytest.MonkeyPatch
) -> None:
    web = setup.web("administrator")
    at = f"/api/tests/{running.pk}/events"
    me = Person.objects.get(username="administrator")
    monkeypatch.setattr(events, "_watching", Counter({me.pk: events._MOST_OF_ONE}))
    assert web.get(at).status_code == 429
    monkeypatch.setattr(
        events, "_watching", Counter(dict.fromkeys(range(10**6, 10**6 + events._MOST), 1))
    )
    assert web.get(at).status_code == 429
    monkeypatch.setattr(events, "_watching", Counter())
    assert web.get(at).status_code == 200
    assert WebClient().get(at).status_code == 401


def test_an_allowance_is_of_one_of_all_and_of_a_minute(monkeypatch: pytest.MonkeyPatch) -> None:
    now = [0.0]
    monkeypatch.setattr(strangers.time, "monotonic", lambda: now[0])
    allowance = strangers.Allowance(of_one=2, of_all=3)
    assert [allowance.take("a") for _ in range(3)] == [True, True, False]
    assert [allowance.take("b"), allowance.take("c")] == [True, False]
    now[0] = 60.0
    assert allowance.take("a")


def test_strangers_have_a_bounded_number_of_rows_written(
    house: House, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(issuing, "_NOTED", strangers.Allowance(5, 50))
    monkeypatch.setattr(endpoints, "_ASKED", strangers.Allowance(5, 50))
    web = WebClient()
    statuses = [web.get("/house/sandbox/authorize?client_id=nobody").status_code for _ in range(8)]
    assert statuses == [302] * 5 + [429] * 3
    assert Waiting.objects.count() == 5
    before = RejectedRequest.objects.count()
    for _ in range(8):
        assert (
            web.post(
                "/house/sandbox/token",
                "grant_type=client_credentials",
                content_type="application/x-www-form-urlencoded",
            ).status_code
            == 401
        )
        assert (
            web.get("/draw/nothing", headers={"Authorization": "Bearer nlk_x"}).status_code == 401
        )
    assert RejectedRequest.objects.count() <= before + 5


def test_rules_that_were_changed_meanwhile_are_not_overwritten(
    setup: Setup, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The version that was checked is the one that is replaced, also where another edit comes
    between check and saving.
    """
    deployment = setup.deployment()
    monkeypatch.setattr(access, "_writable", lambda _: None)
    seen = access.book_of(deployment)
    access.save(
        setup.by,
        access.book_of(deployment),
        access.from_plain(deployment, {"groups": [], "rules": []}),
    )
    with refused_with("changed-meanwhile") as told:
        access.save(setup.by, seen, access.from_plain(deployment, {"groups": [], "rules": []}))
    assert told.value.status == 412


def test_a_piece_of_work_may_be_given_longer(transactional_db: None) -> None:
    heavy.end_idle()
    assert heavy.run(len, "four", seconds=30) == 4
    heavy.end_idle()


def test_a_program_watches_with_its_token_as_far_as_its_rights_reach(
    setup: Setup, running: Test
) -> None:
    """Until the token is revoked."""

    async def look(text: str, meanwhile: Any = None) -> tuple[int, list[Any]]:
        shown = {"Authorization": f"Bearer {text}"}
        answer = await AsyncClient().get(f"/api/tests/{running.pk}/events", headers=shown)
        told: list[Any] = []
        if answer.status_code == 200:
            async for part in answer.streaming_content:
                told.append(part)
                if len(told) == 1:
                    await sync_to_async(meanwhile)()
        return answer.status_code, told

    reads = Token(setup, "read", name="Board")
    status, told = async_to_sync(look)(
        reads.text, lambda: issuing.revoke(setup.by, reads.credential, "test")
    )
    assert (status, len(told)) == (200, 1)
    assert async_to_sync(look)(reads.text)[0] == 401
    assert async_to_sync(look)(Token(setup, "metrics", name="M").text)[0] == 403
    near = Token(setup, "read", name="Near", environments=["sandbox"])
    done = lambda: Test.objects.update(state=Test.State.DONE, passed=True)  # noqa: E731
    assert async_to_sync(look)(near.text, done)[0] == 200
    far = Token(setup, "read", name="Far", environments=["staging"])
    assert async_to_sync(look)(far.text)[0] == 403
    assert events._watching.total() == 0
