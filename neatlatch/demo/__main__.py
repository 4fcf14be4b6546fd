"""Run the demo: stand-ins, desk and worker, all started and stopped together.

``bin/demo`` calls this.
"""

from __future__ import annotations

import argparse
import hashlib
import json
import os
import shutil
import signal
import socket
import subprocess
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

ROOT = Path(__file__).resolve().parents[2]
# Where each stand-in's own screens are, counted from the control port.
_SCREENS = {
    "Berth booking": 44,
    "Crew roster": 62,
    "Fare kiosks": 50,
    "Fuel ledger": 42,
    "Harbour returns": 40,
    "Lost property": 60,
    "Passenger messages": 52,
    "Payroll export": 46,
    "Repair tickets": 58,
    "Tide tables": 48,
    "Vessel positions": 54,
}
_STAND_IN_PORTS = (0, 10, 11, 20, 21, 30, 31, *range(40, 64))


def _taken(ports: list[int]) -> int | None:
    for port in ports:
        with socket.socket() as one:
            one.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            try:
                one.bind(("127.0.0.1", port))
            except OSError:
                return port
    return None


class Crew:
    """The programs that were started; all are stopped together."""

    def __init__(self, environment: dict[str, str], log: Path) -> None:
        self.environment, self.log, self.programs = (
            environment,
            log,
            dict[str, "subprocess.Popen[Any]"](),
        )

    def start(self, name: str, *command: str) -> subprocess.Popen[Any]:
        """Start a program in a process group of its own, its words in a log file."""
        with (self.log / f"{name}.log").open("ab") as out:
            started = subprocess.Popen(
                [sys.executable, *command],
                cwd=ROOT,
                env=self.environment,
                stdout=out,
                stderr=out,
                start_new_session=True,
            )
        self.programs[name] = started
        return started

    def run(self, *command: str) -> None:
        """Run a program to its end; its failure ends the demo."""
        done = subprocess.run(
            [sys.executable, *command],
            cwd=ROOT,
            env=self.environment,
            capture_output=True,
            text=True,
        )
        if done.returncode != 0:
            print(done.stdout[-2000:], done.stderr[-4000:], file=sys.stderr)
            raise SystemExit(
                f"{' '.join(command[-2:])} did not go through; the lines above say why."
            )

    def stop(self) -> None:
        """Stop everything: asked first, made to after five seconds."""
        for one in self.programs.values():
            if one.poll() is None:
                one.send_signal(signal.SIGINT)
        until = time.monotonic() + 5
        for one in self.programs.values():
            try:
                one.wait(max(0.1, until - time.monotonic()))
            except subprocess.TimeoutExpired:
                os.killpg(one.pid, signal.SIGKILL)
                one.wait()

    def watch(self) -> str:
        """Wait until one of them ends; answers its name."""
        while True:
            for name, one in self.programs.items():
                if one.poll() is not None:
                    return name
            time.sleep(0.3)


def _wait_for(port: int, program: subprocess.Popen[Any], name: str, log: Path) -> None:
    for _ in range(300):
        if program.poll() is not None:
            break
        try:
            socket.create_connection(("127.0.0.1", port), 0.2).close()
            return
        except OSError:
            time.sleep(0.1)
    print((log / f"{name}.log").read_text()[-3000:], file=sys.stderr)
    raise SystemExit(f"{name} did not start; the lines above say why.")


def _wait_for_worker(program: subprocess.Popen[Any], log: Path) -> None:
    from neatlatch.desk.work.rounds import at_work

    for _ in range(600):
        if at_work.is_there():
            return
        if program.poll() is not None:
            break
        time.sleep(0.1)
    print((log / "worker.log").read_text()[-3000:], file=sys.stderr)
    raise SystemExit("worker did not start; the lines above say why.")


def _digest(folder: Path, pattern: str) -> str:
    """What stands in files, their names included."""
    found = hashlib.sha256((ROOT / "requirements.txt").read_bytes())
    for file in sorted(one for one in folder.glob(pattern) if one.is_file()):
        found.update(f"{file.relative_to(folder)}\n".encode() + file.read_bytes())
    return found.hexdigest()


def _once_for(stamp: Path, digest: str, work: Callable[[], None]) -> None:
    """Do something if it was not done for this yet; each takes seconds, and a demo is often started
    anew with nothing changed.
    """
    if not stamp.exists() or stamp.read_text() != digest:
        work()
        stamp.write_text(digest)


def _fill(home: Path, control_port: int, only: tuple[str, ...]) -> dict[str, Any]:
    """Load the scenario into an empty desk, or read the logins of one that was loaded."""
    logins = home / "logins.json"
    if not logins.exists():
        os.environ.setdefault("DJANGO_SETTINGS_MODULE", "neatlatch.desk.settings")
        import django

        django.setup()
        from neatlatch.demo.load import load
        from neatlatch.desk.ground.common import heavy

        made = load(control_port, only=only, with_benches=not only)
        heavy.end_idle()
        logins.touch(0o600)
        logins.write_text(json.dumps(made))
    kept: dict[str, Any] = json.loads(logins.read_text())
    return kept


