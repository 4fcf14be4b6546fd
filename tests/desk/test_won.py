"""What an application gave and will not give again is saved, whatever the database does
meanwhile.
"""

from __future__ import annotations

import errno
import json
import os
import socket
import sqlite3
import sys
import threading
from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest
import structlog.testing
from django.conf import settings
from django.db import OperationalError
from django.db import connection as database
from django.db import connections as databases
from django.test import Client as WebClient
from django.utils import timezone

from neatlatch.core.registration import ClientMetadata
from neatlatch.desk.estate.clients import services as clients
from neatlatch.desk.estate.connections import destinations, tokens
from neatlatch.desk.estate.records.clients.models import Client
from neatlatch.desk.estate.records.connections.models import Connection, TokenSet
from neatlatch.desk.estate.records.credentials.models import Credential
from neatlatch.desk.ground import starting, won
from neatlatch.desk.ground.journal.models import Entry
from neatlatch.desk.work.replacing.models import Replacement
from tests.harness import wait_until

from .conftest import URI, Setup
from .test_tokens import bring_near_the_end, hold

# A process that is gone for certain: no Linux gives a number beyond 2^22.
DEAD = f"{socket.gethostname()[:20]}/4194305/1/00"


@pytest.fixture(autouse=True)
def no_notes() -> Iterator[None]:
    yield
    assert notes() == []


def notes() -> list[Path]:
    return sorted(path for path in (settings.HOME / "won").rglob("*") if path.is_file())


class Tries:
    """Counts the tries that the database refused, in place of waiting between them."""

    def __init__(self) -> None:
        self.count = 0

    def __call__(self, seconds: float) -> None:
        self.count += 1


@pytest.fixture
def tries(monkeypatch: pytest.MonkeyPatch) -> Tries:
    found = Tries()
    monkeypatch.setattr(won.until_saved, "__defaults__", (found,))
    monkeypatch.setattr(won.keep, "__defaults__", (found,))
    return found


def impatient() -> None:
    """Let SQLite tell of a lock at once, so that a lock of any length is many tries and not much
    time.
    """
    with database.cursor() as cursor:
        cursor.execute("PRAGMA busy_timeout=1")


class Renewal(threading.Thread):
    """A renewal in a thread of its own, with what came of it."""

    def __init__(self, connection: Connection) -> None:
        super().__init__()
        self.connection, self.found, self.error = connection, None, None  # type: Any, Any, Any

    def run(self) -> None:
        try:
            impatient()
            self.found = hold(self.connection, force=True)
        except Exception as error:  # told to the test
            self.error = error
        finally:
            databases.close_all()


def test_another_holds_the_database_while_the_provider_rotates(setup: Setup, tries: Tries) -> None:
    connection = setup.latched()
    bring_near_the_end(connection)
    issued, repeated = (
        setup.stand_ins.calls(name) for name in ("issued:refresh_token", "refresh_repeated")
    )
    setup.stand_ins.fault("hold", where="token")
    renewal = Renewal(connection)
    renewal.start()
    wait_until(lambda: setup.stand_ins.state()["held"] == 1, what="the answer that is held")
    other = sqlite3.connect(settings.DATABASES["default"]["TEST"]["NAME"], isolation_level=None)
    other.execute("BEGIN IMMEDIATE")
    setup.stand_ins.fault("none")
    wait_until(
        lambda: tries.count >= 20, what="tries while the lock is held"
    )  # each would be 5 s long: more than 20 s, and than the lease
    assert len(notes()) == 1
    assert TokenSet.objects.get().generation == 1
    secret = TokenSet.objects.get().open_refresh().reveal()
    assert secret.encode() not in notes()[0].read_bytes()
    assert notes()[0].stat().st_mode & 0o777 == 0o600
    other.execute("ROLLBACK")
    renewal.join()
    assert renewal.error is None
    kept = TokenSet.objects.get()
    assert (kept.generation, kept.lease) == (2, "")
    assert kept.open_access().reveal() == renewal.found.access_token
    assert setup.stand_ins.calls("issued:refresh_token") == issued + 1
    assert setup.stand_ins.calls("refresh_repeated") == repeated
    assert setup.test(connection).passed


