"""Workloads of connections at a desk that runs: many draws at once, a relayed run whose
token ends, and the command line.
"""

from __future__ import annotations

import asyncio
import json
import os
import subprocess
import sys
from collections.abc import Callable

import pytest

from tests.harness import ROOT, WHOLE, Desk, World, wait_until

GIVE = """
import json
from datetime import timedelta
from django.utils import timezone
from neatlatch.desk.estate.records.connections.models import TokenSet, Connection
from neatlatch.desk.estate.credentials.services import close, show
from neatlatch.desk.work.drawing import services
from neatlatch.desk.ground.people.models import Person
from neatlatch.desk.estate.records.workloads.models import Workload
by = Person.objects.get(username="morag")
workload = Workload.objects.get(name="Rehearsal of the night run")
_, handover = services.give(by, workload, "key", right="draw")
_, value = show(by, handover); close(by, handover)
Connection.objects.filter(ref="sandbox/cargo-manifests").update(pace=1000)
print(value)
"""
COUNT = """
from django.db.models import Sum
from neatlatch.desk.work.drawing.models import Drawn
print(Drawn.objects.filter(way="{way}").aggregate(n=Sum("count"))["n"] or 0)
"""


# Seconds that an access token of Cargo manifests lives.
LIFE = 900


@pytest.fixture(scope="module")
def desk(world: World) -> tuple[Desk, str]:
    key = world.desk.python(GIVE).splitlines()[-1]
    world.desk.start("desk")
    return world.desk, key


COUNT_OF_DRAWS = 20_000 if WHOLE else 1_000
# Files that may be open.
AT_ONCE = 400


async def many(
    url: str, key: str, count: int, path: str, sent: Callable[[], object] = lambda: None
) -> list[int]:
    """So many requests at once, each on a line of its own; a client library's pool would be slower
    than what is tested. ``sent`` is called for each that is under way.
    """
    host, port = url.removeprefix("http://").split(":")
    request = (
        f"GET {path} HTTP/1.1\r\nHost: {host}:{port}\r\nAuthorization: Bearer "
        f"{key}\r\nConnection: close\r\n\r\n"
    ).encode()
    room = asyncio.Semaphore(AT_ONCE)

    async def one() -> int:
        async with room:
            reader, writer = await asyncio.open_connection(host, int(port))
            writer.write(request)
            sent()
            answer = await asyncio.wait_for(reader.read(), 120)
            writer.close()
            return int(answer.split(b" ", 2)[1])

    return list(await asyncio.gather(*(one() for _ in range(count))))


@pytest.mark.parametrize("left", [15, -5], ids=["about to end", "ended"])
def test_a_thousand_draws_at_once_and_one_renewal(
    desk: tuple[Desk, str], world: World, left: int
) -> None:
    (found, key), stand_ins = desk, world.stand_ins
    world.clock.jump(seconds=LIFE - left)  # since the sign-in, and then since the renewal before
    issued, before = (
        stand_ins.calls("issued:refresh_token"),
        int(found.python(COUNT.format(way="draw"))),
    )
    stand_ins.fault("hold", where="token")  # the renewal is under way until hundreds have asked
    asked: list[None] = []

    def release() -> None:
        wait_until(lambda: stand_ins.state()["held"] == 1, what="the renewal")
        wait_until(lambda: len(asked) >= AT_ONCE, what="the others")
        stand_ins.fault("none")

    async def run() -> list[int]:
        releasing = asyncio.create_task(asyncio.to_thread(release))
        got = await many(
            found.url,
            key,
            COUNT_OF_DRAWS,
            "/draw/cargo-manifests",
            lambda: asked.append(None),
        )
        await releasing
        return got

    answers = asyncio.run(run())
    assert answers == [200] * COUNT_OF_DRAWS
    assert stand_ins.calls("issued:refresh_token") == issued + 1
    assert int(found.python(COUNT.format(way="draw"))) == before + COUNT_OF_DRAWS


def test_the_relay_with_a_token_that_ends_in_the_middle(
    desk: tuple[Desk, str], world: World
) -> None:
    (found, key), stand_ins = desk, world.stand_ins

    async def run() -> list[int]:
        before = stand_ins.calls("api")
        begun = asyncio.create_task(many(found.url, key, 150, "/relay/cargo-manifests/manifests"))
        await asyncio.to_thread(
            wait_until, lambda: stand_ins.calls("api") > before + 20, what="the first of them"
        )
        await asyncio.to_thread(stand_ins.age, 2000, "access")
        return await begun

    issued = stand_ins.calls("issued:refresh_token")
    answers = asyncio.run(run())
    # On a busy machine some wait for longer than the relay lets them; none is refused because of
    # the token.
    assert set(answers) <= {200, 429}
    assert answers.count(200) > 75
    assert stand_ins.calls("issued:refresh_token") == issued + 1


def test_the_command_line_draws_lists_and_tests(desk: tuple[Desk, str]) -> None:
    found, key = desk

    def nlatch(*words: str, own: str = key) -> tuple[int, str, str]:
        environment = {**os.environ, "NLATCH_URL": found.url, "NLATCH_KEY": own}
        done = subprocess.run(
            [sys.executable, "-m", "neatlatch.cli", *words],
            cwd=ROOT,
            env=environment,
            capture_output=True,
            text=True,
        )
        return done.returncode, done.stdout, done.stderr

    status, out, _ = nlatch("draw", "cargo-manifests")
    assert status == 0
    assert out.startswith("Authorization: Bearer ")
    assert json.loads(nlatch("draw", "cargo-manifests", "--json")[1])["base"].startswith(
        "https://localhost:"
    )
    assert "cargo-manifests" in nlatch("list")[1]
    status, out, _ = nlatch("test", "cargo-manifests")
    assert (status, out.count("ok ")) == (0, 6), out
    status, out, said = nlatch("draw", "cargo-manifests", own=key[:-2])
    assert (status, out) == (4, "")
    assert "does not let you in" in said
    assert nlatch("draw", "other")[0] == 5
    status, out, said = nlatch("list", own="")
    assert (status, out) == (4, "")
    assert "NLATCH_KEY" in said
