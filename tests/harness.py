"""The real programs, started for a test: stand-ins, desk and worker, each its own process."""

from __future__ import annotations

import contextlib
import fcntl
import json
import os
import shutil
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Callable, Mapping
from datetime import datetime, timedelta
from functools import cache
from pathlib import Path
from typing import Any

import httpx

from neatlatch.demo.visitor import NOBODY
from neatlatch.desk.ground.common import clock
from tests.prepared import migrated

# bin/prove: a proof in its whole form. Its small form is what bin/test runs.
WHOLE = os.environ.get("NEATLATCH_PROVE") == "whole"
ROOT = Path(__file__).resolve().parents[1]
# What Chromium does without in tests: a renderer of its own for the address bar's suggestions costs
# each new window a second. The others are Playwright's; a switch that is given twice counts the
# last time only.
_NOT_WANTED = (
    "WebUIOmniboxPopup",
    "WebUIOmniboxAimPopup",
    "AvoidUnnecessaryBeforeUnloadCheckSync",
    "DestroyProfileOnBrowserClose",
    "HttpsUpgrades",
    "HttpsFirstBalancedModeAutoEnable",
    "LensOverlay",
    "MediaRouter",
    "PaintHolding",
    "ThirdPartyStoragePartitioning",
    "OptimizationHints",
)
# Chromium without its background traffic, so that a closed network does not slow it down.
CHROMIUM_FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    f"--disable-features={','.join(_NOT_WANTED)}",
]
# Debian's Chromium without windows of its own where it is installed: it draws the same pages with
# half the work.
CHROMIUM = shutil.which("chromium-headless-shell") or shutil.which("chromium")
# Where each stand-in listens, counted from the control port (a copy: the tests take nothing from
# the stand-ins).
PORTS = {
    "returns": 40,
    "fuel": 42,
    "berths": 44,
    "payroll": 46,
    "tides": 48,
    "fares": 50,
    "messages": 52,
    "positions": 54,
    "tickets": 58,
    "lost": 60,
    "crew": 62,
}
OFFSETS = (0, 10, 11, 20, 21, 30, 31, *range(40, 64))
_given: set[int] = set()
# Installed for developers only, and loaded by libraries of the product wherever they are found.
_DEVELOPERS_OWN = ("rich", "pygments")


@cache
def python_path() -> str:
    """What programs are started with: they find what is installed where Neat Latch runs, and
    nothing that only developers have.
    """
    from tests.settings import HOME_OF_TESTS

    folder = HOME_OF_TESTS / "installed"
    folder.mkdir(parents=True, exist_ok=True)
    for name in _DEVELOPERS_OWN:
        (folder / f"{name}.py").write_text('raise ImportError("only developers have it")\n')
    return f"{folder}{os.pathsep}{ROOT}"


def free_ports(offsets: tuple[int, ...] = (0,)) -> int:
    """A port that is free together with its neighbours at the offsets.

    Runs that go on side by side each have a range of their own, and all lie below those that the
    system gives to outgoing connections: one of these, even closed a minute ago, would keep a
    server from its port.
    """
    begin, wide = int(os.environ.get("NEATLATCH_TEST_PORTS", "12000")), 5_000 - max(offsets)
    for step in range(wide):
        base = begin + (os.getpid() * 97 + step) % wide
        ports = {base + offset for offset in offsets}
        if ports & _given:
            continue
        with contextlib.ExitStack() as stack:
            try:
                for port in ports:
                    stack.enter_context(socket.socket()).bind(("127.0.0.1", port))
            except OSError:
                continue
        _given.update(ports)
        return base
    raise RuntimeError("no free ports")


def wait_until(true: Callable[[], Any], seconds: float = 180, what: str = "it") -> Any:
    """Wait until something is true, and answer it.

    The limit is for what will never be; nothing is measured by it.
    """
    until = time.monotonic() + seconds
    while time.monotonic() < until:
        with contextlib.suppress(httpx.HTTPError):
            if found := true():
                return found
        time.sleep(0.05)
    raise AssertionError(f"{what} did not happen within {seconds} s")


class Clock:
    """One clock for all programs of a test, stepped manually from event to event."""

    # What the worker does by the clock.
    LOOPS = frozenset({"rounds", "renewals", "leftovers", "house"})

    def __init__(self, file: Path, begin: datetime) -> None:
        self.file, self.now = file, begin
        file.parent.mkdir(parents=True, exist_ok=True)
        clock.write(file, begin)

    @property
    def environment(self) -> dict[str, str]:
        """What lets a program go by it."""
        return {clock.VARIABLE: str(self.file)}

    def step(self, what_for: str = "", *, loops: frozenset[str] = LOOPS, **span: float) -> None:
        """Step on, and wait until all that is due by then is done, by all loops or by some; by none
        while no worker runs.
        """
        self.now += timedelta(**span)
        clock.write(self.file, self.now)
        self.wait_for_idle(what_for, loops)

    def jump(self, **span: float) -> None:
        """Step on, and wait for nobody."""
        self.step(loops=frozenset(), **span)

    def wait_for_idle(self, what_for: str = "", loops: frozenset[str] = LOOPS) -> None:
        """Wait until the worker has done all that is due now."""
        wait_until(
            lambda: clock.are_idle(self.file, self.now, set(loops)),
            what=f"idle at {self.now:%H:%M:%S} {what_for}",
        )


