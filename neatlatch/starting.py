"""Starting Neat Latch as one group: the desk, the worker and the TLS listener."""

from __future__ import annotations

import hashlib
from collections.abc import Callable
from pathlib import Path

from neatlatch import locations
from neatlatch.process_group import ProcessGroup


def prepare(home: Path, programs: ProcessGroup) -> None:
    """Migrate the database and collect the front end's files, unless that was done for this very
    code. Raises :class:`~neatlatch.process_group.DidNotStart`.
    """
    _once_for(
        home / ".tables",
        _digest(locations.PACKAGE / "desk", "**/migrations/*.py"),
        lambda: programs.run("-m", "django", "migrate", "--skip-checks", "--verbosity", "0"),
    )
    _once_for(
        home / ".static",
        _digest(locations.front_end(), "**/*"),
        lambda: programs.run(
            "-m", "django", "collectstatic", "--noinput", "--clear", "--verbosity", "0"
        ),
    )


def start(
    programs: ProcessGroup,
    host: str,
    port: int,
    *,
    processes: int = 1,
    tls_port: int = 0,
    tls_names: tuple[str, ...] = (),
) -> None:
    """Start all three and wait until each is ready.

    ``tls_port`` is the one after the desk's, unless it is given. Needs Django's settings: the
    worker says by a file that it is there. Raises :class:`~neatlatch.process_group.DidNotStart`.
    """
    from neatlatch.desk.work.rounds import at_work

    tls_port = tls_port or port + 1
    own, listener = ("--host", host, "--port"), ("-m", "neatlatch.cli", "tls-listener")
    names = [part for name in tls_names for part in ("--name", name)]
    # All load at the same time, which takes seconds; the worker's work begins after the desk's.
    programs.start(
        *("desk", "-m", "neatlatch.cli", "desk", *own, str(port)),
        *("--processes", str(processes)),
    )
    programs.start(
        "worker",
        # It looks first whether it can open what the desk keeps.
        *("-m", "neatlatch.worker", "--workers", "6"),
        *("--after", f"{_reached_at(host)}:{port}"),
        *("--delay", "0.1", "--max-delay", "0.5", "--quiet"),
    )
    programs.start("tls-listener", *listener, *own, str(tls_port), *names)
    programs.wait_for_port("desk", port, _reached_at(host))
    programs.wait_for("worker", at_work.is_running)
    programs.wait_for_port("tls-listener", tls_port, _reached_at(host))


def _reached_at(host: str) -> str:
    """An address of this machine where what listens on ``host`` is reached."""
    return {"0.0.0.0": "127.0.0.1", "::": "::1"}.get(host, host)


def _digest(folder: Path, pattern: str) -> str:
    """What stands in files, their names included, and which Django reads them: it has migrations
    and files of its own.
    """
    import django

    found = hashlib.sha256(django.__version__.encode())
    for file in sorted(path for path in folder.glob(pattern) if path.is_file()):
        found.update(f"{file.relative_to(folder)}\n".encode() + file.read_bytes())
    return found.hexdigest()


def _once_for(stamp: Path, digest: str, work: Callable[[], None]) -> None:
    """Do something unless it was done for this already: each takes seconds."""
    if not stamp.exists() or stamp.read_text() != digest:
        work()
        stamp.write_text(digest)
