"""Programs that are started and stopped together."""

from __future__ import annotations

import ctypes
import os
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Callable, Iterable
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

_PR_SET_PDEATHSIG = 1
# Loaded before any fork: nothing that takes a lock may run between a fork and the program.
try:
    _LIBC: ctypes.CDLL | None = ctypes.CDLL(None, use_errno=True)
except (OSError, TypeError):  # no library of that kind on this system
    _LIBC = None
# Seconds: how long a program may take to stop when it is asked to, and how often programs are
# looked at.
_STOPS_WITHIN, _LOOK_EVERY = 5.0, 0.3
# Seconds before a program that ended is started again; doubled each time, up to the second. One
# that has run for as long as the third begins with the first again.
_FIRST_DELAY, _LONGEST_DELAY, _RUNS_WELL = 1.0, 30.0, 60.0
# Octets; a log that is larger when its program starts is put aside, in place of the one before it.
_LARGEST_LOG = 10 * 2**20
# Characters of a log that are shown where a program did not start.
_SHOWN_OF_LOG = 3_000


class DidNotStart(Exception):
    """A program ended, or did not respond, before it was ready; the message has its last lines."""


def port_in_use(ports: Iterable[int], host: str = "127.0.0.1") -> int | None:
    """The first of some ports that cannot be listened on; ``None``: all can."""
    family = socket.AF_INET6 if ":" in host else socket.AF_INET
    for port in ports:
        with socket.socket(family) as tried:
            tried.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            try:
                tried.bind((host, port))
            except OSError:
                return port
    return None


def _end_with_parent() -> None:
    """Have the kernel end this process when the one that started it has ended (prctl(2), Linux)."""
    if _LIBC is not None:
        with suppress(AttributeError):
            _LIBC.prctl(_PR_SET_PDEATHSIG, signal.SIGTERM)


@dataclass
class _Program:
    command: tuple[str, ...]
    process: subprocess.Popen[Any]
    started: float
    delay: float = _FIRST_DELAY
    # When it is to be started again; ``None``: it runs, as far as is known.
    due: float | None = None


class ProcessGroup:
    """Programs of this interpreter, by their names; each writes into a log of its own.

    ``environment`` is what they are started with, ``logs`` the folder of their logs.
    """

    def __init__(self, environment: dict[str, str], logs: Path) -> None:
        self.environment, self.logs = environment, logs
        self._programs: dict[str, _Program] = {}

    def start(self, name: str, *command: str) -> None:
        """Start a program in a session of its own."""
        self._programs[name] = _Program(command, self._begin(name, command), time.monotonic())

    def _begin(self, name: str, command: tuple[str, ...]) -> subprocess.Popen[Any]:
        log = self._log(name)
        if log.exists() and log.stat().st_size > _LARGEST_LOG:
            log.replace(log.with_suffix(".log.before"))
        with log.open("ab") as out:
            return subprocess.Popen(
                [sys.executable, *command],
                env=self.environment,
                stdin=subprocess.DEVNULL,
                stdout=out,
                stderr=out,
                start_new_session=True,
                preexec_fn=_end_with_parent,
            )

    def _log(self, name: str) -> Path:
        return self.logs / f"{name}.log"

    def end_of_log(self, name: str) -> str:
        """The last lines that a program wrote."""
        return self._log(name).read_text(errors="replace")[-_SHOWN_OF_LOG:]

    def run(self, *command: str) -> None:
        """Run a program to its end. Raises :class:`DidNotStart` where that is not 0."""
        done = subprocess.run(
            [sys.executable, *command],
            env=self.environment,
            stdin=subprocess.DEVNULL,
            capture_output=True,
            text=True,
        )
        if done.returncode != 0:
            says = f"{done.stdout}{done.stderr}"[-_SHOWN_OF_LOG:]
            raise DidNotStart(f"{says}\n{' '.join(command)} failed; the lines above say why.")

    def runs(self, name: str) -> bool:
        """Whether a program has not ended."""
        return self._programs[name].process.poll() is None

    def wait_for(self, name: str, ready: Callable[[], bool], seconds: float = 60) -> None:
        """Wait until a program is ready. Raises :class:`DidNotStart`."""
        until = time.monotonic() + seconds
        while time.monotonic() < until and self.runs(name):
            if ready():
                return
            time.sleep(0.1)
        raise DidNotStart(
            f"{self.end_of_log(name)}\n{name} did not start; the lines above say why."
        )

    def wait_for_port(self, name: str, port: int, host: str = "127.0.0.1") -> None:
        """Wait until a program accepts connections. Raises :class:`DidNotStart`."""

        def accepts() -> bool:
            try:
                socket.create_connection((host, port), 0.2).close()
            except OSError:
                return False
            return True

        self.wait_for(name, accepts)

    def wait_for_an_end(self) -> str:
        """Wait until one of them ends; its name."""
        while True:
            for name in self._programs:
                if not self.runs(name):
                    return name
            time.sleep(_LOOK_EVERY)

    def keep_running(self, tell: Callable[[str], object]) -> None:
        """Start whatever ends again, until this is interrupted; ``tell`` is called with each."""
        while True:
            for name, program in self._programs.items():
                self._keep_running(name, program, tell)
            time.sleep(_LOOK_EVERY)

    def _keep_running(self, name: str, program: _Program, tell: Callable[[str], object]) -> None:
        now = time.monotonic()
        if program.due is not None:
            if now >= program.due:
                program.process, program.started = self._begin(name, program.command), now
                program.due = None
        elif (status := program.process.poll()) is not None:
            if now - program.started >= _RUNS_WELL:
                program.delay = _FIRST_DELAY
            tell(
                f"{name} ended ({_exit_in_words(status)}) and is started again in "
                f"{program.delay:.0f} s; its log: {self._log(name)}"
            )
            program.due = now + program.delay
            program.delay = min(2 * program.delay, _LONGEST_DELAY)

    def stop(self) -> None:
        """Stop everything: ask first, and kill what has not stopped in time."""
        processes = [program.process for program in self._programs.values()]
        for process in processes:
            if process.poll() is None:
                process.send_signal(signal.SIGINT)
        until = time.monotonic() + _STOPS_WITHIN
        for process in processes:
            try:
                process.wait(max(0.1, until - time.monotonic()))
            except subprocess.TimeoutExpired:
                os.killpg(process.pid, signal.SIGKILL)
                process.wait()


def _exit_in_words(status: int) -> str:
    return f"exit status {status}" if status >= 0 else f"signal {-status}"
