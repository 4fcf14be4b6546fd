"""Work that anyone who asks can make heavy, done in a child process that has limits of its own and
is ended when nobody waits for it any more.

A key may ask for an hour of rounds, rules may be many against many: functions of ``core`` that work
on what a caller sent are called through
:func:`run`. There are two children. They hold the interpreter lock of nobody who serves, and the
kernel ends what goes beyond its limits.
"""

from __future__ import annotations

import atexit
import contextlib
import os
import pickle
import select
import subprocess
import sys
import threading
import time
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import structlog
from django.db import transaction

from . import caller, heavy_child
from .problems import Problem

log = structlog.get_logger()
T = TypeVar("T")
CHILDREN = 2
# How many may wait for a child, in all and of one caller; and for how many seconds.
_MOST_WAITING, _MOST_OF_ONE, _PATIENCE = 16, 4, 20.0
# Seconds by the wall clock: for a child that gets no processor time. And octets of an answer.
_LONGEST, _LARGEST = 60.0, 128 * 1024 * 1024
_LOOK = 0.05


def run(
    function: Callable[..., T],
    *arguments: Any,
    seconds: int = heavy_child.SECONDS,
    memory: int = heavy_child.MEMORY,
) -> T:
    """Call a function of ``core`` in a child; returns what it answers, and raises what it raises.

    ``seconds`` of processor time and ``memory``, octets of address space, are the most it may take.

    Function, arguments and answer must be such as ``pickle`` takes. Raises :class:`Problem`: 422
    beyond the limits of time and memory, 429 and 503 where too many wait. Where the caller hangs up
    meanwhile, the child is ended and :class:`caller.CallerGone` raised.
    """
    if transaction.get_connection().in_atomic_block:
        raise RuntimeError("No work for a child within a transaction: others would wait for it.")
    now = caller.now()
    child = _POOL.take(now)
    kept = False
    try:
        worked, answer, worn = child.ask(
            (function.__module__, function.__qualname__, arguments, seconds, memory), now
        )
        kept = not worn and not isinstance(answer, heavy_child.TooLarge)
    finally:
        _POOL.give_back(child if kept else None, now)
        if not kept:
            child.end()
    if worked:
        return answer  # type: ignore[no-any-return]
    if isinstance(answer, heavy_child.TooLarge):
        raise _too_heavy(f"It needs more than {memory // 2**20} MiB of memory.")
    raise answer


def _too_heavy(why: str) -> Problem:
    return Problem(
        422,
        "This is more work than is done for one request.",
        f"{why} Nothing was changed. Send a smaller part of it.",
        code="too-much-work",
    )


class _Child:
    """One process, started when it is first needed."""

    def __init__(self) -> None:
        root = str(Path(__file__).resolve().parents[4])
        self.process = subprocess.Popen(
            [sys.executable, "-c", f"from {heavy_child.__name__} import main; main()"],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            cwd=root,
            # Nothing of the desk's environment: there are secrets in it.
            env={"PYTHONPATH": root, "PATH": os.environ.get("PATH", ""), "LANG": "C.UTF-8"},
            close_fds=True,
        )

    def ask(
        self, what: tuple[str, str, tuple[Any, ...], int, int], now: caller.Caller
    ) -> tuple[bool, Any, bool]:
        """Have something done: whether it worked, what came of it, and whether the child is worn.

        Raises :class:`Problem` and :class:`caller.CallerGone`; the child is of no more use then.
        """
        assert self.process.stdin is not None
        assert self.process.stdout is not None
        until = time.monotonic() + max(_LONGEST, 4 * what[3])
        try:
            heavy_child.send(
                self.process.stdin, what
            )  # a child reads before it works, so this ends soon
            body = self._answer(self.process.stdout.fileno(), now, until)
        except BrokenPipeError:
            body = b""
        if not body:
            log.warning(
                "a piece of work was ended by its limits",
                work=f"{what[0]}.{what[1]}",
                ended=self.process.poll(),
            )
            raise _too_heavy(f"It takes more than {what[3]} seconds of work.")
        answer: tuple[bool, Any, bool] = pickle.loads(body)  # our own child's
        return answer

    def _answer(self, descriptor: int, now: caller.Caller, until: float) -> bytes:
        """The answer's pickle; empty where the child has ended, or must be ended."""
        body, length, waiting = (
            bytearray(),
            -1,
            select.poll(),
        )  # a desk with many connections has descriptors beyond what select takes
        waiting.register(descriptor, select.POLLIN)
        while length < 0 or len(body) < length:
            if now.hung_up.is_set():
                raise caller.CallerGone
            if time.monotonic() > until or length > _LARGEST:
                return b""
            if not waiting.poll(_LOOK * 1000):
                continue
            part = os.read(descriptor, 1 << 16)
            if not part:
                return b""
            body += part
            if length < 0 and len(body) >= 8:
                length = int.from_bytes(body[:8], "big")
                del body[:8]
        return bytes(body)

    def end(self) -> None:
        """End it, whatever it does."""
        self.process.kill()
        for stream in (self.process.stdin, self.process.stdout):
            if stream is not None:
                with contextlib.suppress(BrokenPipeError):
                    stream.close()
        self.process.wait()


class _Pool:
    def __init__(self) -> None:
        self._changed = threading.Condition()
        self._idle: list[_Child] = []
        self._working = 0
        self._asking: Counter[str] = Counter()

    def take(self, now: caller.Caller) -> _Child:
        """A child for a caller, who waits for one.

        Raises :class:`Problem` and :class:`caller.CallerGone`.
        """
        until = time.monotonic() + _PATIENCE
        with self._changed:
            if self._asking[now.key] >= _MOST_OF_ONE:
                raise Problem(
                    429,
                    "You have asked for much at once.",
                    "Wait until the answers have come, then try again.",
                    retry_after=5,
                    code="too-much-at-once",
                )
            if self._asking.total() >= _MOST_WAITING:
                raise self._busy()
            self._asking[now.key] += 1
            try:
                while self._working >= CHILDREN:
                    if now.hung_up.is_set():
                        raise caller.CallerGone
                    if time.monotonic() > until:
                        raise self._busy()
                    self._changed.wait(_LOOK)
            except BaseException:
                self._forget(now)
                raise
            self._working += 1
            idle = self._idle.pop() if self._idle else None
        if idle is not None and idle.process.poll() is None:
            return idle
        try:
            return _Child()
        except BaseException:
            self.give_back(None, now)
            raise

    def give_back(self, child: _Child | None, now: caller.Caller) -> None:
        with self._changed:
            self._working -= 1
            self._forget(now)
            if child is not None:
                self._idle.append(child)
            self._changed.notify()

    def _forget(self, now: caller.Caller) -> None:
        self._asking[now.key] -= 1
        if not self._asking[now.key]:
            del self._asking[now.key]

    def _busy(self) -> Problem:
        return Problem(
            503,
            "Others have asked for much.",
            "Nothing was changed. Try again in a few seconds.",
            retry_after=5,
            code="busy-with-others",
        )

    def end(self) -> None:
        """End the children that wait for work; the others end with their work, when nobody reads
        its answer.
        """
        with self._changed:
            for child in self._idle:
                child.end()
            self._idle.clear()


def end_idle() -> None:
    """End the children that wait for work: for a program that has done what it needed them for, and
    stays.
    """
    _POOL.end()


_POOL = _Pool()
atexit.register(end_idle)