class StandIns:
    """The stand-ins."""

    def __init__(
        self, folder: Path, environment: Mapping[str, str] | None = None, port: int = 0
    ) -> None:
        self.port = port or free_ports(OFFSETS)
        self.process = subprocess.Popen(
            [sys.executable, "-m", "standins", "--folder", str(folder), "--port", str(self.port)],
            cwd=ROOT,
            stdout=subprocess.PIPE,
            env={**os.environ, "PYTHONPATH": python_path(), **(environment or {})},
        )
        assert self.process.stdout is not None
        assert json.loads(self.process.stdout.readline())["ready"]
        self._at_fault: frozenset[str] = frozenset()
        self.control = httpx.Client(
            base_url=f"http://127.0.0.1:{self.port}", timeout=60, verify=NOBODY
        )

    def office(self, application: str, environment: str = "sandbox") -> str:
        """The administration screen of an application other than Cargo manifests."""
        return f"http://127.0.0.1:{self.port + PORTS[application]}/{environment}"

    def secured(self, application: str, environment: str = "sandbox") -> str:
        """Its TLS side."""
        return f"https://localhost:{self.port + PORTS[application] + 1}/{environment}"

    def issuer(self, environment: str = "sandbox") -> str:
        beyond = {"sandbox": 11, "staging": 21, "production": 31}[environment]
        return f"https://localhost:{self.port + beyond}"

    def screens(self, environment: str = "sandbox") -> str:
        beyond = {"sandbox": 10, "staging": 20, "production": 30}[environment]
        return f"http://127.0.0.1:{self.port + beyond}"

    def fault(self, kind: str, environment: str = "sandbox", **more: Any) -> None:
        self.control.post(
            "/faults", json={"environment": environment, "kind": kind, **more}
        ).raise_for_status()
        self._at_fault = (
            self._at_fault | {environment} if kind != "none" else self._at_fault - {environment}
        )

    def mend(self) -> None:
        """Switch off every fault that was switched on."""
        for environment in self._at_fault:
            self.fault("none", environment)

    def age(self, seconds: float, *kinds: str, environment: str = "sandbox") -> None:
        self.control.post(
            "/ages", json={"environment": environment, "seconds": seconds, "kinds": kinds}
        ).raise_for_status()

    def state(self, environment: str = "sandbox") -> dict[str, Any]:
        found: dict[str, Any] = self.control.get("/state").json()[environment]
        return found

    def calls(self, what: str, environment: str = "sandbox") -> int:
        return int(self.state(environment)["calls"].get(what, 0))

    def stop(self) -> None:
        self.process.send_signal(signal.SIGTERM)
        try:
            self.process.wait(8)
        except subprocess.TimeoutExpired:
            self.process.kill()
            self.process.wait()


