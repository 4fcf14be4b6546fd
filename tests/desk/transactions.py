"""What happens inside the transactions of the product, over the whole run: how many statements, how
much work, and whether anybody outside is called.

While a transaction is open, nobody else writes (SQLite has one writer), so it holds statements and
nothing that could be done before it.
"""

from __future__ import annotations

import sys
import threading
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest
from django.contrib.auth import hashers
from django.db import connections
from django.db.transaction import Atomic

from neatlatch.wire.transport import Transport

OURS = str(Path(__file__).resolve().parents[2] / "neatlatch" / "desk")
# Statements in one transaction, and seconds of its thread's processor time (not of the clock on the
# wall: the machine may be busy). Collecting garbage may fall into any transaction and take a
# second, so of the time the least of several counts.
MOST_STATEMENTS, MOST_SECONDS = 80, 0.5
# Transactions that may have more statements, how many, and why.
EXCEPTED = {
    # A block of an import: at most some twenty objects, or seven connections with all that follows
    # from each.
    "work.inventory.blocks._apply_here": 400,
    # The triggers, as a whole: a dozen tables have three each.
    "ground.common.settling.check_at_start": 150,
    # The first of an environment, or of all: its authorities with their keys, its signing key, Neat
    # Latch as an application; none grows with what is kept.
    "work.drawing.services.give": 150,
    "pages.drawing.tls_listener.own_certificate": 300,
}
CALLS_OUT: set[str] = set()


@dataclass
class Open:
    """A transaction that is open in a thread."""

    name: str
    began: float
    depth: int = 1
    statements: int = 0


class Transactions:
    """The recorder: a plugin of the run."""

    def __init__(self) -> None:
        self._here = threading.local()
        self.worst: dict[str, tuple[int, float]] = {}
        self.least: dict[str, tuple[int, float]] = {}
        self.wrong: list[str] = []

    def install(self) -> None:
        """Put it between Django and its callers."""
        enter, leave, reach, make = (
            Atomic.__enter__,
            Atomic.__exit__,
            Transport.reach,
            hashers.make_password,
        )
        recorder = self

        def entered(atomic: Atomic) -> None:
            enter(atomic)
            if not atomic._from_testcase:
                recorder._enter(atomic)

        def left(atomic: Atomic, *how: Any) -> None:
            if not atomic._from_testcase:
                recorder._leave(atomic)
            leave(atomic, *how)

        def reached(transport: Transport, host: str, port: int) -> Any:
            recorder._outside(f"a call to {host}:{port}")
            return reach(transport, host, port)

        def made(password: str | None, *given: Any, **more: Any) -> str:
            if password is not None:  # else nothing is hashed: the password is unusable
                recorder._outside("the hash of a password")
            return make(password, *given, **more)

        Atomic.__enter__, Atomic.__exit__ = entered, left  # type: ignore[method-assign]
        Transport.reach = reached  # type: ignore[method-assign]
        import django.contrib.auth.base_user as base_user

        base_user.make_password = made  # type: ignore[attr-defined]

    def _enter(self, atomic: Atomic) -> None:
        now = getattr(self._here, "open", None)
        if now is not None:
            now.depth += 1
            return
        if (name := _whose()) is None:
            return  # a test's own
        self._here.open = Open(name, time.thread_time())
        connections[atomic.using or "default"].execute_wrappers.append(self._count)

    def _leave(self, atomic: Atomic) -> None:
        now = getattr(self._here, "open", None)
        if now is None:
            return
        now.depth -= 1
        if now.depth:
            return
        self._here.open = None
        connections[atomic.using or "default"].execute_wrappers.remove(self._count)
        seconds = time.thread_time() - now.began
        most = self.worst.get(now.name, (0, 0.0))
        self.worst[now.name] = (max(most[0], now.statements), max(most[1], seconds))
        times, least = self.least.get(now.name, (0, seconds))
        self.least[now.name] = (times + 1, min(least, seconds))
        if now.statements > EXCEPTED.get(now.name, MOST_STATEMENTS):
            self.wrong.append(f"{now.name}: {now.statements} statements")

    def _count(
        self, execute: Callable[..., Any], sql: str, params: Any, many: bool, context: Any
    ) -> Any:
        if (now := getattr(self._here, "open", None)) is not None:
            now.statements += 1
        return execute(sql, params, many, context)

    def _outside(self, what: str) -> None:
        now = getattr(self._here, "open", None)
        if now is not None and now.name not in CALLS_OUT:
            self.wrong.append(f"{now.name}: {what}")

    def slow(self) -> list[str]:
        """Transactions that each time took more processor time than may be, three times or more."""
        return [
            name
            for name, (times, least) in self.least.items()
            if times >= 3 and least > MOST_SECONDS and name not in CALLS_OUT
        ]

    def pytest_sessionfinish(self, session: pytest.Session) -> None:
        """Fail the run for those."""
        if self.slow() and session.exitstatus == pytest.ExitCode.OK:
            session.exitstatus = pytest.ExitCode.TESTS_FAILED

    def pytest_terminal_summary(self, terminalreporter: Any) -> None:
        """The largest, so that a limit that comes near is seen."""
        for name in self.slow():
            terminalreporter.write_line(
                f"FAILED: {name} takes over {MOST_SECONDS} s of processor time inside a "
                f"transaction",
                red=True,
            )
        terminalreporter.section("transactions with the most statements", "-")
        for name, (statements, seconds) in sorted(self.worst.items(), key=lambda text: -text[1][0])[
            :12
        ]:
            terminalreporter.write_line(
                f"{statements:4d} statements  {seconds * 1000:5.0f} ms  {name}"
            )


def _whose() -> str | None:
    """The function of the product whose transaction it is; ``None``: that of a test, or of Django
    itself.
    """
    frame = sys._getframe(2)
    while frame is not None:
        if frame.f_code.co_filename.startswith(OURS):
            return f"{_module(frame.f_code.co_filename)}.{frame.f_code.co_name}"
        if (
            frame.f_code.co_name == "inner" and "func" in frame.f_locals
        ):  # contextlib: a decorated function
            function = frame.f_locals["func"]
            if function.__module__.startswith("neatlatch.desk."):
                return f"{function.__module__.removeprefix('neatlatch.desk.')}.{function.__name__}"
        frame = frame.f_back  # type: ignore[assignment]
    return None


def _module(file: str) -> str:
    return str(Path(file).relative_to(OURS).with_suffix("")).replace("/", ".")


RECORDER = Transactions()


@pytest.fixture(autouse=True)
def transactions_hold_statements_only() -> Any:
    """No test of this folder may see a transaction that does more."""
    before = len(RECORDER.wrong)
    yield
    new = RECORDER.wrong[before:]
    assert not new, "\n".join(new)
