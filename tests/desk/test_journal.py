"""The journal: each way of tampering with it is found, by anyone who has the whole database file in
hand but not the key (security.md M6, M7).
"""

from __future__ import annotations

import json
import logging
from collections.abc import Callable, Iterator
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest
from django.conf import settings
from django.db import DatabaseError, connection, transaction
from django.db.backends.utils import CursorWrapper
from django.utils import timezone

from neatlatch.cli import main
from neatlatch.core import chain
from neatlatch.desk.authority import backup, handovers
from neatlatch.desk.ground.common import safe
from neatlatch.desk.ground.common.actors import CLOCK, JOURNAL_KEEPER, TEST, Program
from neatlatch.desk.ground.journal import anchors, services, triggers
from neatlatch.desk.ground.journal.models import Check, Checkpoint, Entry

from .conftest import forget_the_journal


@pytest.fixture
def journal(transactional_db: None, monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """Thirty-five entries, with a checkpoint at each tenth."""
    monkeypatch.setattr(chain, "CHECKPOINT_EVERY", 10)
    monkeypatch.setattr(services, "SLICE", 7)
    forget_the_journal()
    grow(35)
    yield
    forget_the_journal()


def grow(count: int) -> None:
    for number in range(count):
        services.write(TEST, "did", "thing", str(number), {"what": "x"})


def by_hand(act: Callable[[CursorWrapper], None], but: str = "") -> None:
    """Somebody with the database file takes the triggers away, does it, and puts them back (``but``
    one).
    """
    with connection.cursor() as cursor:
        for name in triggers.TRIGGERS:
            cursor.execute(f"DROP TRIGGER {name}")
        act(cursor)
        for name, sql in triggers.TRIGGERS.items():
            if name != but:
                cursor.execute(sql)


def anew(key: bytes | None, count: int = 35) -> Callable[[CursorWrapper], None]:
    """All of it made anew, with a key of one's own or with plain hashes, checkpoints too."""

    def act(cursor: CursorWrapper) -> None:
        before = chain.FIRST
        for entry in Entry.objects.order_by("number")[:count]:
            entry.who, entry.before = "nobody", before
            before = (
                chain.plain_hash(entry.number, entry.content(), before)
                if key is None
                else chain.own_code(key, entry.number, entry.content(), before)
            )
            cursor.execute(
                "UPDATE journal_entry SET who = 'nobody', before = %s, own = %s WHERE number = %s",
                [entry.before, before, entry.number],
            )

    return act


def swap(cursor: CursorWrapper) -> None:
    for sql in (
        "UPDATE journal_entry SET number = 1000 WHERE number = 32",
        "UPDATE journal_entry SET number = 32 WHERE number = 33",
        "UPDATE journal_entry SET number = 33 WHERE number = 1000",
    ):
        cursor.execute(sql)


TAMPERINGS: dict[str, tuple[Callable[[CursorWrapper], Any], str]] = {
    "one changed": (
        lambda cursor: cursor.execute("UPDATE journal_entry SET who = 'nobody' WHERE number = 33"),
        "Entry 33 was changed",
    ),
    "details changed": (
        lambda cursor: cursor.execute("UPDATE journal_entry SET details = '{}' WHERE number = 35"),
        "Entry 35 was changed",
    ),
    "cut off": (
        lambda cursor: cursor.execute("DELETE FROM journal_entry WHERE number > 32"),
        "newest 3 entries are missing",
    ),
    "all cut off": (
        lambda cursor: cursor.execute("DELETE FROM journal_entry"),
        "newest 35 entries are missing",
    ),
    "one left out": (
        lambda cursor: cursor.execute("DELETE FROM journal_entry WHERE number = 32"),
        "Entry 32 is missing",
    ),
    "the last replaced": (
        lambda cursor: cursor.execute(
            "UPDATE journal_entry SET own = %s, who = 'x' WHERE number = 35", ["0" * 64]
        ),
        "Entry 35 is not the one",
    ),
    "reordered": (swap, "Entry 32"),
    "all hashed anew": (anew(None), "Entry 35 is not the one"),
    "all keyed anew": (anew(b"another"), "Entry 35 is not the one"),
    "the checkpoint gone": (
        lambda cursor: cursor.execute("DELETE FROM journal_checkpoint"),
        "checkpoint at entry 30",
    ),
    "a checkpoint moved": (
        lambda cursor: cursor.execute(
            "UPDATE journal_checkpoint SET number = 36 WHERE number = 30"
        ),
        "checkpoint at entry 30",
    ),
}


@pytest.mark.parametrize("how", TAMPERINGS)
def test_each_tampering_is_found(
    journal: None, how: str, capsys: pytest.CaptureFixture[str], caplog: pytest.LogCaptureFixture
) -> None:
    assert main(["journal", "check"]) == 0
    assert main(["journal", "check", "--recent"]) == 0
    act, says = TAMPERINGS[how]
    by_hand(act)
    recent = services.check(whole=False)
    whole = services.check()
    assert says in str(recent.fault if how.endswith(("gone", "moved")) else whole.fault)
    with caplog.at_level(logging.ERROR):
        assert (
            services.check_at_start() is not None
        )  # each of these lies in what is looked at when a program starts
    assert "does not hold" in caplog.text
    capsys.readouterr()
    if not how.endswith(("gone", "moved")):
        assert main(["journal", "check"]) == 1
        assert says in capsys.readouterr().out
    assert services.standing() != ""


def test_what_lies_before_the_last_checkpoint_is_found_by_the_slices(journal: None) -> None:
    by_hand(
        lambda cursor: cursor.execute("UPDATE journal_entry SET who = 'nobody' WHERE number = 9")
    )
    assert services.check_at_start() is None
    now = timezone.now()
    for _ in range(2):
        services.check_a_slice(now)
    assert "Entry 9 was changed" in services.standing()
    assert Check.objects.get().number == 14
    services.check_a_slice(now + timedelta(minutes=30))
    assert Check.objects.count() == 1
    services.check_a_slice(now + timedelta(hours=2))
    assert Check.objects.count() == 2  # while a fault stands, soon again


def test_slices_come_to_the_end_and_say_when(journal: None) -> None:
    now = timezone.now()
    for _ in range(5):
        assert services.checked_at() is None
        services.check_a_slice(now)
    assert (services.checked_at(), services.standing()) == (now, "")
    services.check_a_slice(now + timedelta(days=6))
    assert Check.objects.count() == 1  # once a week
    services.check_a_slice(now + timedelta(days=8))
    assert Check.objects.count() == 2


@pytest.mark.parametrize("name", list(triggers.TRIGGERS))
def test_triggers_that_are_gone_are_found_and_made_anew(journal: None, name: str) -> None:
    by_hand(lambda _: None, but=name)
    assert name in str(services.check().fault)
    assert name in str(services.check_at_start())
    assert triggers.missing() == []
    assert Entry.objects.order_by("-number")[0].did == "recreated the triggers of"
    assert services.check().fault is None
    with connection.cursor() as cursor:
        cursor.execute(f"DROP TRIGGER {name}")
        cursor.execute(
            triggers.TRIGGERS[name].replace("RAISE(ABORT, 'the journal is never changed')", "1")
        )
    assert name in str(services.check().fault)  # one that does nothing is no trigger
    services.check_at_start()


@pytest.mark.parametrize(
    "sql",
    [
        "UPDATE journal_entry SET who = 'x' WHERE number = 2",
        "DELETE FROM journal_entry WHERE number = 2",
        (
            "INSERT OR REPLACE INTO journal_entry SELECT number, at, 'x', did, noun, ref, "
            "details, before, own FROM journal_entry WHERE number = 2"
        ),
        (
            "INSERT OR REPLACE INTO journal_entry SELECT 36, at, 'x', did, noun, ref, details, "
            "before, own FROM journal_entry WHERE number = 2"
        ),
        (
            "REPLACE INTO journal_entry SELECT 40, at, 'x', did, noun, ref, details, before, "
            "'z' FROM journal_entry WHERE number = 2"
        ),
        "DELETE FROM journal_checkpoint",
        "UPDATE journal_checkpoint SET sealed = ''",
    ],
)
def test_the_database_refuses_to_change_it(journal: None, sql: str) -> None:
    with (
        pytest.raises(DatabaseError, match="never changed"),
        transaction.atomic(),
        connection.cursor() as cursor,
    ):
        cursor.execute(sql)
    assert services.check().fault is None


def test_the_anchor_is_kept_elsewhere_too(
    journal: None, capsys: pytest.CaptureFixture[str], caplog: pytest.LogCaptureFixture
) -> None:
    assert main(["journal", "anchor"]) == 0
    kept = capsys.readouterr().out.strip()
    with caplog.at_level(logging.INFO):
        grow(3)
    assert services.anchor() in caplog.text  # in log lines
    assert main(["journal", "check", "--anchor", kept]) == 0
    assert main(["journal", "check", "--anchor", kept.replace(".35.", ".34.")]) == 1
    assert "not made here" in capsys.readouterr().out
    # Database and file are both set back to before: what was kept elsewhere finds it.
    by_hand(lambda cursor: cursor.execute("DELETE FROM journal_entry WHERE number > 30"))
    there = Entry.objects.get(number=30)
    (settings.HOME / anchors.FILE).write_text(
        chain.written(chain.Anchor(30, there.own), safe.journal_key())
    )
    assert services.check().fault is None
    assert main(["journal", "check", "--anchor", kept]) == 1
    assert "newest 5 entries are missing" in capsys.readouterr().out


@pytest.mark.parametrize("text", [None, "", "nlj1.5.1.x.y", "\xff\xfe"])
def test_without_its_anchor_nobody_can_tell(journal: None, text: str | None) -> None:
    file = settings.HOME / anchors.FILE
    file.unlink()
    if text is not None:
        file.write_text(text, encoding="latin-1")
    assert "anchor" in str(services.check_at_start())


def test_the_anchor_only_goes_forward_and_not_with_what_was_rolled_back(journal: None) -> None:
    with transaction.atomic():
        grow(1)
        transaction.set_rollback(True)
    found = anchors.newest()
    assert found is not None
    assert found.number == 35
    anchors.advance(chain.Anchor(4, "4" * 64))
    assert anchors.newest() == found


def test_what_was_cut_off_is_found_also_when_as_much_was_written_since(
    journal: None, caplog: pytest.LogCaptureFixture
) -> None:
    """The program goes on writing, with right codes, after the last entries were cut off: its
    anchor does not follow.
    """
    by_hand(lambda cursor: cursor.execute("DELETE FROM journal_entry WHERE number > 31"))
    with caplog.at_level(logging.ERROR):
        grow(10)
    assert "does not hold" in caplog.text
    found = anchors.newest()
    assert found is not None
    assert found.number == 35
    assert "Entry 35 is not the one" in str(services.check().fault)
    assert "Entry 35 is not the one" in str(services.check(whole=False).fault)


def test_a_fault_stands_until_the_whole_holds_again(journal: None) -> None:
    (settings.HOME / anchors.FILE).unlink()
    assert services.check_at_start() is not None
    grow(1)  # which makes the anchor anew
    assert services.standing() != ""
    assert main(["journal", "check"]) == 0
    assert services.standing() == ""


def test_the_journal_of_before_is_taken_over_by_one_keyed_entry(transactional_db: None) -> None:
    """As it stands after an upgrade: plain hashes, and no anchor."""
    forget_the_journal()
    before = chain.FIRST
    for number in range(1, 6):
        entry = Entry(
            number=number,
            at=timezone.now(),
            who="x",
            did="did",
            noun="thing",
            ref="",
            before=before,
        )
        entry.own = before = chain.plain_hash(number, entry.content(), entry.before)
        entry.save(force_insert=True)
    assert services.check().fault is not None  # no anchor yet
    services.write(Program("morag"), "did", "thing", "x")
    taken = Entry.objects.get(number=6)
    assert (taken.who, taken.did, taken.details) == (
        JOURNAL_KEEPER.username,
        services.TOOK_OVER,
        {"number": 5, "own": before},
    )
    assert services.check().fault is None
    found = anchors.newest()
    assert found is not None
    assert (found.number, found.keyed_from) == (7, 6)
    by_hand(lambda cursor: cursor.execute("UPDATE journal_entry SET who = 'y' WHERE number = 3"))
    assert "Entry 3 was changed" in str(services.check().fault)
    by_hand(anew(None, 5))  # the old part, hashed anew: it is no longer what the keyed entry names
    assert "Entry 6 does not follow" in str(services.check().fault)
    forget_the_journal()


def test_a_backup_has_the_anchor_and_a_restore_says_where_it_went_back_to(
    journal: None, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    database = settings.DATABASES["default"]["TEST"]["NAME"]
    monkeypatch.setattr(backup, "DATABASE", Path(database).name)
    copy, _, entries = backup.back_up(tmp_path / "copies", None)
    kept = copy.with_suffix(".anchor").read_text().strip()
    assert entries == 35
    assert Entry.objects.get(did="backed up").details["anchor"] == kept
    assert chain.read(kept, safe.journal_key()) == chain.Anchor(
        35, Entry.objects.get(number=35).own
    )
    # What put_back does with the files is tried by the programs' tests; here the journal alone.
    (settings.HOME / anchors.FILE).rename(settings.HOME / f"{anchors.FILE}.before-1")

    def ended(why: str) -> int:
        services.write(CLOCK, "revoked", "credential", "x", {"why": why})
        return 1

    monkeypatch.setattr(handovers, "end_open", ended)
    assert not any("NOT HOLD" in text for text in backup.settle("1", copy))
    entry = Entry.objects.get(did="restored")
    assert entry.details["went back to"] == 36
    assert entry.details["anchor of before"].startswith("nlj1.36.")
    assert services.check().fault is None
    by_hand(
        lambda cursor: cursor.execute("UPDATE journal_entry SET who = 'nobody' WHERE number = 7")
    )
    (settings.HOME / anchors.FILE).unlink()
    assert any("NOT HOLD" in text for text in backup.settle("1", copy))
    (settings.HOME / f"{anchors.FILE}.before-1").unlink()


def test_the_page_says_what_was_found(journal: None, client: Any) -> None:
    from neatlatch.desk.ground.people.models import Person

    auditor = Person.objects.create_user("hamish", password="x", role="auditor")
    client.force_login(auditor)
    told = client.get("/api/journal/chain").json()
    assert told == {
        "holds": True,
        "entries": 35,
        "fault": None,
        "looked_from": 31,
        "whole_at": None,
    }
    by_hand(lambda cursor: cursor.execute("DELETE FROM journal_entry WHERE number = 35"))
    assert "missing" in client.get("/api/journal/chain").json()["fault"]
    services.check_at_start()
    assert "missing" in client.get("/api/today").json()["journal_fault"]


def test_checkpoints_are_sealed(journal: None) -> None:
    assert list(Checkpoint.objects.order_by("number").values_list("number", flat=True)) == [
        10,
        20,
        30,
    ]
    assert services.check(whole=False).looked_from == 31
    grow(6)
    assert services.check(whole=False).looked_from == 41
    assert (
        json.dumps(list(Entry.objects.values_list("details", flat=True))[:1]) == '[{"what": "x"}]'
    )
