"""``nlatch serve``, as a test starts it."""

from __future__ import annotations

import os
import re
import signal
import subprocess
import sys
from collections.abc import Mapping, Sequence
from pathlib import Path

from tests.harness import ROOT, wait_until

OF_THE_MACHINE = {
    name: value
    for name, value in os.environ.items()
    if not name.startswith(("NEATLATCH", "DJANGO"))
}


class Served:
    """``nlatch serve``, and what it has printed."""

    def __init__(
        self,
        home: Path,
        port: int,
        *more: str,
        command: Sequence[str] = (sys.executable, "-m", "neatlatch.cli"),
        folder: Path = ROOT,
        environment: Mapping[str, str] | None = None,
    ) -> None:
        self.printed = home.parent / "printed"
        self.program = subprocess.Popen(
            [*command, "serve", "--home", str(home), "--port", str(port), *more],
            cwd=folder,
            env={**OF_THE_MACHINE, "NEATLATCH_ROUND_MINUTES": "0", **(environment or {})},
            stdout=self.printed.open("w"),
            stderr=subprocess.STDOUT,
        )

    def says(self, pattern: str, seconds: float = 120) -> re.Match[str]:
        """Wait until it prints something."""
        found: list[re.Match[str]] = []

        def printed() -> bool:
            found.extend(re.finditer(pattern, self.printed.read_text()))
            return bool(found)

        wait_until(lambda: printed() or self.program.poll() is not None, seconds)
        assert found, self.printed.read_text()
        return found[0]

    def stop(self) -> int:
        """Ask it to stop; its exit status."""
        self.program.send_signal(signal.SIGTERM)
        return self.program.wait(30)

    def children(self) -> dict[str, int]:
        """Its programs, by what they run."""
        found = {}
        for stat in Path("/proc").glob("[0-9]*/stat"):
            try:
                parent = int(stat.read_text().rpartition(")")[2].split()[1])
                command = (stat.parent / "cmdline").read_text().split("\0")
            except (OSError, ValueError):
                continue
            # One that has just ended has no command any more.
            for name in {"desk", "neatlatch.worker", "tls-listener"} & set(command):
                if parent == self.program.pid:
                    found[name] = int(stat.parent.name)
        return found