class Desk:
    """Neat Latch itself: a home of its own, the server and the worker."""

    # What serves the desk; a benchmark serves something beside it.
    serve: tuple[str, ...] = ("-m", "neatlatch.cli", "desk")

    def __init__(
        self,
        home: Path,
        stand_ins: StandIns,
        trust: Path,
        round_minutes: float = 60,
        more: Mapping[str, str] | None = None,
        port: int = 0,
        host: str = "127.0.0.1",
    ) -> None:
        self.home, self.stand_ins, self.port = home, stand_ins, port or free_ports()
        self.url = f"http://{host}:{self.port}"
        home.mkdir(parents=True, exist_ok=True)
        self.environment = {
            **os.environ,
            "NEATLATCH_HOME": str(home),
            "NEATLATCH_URL": self.url,
            "NEATLATCH_TRUST": str(trust),
            "NEATLATCH_ALLOWED_RANGES": "127.0.0.0/8,::1/128",
            "DJANGO_SETTINGS_MODULE": "tests.quick",
            "NEATLATCH_ROUND_MINUTES": str(round_minutes),
            "PYTHONPATH": python_path(),
            **(more or {}),
        }
        self.programs: dict[str, subprocess.Popen[bytes]] = {}

    def python(self, code: str) -> str:
        """Run Python with the desk set up, in a process of its own; returns what it printed."""
        code = "import django; django.setup()\n" + code
        done = subprocess.run(
            [sys.executable, "-c", code],
            cwd=ROOT,
            env=self.environment,
            capture_output=True,
            text=True,
        )
        assert done.returncode == 0, done.stderr
        return done.stdout

    def migrate(self) -> None:
        """Give it a database with all tables and nothing in them; whatever a run before left in its
        home goes.
        """
        shutil.rmtree(self.home)
        self.home.mkdir()
        shutil.copy(migrated(), self.home / "desk.sqlite3")

    def manage(self, *words: str) -> None:
        done = subprocess.run(
            [sys.executable, "manage.py", *words],
            cwd=ROOT,
            env=self.environment,
            capture_output=True,
            text=True,
        )
        assert done.returncode == 0, done.stderr

    def start(self, *names: str) -> None:
        """Start ``desk`` and ``worker``, or the ones named."""
        commands = {
            "desk": [*self.serve, "--port", str(self.port)],
            "worker": [
                "-m",
                "neatlatch.worker",
                "--workers",
                "6",
                "--delay",
                "0.05",
                "--max-delay",
                "0.2",
            ],
        }
        for name in names or tuple(commands):
            with (self.home / f"{name}.log").open("ab") as out:
                self.programs[name] = subprocess.Popen(
                    [sys.executable, *commands[name]],
                    cwd=ROOT,
                    env=self.environment,
                    stdout=out,
                    stderr=out,
                    start_new_session=True,
                )
        if "desk" in (names or commands):
            wait_until(self._alive, what="the start of the desk", seconds=120)
        if "worker" in (names or commands):
            wait_until(self._works, what="the start of the worker", seconds=120)

    def _alive(self) -> bool:
        code = self.programs["desk"].poll()
        assert code is None, (
            f"the desk ended with {code}: {(self.home / 'desk.log').read_text()[-2000:]}"
        )
        return httpx.get(f"{self.url}/alive", verify=NOBODY).is_success

    def _works(self) -> bool:
        """Whether a worker holds its lock, as the desk asks before it begins a test."""
        code = self.programs["worker"].poll()
        assert code is None, (
            f"the worker ended with {code}: {(self.home / 'worker.log').read_text()[-2000:]}"
        )
        with (self.home / "worker.lock").open("ab") as file:
            try:
                fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except BlockingIOError:
                return True
            return False

    def kill(self, *names: str) -> None:
        """SIGKILL, to the whole process group: nothing gets to tidy up."""
        for name in names or tuple(self.programs):
            os.killpg(self.programs[name].pid, signal.SIGKILL)
            self.programs.pop(name).wait()

    def client(self, username: str, password: str) -> httpx.Client:
        """An API client that is logged in."""
        client = httpx.Client(base_url=self.url, timeout=90, verify=NOBODY)
        client.headers["X-CSRFToken"] = client.get("/api/session").json()["csrf"]
        answer = client.post("/api/session", json={"username": username, "password": password})
        assert answer.status_code == 200, answer.text
        client.headers["X-CSRFToken"] = answer.json()["csrf"]
        return client


# A call's limit goes by the wall clock: one whose answer is held must not give up before the test
# has looked, however slow the machine. The longest that a form takes.
PATIENT = (
    "from neatlatch.desk.estate.records.connections.models import Connection; "
    "Connection.objects.update(time_limit=120)"
)


class World:
    """Stand-ins, and a desk with Cargo manifests that is not started yet, all by one clock.

    It is loaded once; anyone who needs one gets a copy.
    """

    def __init__(
        self,
        folder: Path,
        begin: datetime,
        ports: tuple[int, int] = (0, 0),
        round_minutes: float = 60,
    ) -> None:
        self.folder, self.begin = folder, begin
        self.clock = Clock(folder / "now", begin)
        self.stand_ins = StandIns(folder / "standins", self.clock.environment, ports[0])
        self.desk = Desk(
            folder / "desk",
            self.stand_ins,
            folder / "standins" / "certificates" / "root.pem",
            round_minutes,
            self.clock.environment,
            ports[1],
        )

    def load(self) -> None:
        """Fill it. The passwords of its people are kept in a file beside."""
        self.desk.migrate()
        said = self.desk.python(
            f"import json\nfrom neatlatch.demo.load import load\nsaid = "
            f"load({self.stand_ins.port}, only=('cargo-manifests',))\n"
            f"{PATIENT}\nprint(json.dumps(said))"
        )
        (self.folder / "logins.json").write_text(said.splitlines()[-1])

    @property
    def password(self) -> str:
        """The administrator's."""
        return str(json.loads((self.folder / "logins.json").read_text())["morag"][1])

    def copy(self, folder: Path, round_minutes: float = 60) -> World:
        """One like it, at the same ports and the same moment; this one must have ended."""
        shutil.rmtree(folder, ignore_errors=True)  # of a first run that failed
        shutil.copytree(self.folder, folder, ignore=shutil.ignore_patterns("now.idle"))
        return World(folder, self.begin, (self.stand_ins.port, self.desk.port), round_minutes)

    def end(self) -> None:
        """Stop everything."""
        self.desk.kill()
        self.stand_ins.stop()
