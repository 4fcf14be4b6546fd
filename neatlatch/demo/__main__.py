"""Run the demo: stand-ins, desk and worker, all started and stopped together.

``bin/demo`` calls this.
"""

from __future__ import annotations

import argparse
import json
import os
import shutil
import signal
import sys
from pathlib import Path
from typing import Any

from neatlatch import locations, starting
from neatlatch.process_group import ProcessGroup, port_in_use

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
            "the desk's port (8600); its TLS listener is one above it, the stand-ins take ports "
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
    home, control_port = locations.data_folder() / "demo" / str(given.port), given.port + 100
    ports = [
        given.port,
        given.port + 1,
        *(control_port + stand_in_port for stand_in_port in _STAND_IN_PORTS),
    ]
    if (port := port_in_use(ports)) is not None:
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
    programs = ProcessGroup(environment, log)
    signal.signal(signal.SIGTERM, lambda *_: sys.exit(0))
    # A shell that starts programs in the background has them ignore SIGINT; asked by it, this one
    # stops all the same.
    signal.signal(signal.SIGINT, signal.default_int_handler)
    try:
        programs.start(
            "standins",
            "-m",
            "standins",
            "--folder",
            str(home / "standins"),
            "--port",
            str(control_port),
        )
        programs.wait_for_port("standins", control_port)
        starting.prepare(home, programs)
        logins = _fill(home, control_port, tuple(given.only))
        starting.start(programs, "127.0.0.1", given.port)
        print(f"\nNeat Latch is ready:  {environment['NEATLATCH_URL']}\n")
        for name, (role, word) in logins.items():
            print(f"   {role:<14} {name:<8} {word}")
        print(
            "\nWorkloads draw with a certificate of the house at  "
            f"https://localhost:{given.port + 1}"
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
        name = programs.wait_for_an_end()
        raise SystemExit(
            f"{programs.end_of_log(name)}\n{name} ended by itself; the lines above say why."
        )
    except KeyboardInterrupt:
        print("\nStopping.")
    finally:
        signal.signal(signal.SIGINT, signal.SIG_IGN)
        programs.stop()


if __name__ == "__main__":
    main()