def main() -> None:
    """Start everything and wait."""
    parser = argparse.ArgumentParser(
        prog="bin/demo", description="Neat Latch with the scenario of Gannet Sound Ferries."
    )
    parser.add_argument(
        "--port",
        type=int,
        default=8600,
        help=(
            "the desk's port (8600); its TLS door is one above it, the stand-ins take ports "
            "from 100 above it. Each port has its own data."
        ),
    )
    parser.add_argument(
        "--fresh", action="store_true", help="throw the demo's data away and start over"
    )
    parser.add_argument(
        "--only",
        metavar="APPLICATION",
        action="append",
        default=[],
        help="fill in this application alone, which is quicker; may be repeated",
    )
    given = parser.parse_args()
    home, control_port = ROOT / "var" / "demo" / str(given.port), given.port + 100
    ports = [given.port, given.port + 1, *(control_port + one for one in _STAND_IN_PORTS)]
    if (port := _taken(ports)) is not None:
        raise SystemExit(
            f"Port {port} is taken, perhaps by a demo that still runs. Stop it, or give "
            f"another: bin/demo --port {given.port + 200}"
        )
    if given.fresh:
        shutil.rmtree(home, ignore_errors=True)
    elif home.exists() and not (home / "logins.json").exists():
        shutil.rmtree(home)  # the first start was cut off half-way
    os.umask(0o077)
    log = home / "log"
    log.mkdir(parents=True, exist_ok=True)
    home.chmod(0o700)  # one of an earlier version
    environment = {
        **os.environ,
        "NEATLATCH_HOME": str(home),
        # a name, because browsers make no passkeys for an IP address
        "NEATLATCH_URL": f"http://localhost:{given.port}",
        "NEATLATCH_HOSTS": "127.0.0.1",
        "NEATLATCH_TRUST": str(home / "standins" / "certificates" / "root.pem"),
        "NEATLATCH_FIRM": "Gannet Sound Ferries",
        "NEATLATCH_ALLOWED_RANGES": "127.0.0.0/8,::1/128",
        "DJANGO_SETTINGS_MODULE": "neatlatch.desk.settings",
    }
    os.environ.update(environment)
    # The programs' logs are files. This one fills the desk first, and prints what a person is to
    # read.
    os.environ.setdefault("NEATLATCH_LOG", "WARNING")
    crew = Crew(environment, log)
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    # A shell that starts programs in the background has them ignore SIGINT; asked by it, this one
    # stops all the same.
    signal.signal(signal.SIGINT, signal.default_int_handler)
    try:
        _wait_for(
            control_port,
            crew.start(
                "standins",
                "-m",
                "standins",
                "--folder",
                str(home / "standins"),
                "--port",
                str(control_port),
            ),
            "standins",
            log,
        )
        _once_for(
            home / ".tables",
            _digest(ROOT / "neatlatch" / "desk", "**/migrations/*.py"),
            lambda: crew.run("manage.py", "migrate", "--skip-checks", "--verbosity", "0"),
        )
        _once_for(
            home / ".static",
            _digest(ROOT / "web" / "dist", "**/*"),
            lambda: crew.run(
                "manage.py", "collectstatic", "--noinput", "--clear", "--verbosity", "0"
            ),
        )
        logins = _fill(home, control_port, tuple(given.only))
        desk = crew.start("desk", "-m", "neatlatch.cli", "serve", "--port", str(given.port))
        crew.start(
            "worker",
            "manage.py",
            "run_huey",
            "--workers",
            "6",
            "--delay",
            "0.1",
            "--max-delay",
            "0.5",
            "--quiet",
        )
        _wait_for(given.port, desk, "desk", log)
        _wait_for_worker(crew.programs["worker"], log)
        _wait_for(
            given.port + 1,
            crew.start("door", "-m", "neatlatch.cli", "door", "--port", str(given.port + 1)),
            "door",
            log,
        )
        print(f"\nNeat Latch is ready:  {environment['NEATLATCH_URL']}\n")
        for name, (role, word) in logins.items():
            print(f"   {role:<14} {name:<8} {word}")
        print(
            f"\nUsers draw with a certificate of the house at  https://localhost:{given.port + 1}"
        )
        print(
            "\nThe applications' own screens, where values are carried from (Sandbox, "
            "Staging and Production by their paths):"
        )
        print(
            f"  Cargo manifests      http://127.0.0.1:{control_port + 10}/office, "
            f":{control_port + 20} (Staging), :{control_port + 30} (Production)"
        )
        for application, offset in _SCREENS.items():
            print(f"  {application:<20} http://127.0.0.1:{control_port + offset}/")
        print(
            "Faults are switched on at its control address; see docs/demo.md. Ctrl-C stops "
            "everything.\n",
            flush=True,
        )
        name = crew.watch()
        print((log / f"{name}.log").read_text()[-2000:], file=sys.stderr)
        raise SystemExit(f"{name} ended by itself; the lines above say why.")
    except KeyboardInterrupt:
        print("\nStopping.")
    finally:
        signal.signal(signal.SIGINT, signal.SIG_IGN)
        crew.stop()


if __name__ == "__main__":
    main()