def test_the_lease_holds_while_the_new_token_is_on_its_way(setup: Setup, tries: Tries) -> None:
    """The lease has run out and its holder still tries: anyone who asks meanwhile takes up its
    note, and does not show the old refresh token again.
    """
    connection = setup.latched()
    bring_near_the_end(connection)
    issued = setup.stand_ins.calls("issued:refresh_token")
    setup.stand_ins.fault("hold", where="token")
    renewal = Renewal(connection)
    renewal.start()
    wait_until(lambda: setup.stand_ins.state()["held"] == 1, what="the answer that is held")
    TokenSet.objects.update(lease=DEAD)  # as another machine would see it: nobody holds it any more
    other = sqlite3.connect(settings.DATABASES["default"]["TEST"]["NAME"], isolation_level=None)
    other.execute("BEGIN IMMEDIATE")
    setup.stand_ins.fault("none")
    wait_until(lambda: tries.count >= 3, what="tries while the lock is held")
    other.execute("ROLLBACK")
    found = hold(connection, force=True, newer_than=1)
    renewal.join()
    assert found.access_token == renewal.found.access_token
    assert TokenSet.objects.get().generation == 2
    assert setup.stand_ins.calls("issued:refresh_token") == issued + 1


def test_what_was_saved_between_the_lease_and_the_note(
    setup: Setup, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Anyone who takes over a dead lease while its holder saves after all must not show the old
    refresh token again.
    """
    connection = setup.latched()
    bring_near_the_end(connection)
    issued, real = setup.stand_ins.calls("issued:refresh_token"), won.take_up

    def saved_by_then(about: str = "") -> bool:
        held = TokenSet.objects.get()
        held.seal("the-new-access-token", "the-new-refresh-token")
        held.generation += 1
        held.save()
        return real(about)

    monkeypatch.setattr(won, "take_up", saved_by_then)
    assert hold(connection, force=True, newer_than=1).access_token == "the-new-access-token"
    assert setup.stand_ins.calls("issued:refresh_token") == issued


def test_the_disk_is_full(setup: Setup, tries: Tries, monkeypatch: pytest.MonkeyPatch) -> None:
    """Neither a note nor a row can be written: the memory holds what was won until
    there is room.
    """
    connection = setup.latched()
    bring_near_the_end(connection)
    with database.cursor() as cursor:
        pages = cursor.execute("PRAGMA page_count").fetchone()[0]
        free = cursor.execute("PRAGMA freelist_count").fetchone()[0]

    def no_room(*args: Any, **kwargs: Any) -> int:
        raise OSError(errno.ENOSPC, os.strerror(errno.ENOSPC))

    rotated = won._saver("tokens")
    limits: list[int] = []

    def save(facts: won.Facts) -> Any:
        with database.cursor() as cursor:
            if tries.count < 3:
                # Fill what is free, and let the file not grow: SQLite itself then says that it is
                # full.
                limits.append(cursor.execute(f"PRAGMA max_page_count={pages}").fetchone()[0])
                facts = facts | {"access_token": "x" * 4096 * (free + 8)}
            else:
                cursor.execute("PRAGMA max_page_count=1073741823")
        return rotated(facts)

    monkeypatch.setitem(won._SAVERS, "tokens", save)
    monkeypatch.setattr(won.os, "open", no_room)
    with structlog.testing.capture_logs() as said:
        found = hold(connection)
    assert tries.count == 3
    assert limits
    assert {
        item["why"] for item in said if item["event"] == "what was won could not be saved yet"
    } == {"database or disk is full"}
    assert any(
        "No space left" in item["why"]
        for item in said
        if item["event"] == "what was won could not be noted beside the database"
    )
    kept = TokenSet.objects.get()
    assert (kept.generation, kept.open_access().reveal()) == (2, found.access_token)


class Killed(BaseException):
    """The end of a process, for a test."""


def killed_before_saving(kind: str, monkeypatch: pytest.MonkeyPatch, work: Any) -> None:
    """Do something that wins a thing, and die once it is noted; the note is a dead process's."""

    def die(facts: won.Facts) -> None:
        raise Killed

    monkeypatch.setattr(won.owner, "sign", lambda: DEAD)
    saver = won._saver(kind)
    monkeypatch.setitem(won._SAVERS, kind, die)
    with pytest.raises(Killed):
        work()
    monkeypatch.undo()
    monkeypatch.setitem(won._SAVERS, kind, saver)
    assert len(notes()) == 1


def test_a_note_is_taken_up_in_place_of_renewing(
    setup: Setup, monkeypatch: pytest.MonkeyPatch
) -> None:
    connection = setup.latched()
    bring_near_the_end(connection)
    killed_before_saving("tokens", monkeypatch, lambda: hold(connection))
    issued, repeated = (
        setup.stand_ins.calls(name) for name in ("issued:refresh_token", "refresh_repeated")
    )
    assert hold(connection).renewed
    assert TokenSet.objects.get().generation == 2
    assert (
        setup.stand_ins.calls("issued:refresh_token"),
        setup.stand_ins.calls("refresh_repeated"),
    ) == (issued, repeated)
    assert setup.test(connection).passed


def test_nobody_renews_while_a_note_cannot_be_taken_up(
    setup: Setup, monkeypatch: pytest.MonkeyPatch
) -> None:
    """To show the old refresh token again would look like theft to the provider."""
    connection = setup.latched()
    bring_near_the_end(connection)
    killed_before_saving("tokens", monkeypatch, lambda: hold(connection))
    issued, repeated = (
        setup.stand_ins.calls(name) for name in ("issued:refresh_token", "refresh_repeated")
    )

    def locked(facts: won.Facts) -> None:
        raise OperationalError("database is locked")

    with monkeypatch.context() as patch:
        patch.setitem(won._SAVERS, "tokens", locked)
        with pytest.raises(OperationalError):
            hold(connection)
    assert TokenSet.objects.get().lease == ""
    assert (
        setup.stand_ins.calls("issued:refresh_token"),
        setup.stand_ins.calls("refresh_repeated"),
    ) == (issued, repeated)
    assert hold(connection).renewed
    assert setup.stand_ins.calls("issued:refresh_token") == issued


def test_a_note_is_taken_up_at_start_and_counts_once(
    setup: Setup, monkeypatch: pytest.MonkeyPatch
) -> None:
    connection = setup.latched()
    bring_near_the_end(connection)
    killed_before_saving("tokens", monkeypatch, lambda: hold(connection))
    again = notes()[0].read_bytes()
    name = notes()[0]
    assert won.take_up() == 1
    first = TokenSet.objects.get()
    assert first.generation == 2
    name.write_bytes(again)  # killed between saving and removing the note
    assert won.take_up() == 1
    assert TokenSet.objects.get().generation == 2
    setup.sign_in(connection)
    name.write_bytes(again)  # and a sign-in that came after it is not undone
    newer = TokenSet.objects.get().open_refresh().reveal()
    assert won.take_up() == 1
    assert TokenSet.objects.get().open_refresh().reveal() == newer


def test_a_sign_in_that_was_noted_gives_way_to_a_later_one(
    setup: Setup, monkeypatch: pytest.MonkeyPatch
) -> None:
    connection = setup.latched()
    killed_before_saving("tokens", monkeypatch, lambda: setup.sign_in(connection))
    again, name = notes()[0].read_bytes(), notes()[0]
    assert won.take_up() == 1
    noted = TokenSet.objects.get()
    assert noted.generation == 2  # it is newer than what stood there
    setup.sign_in(connection)
    name.write_bytes(again)
    assert won.take_up() == 1
    later = TokenSet.objects.get()
    assert (later.generation, later.open_refresh().reveal() == noted.open_refresh().reveal()) == (
        3,
        False,
    )


def test_a_sign_in_wins_where_the_clock_was_set_back(setup: Setup) -> None:
    connection = setup.latched()
    TokenSet.objects.update(obtained=timezone.now() + timedelta(hours=1))
    setup.sign_in(connection)
    assert TokenSet.objects.get().generation == 2


def test_a_note_of_a_living_process_is_left_and_one_that_cannot_be_read_set_aside(
    setup: Setup,
) -> None:
    folder = settings.HOME / "won"
    folder.mkdir(exist_ok=True)
    client = setup.client(setup.deployment(), "berth.read")
    won._write("tokens", "tokens-x-0", {})
    strange = f"client-{client.pk}.00"
    (folder / f"{strange}.note").write_bytes(b"registration\nsomebody\nnot sealed")
    with structlog.testing.capture_logs() as said:
        assert won.take_up() == 0
        assert won.take_up() == 0  # told once, and not every time that somebody looks
    assert [item["note"] for item in said] == [f"{strange}.note"]
    assert won.count_notes() == 1  # what cannot be read keeps no key in use
    assert [item.name for item in won.unsaved()] == [strange]
    found = setup.web().get("/api/today").json()["unsaved"]
    told = [
        (
            item["note"],
            item["client"],
            item["name"],
            item["ref"],
            item["application"],
            item["environment"],
        )
        for item in found
    ]
    assert told == [(strange, str(client.pk), client.name, "", "Cargo manifests", "Sandbox")]
    with pytest.raises(KeyError):
        won.forget("another")
    won.forget(strange)
    assert won.unsaved() == []
    assert Entry.objects.latest("number").did == "forgot what could not be saved"
    for path in folder.glob("*.note"):
        path.unlink()


def test_a_note_of_a_process_that_nobody_can_ask_about(
    setup: Setup, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Another container's, with another name: it may still run, so the note gets ten minutes."""
    connection = setup.latched()
    bring_near_the_end(connection)
    monkeypatch.setattr(sys.modules[__name__], "DEAD", "elsewhere/4194305/1/00")
    killed_before_saving("tokens", monkeypatch, lambda: hold(connection))
    assert won.take_up() == 0
    make_older(notes()[0], 601)
    assert won.take_up() == 1
    assert TokenSet.objects.get().generation == 2


def fall(facts: won.Facts) -> None:
    """In place of saving, what nobody has foreseen."""
    raise LookupError("not foreseen")


def make_older(note: Path, seconds: float) -> None:
    when = note.stat().st_mtime - seconds
    os.utime(note, (when, when))


def test_a_note_that_is_refused_for_an_hour_is_set_aside_and_tried_at_each_start(
    setup: Setup, monkeypatch: pytest.MonkeyPatch
) -> None:
    connection = setup.latched()
    bring_near_the_end(connection)
    killed_before_saving("tokens", monkeypatch, lambda: hold(connection))
    with monkeypatch.context() as patch:
        patch.setitem(won._SAVERS, "tokens", fall)
        assert won.take_up() == 0
        assert won.unsaved() == []
        make_older(notes()[0], 3601)
        assert won.take_up() == 0
    assert won.count_notes() == 1
    assert won.take_up() == 0  # the worker looks no more
    assert [item["ref"] for item in setup.web().get("/api/today").json()["unsaved"]] == [
        connection.ref
    ]
    starting.check_or_stop()
    assert TokenSet.objects.get().generation == 2
    assert won.unsaved() == []


def test_a_note_that_cannot_be_taken_up_keeps_no_program_from_starting(
    setup: Setup, monkeypatch: pytest.MonkeyPatch
) -> None:
    connection = setup.latched()
    bring_near_the_end(connection)
    killed_before_saving("tokens", monkeypatch, lambda: hold(connection))
    with monkeypatch.context() as patch:
        patch.setitem(won._SAVERS, "tokens", fall)
        starting.check_or_stop()
    assert won.count_notes() == 1  # it is not lost either
    starting.check_or_stop()
    assert TokenSet.objects.get().generation == 2


def test_a_connection_that_was_removed_meanwhile(
    setup: Setup, monkeypatch: pytest.MonkeyPatch
) -> None:
    connection = setup.latched()
    bring_near_the_end(connection)
    killed_before_saving("tokens", monkeypatch, lambda: hold(connection))
    connection.delete()
    assert won.take_up() == 1
    assert TokenSet.objects.count() == 0


def test_a_registration_that_was_answered_is_saved(
    setup: Setup, monkeypatch: pytest.MonkeyPatch
) -> None:
    deployment, fields = (
        setup.deployment(),
        ClientMetadata(
            "Ferries", ("t@gannet.example",), redirect_uris=(URI,), scopes=frozenset({"berth.read"})
        ),
    )
    killed_before_saving(
        "registration", monkeypatch, lambda: clients.register(setup.by, deployment, fields)
    )
    assert Client.objects.get().state == "asking"
    assert won.take_up() == 1
    made = Client.objects.get()
    assert (made.state, made.managed) == ("live", True)
    assert made.client_id in setup.stand_ins.state()["clients"]
    assert Credential.objects.get(client=made).open().reveal()
    changed = clients.change(
        setup.by, made, clients.with_contacts(["other@gannet.example"])
    )  # the right of management was saved too
    assert changed.contacts == ["other@gannet.example"]


def test_a_change_that_was_made_there_is_saved(
    setup: Setup, monkeypatch: pytest.MonkeyPatch
) -> None:
    client = setup.client(setup.deployment(), "berth.read")
    killed_before_saving(
        "change",
        monkeypatch,
        lambda: clients.change(setup.by, client, clients.with_contacts(["other@gannet.example"])),
    )
    assert Client.objects.get().contacts == ["t@gannet.example"]
    again, name = notes()[0].read_bytes(), notes()[0]
    assert won.take_up() == 1
    version = Client.objects.get().version
    assert Client.objects.get().contacts == ["other@gannet.example"]
    name.write_bytes(again)
    assert won.take_up() == 1
    assert Client.objects.get().version == version


def test_a_secret_that_was_given_is_saved(setup: Setup, monkeypatch: pytest.MonkeyPatch) -> None:
    connection = setup.latched()
    held = Connection.objects.get().credential
    assert held is not None
    web: WebClient = setup.web()
    begun = web.post(
        f"/api/credentials/{held.pk}/replacements",
        json.dumps({"way": "protocol"}),
        content_type="application/json",
    )
    assert begun.status_code == 201, begun.content
    at = f"/api/replacements/{begun.json()['id']}/new-credentials"
    killed_before_saving(
        "secret", monkeypatch, lambda: web.post(at, "{}", content_type="application/json")
    )
    assert Replacement.objects.get().made is None
    assert won.take_up() == 1
    assert Replacement.objects.get().new is not None
    assert Connection.objects.get().credential != held
    bring_near_the_end(connection)
    with destinations.transport_of(Connection.objects.get(), 30.0) as way:
        assert tokens.hold(Connection.objects.get(), way)[
            0
        ].renewed  # the new secret is known there
