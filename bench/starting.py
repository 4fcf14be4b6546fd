"""How long somebody waits for one line of ``nlatch compute``, against an interpreter that does
nothing; and for the demo when it is started again, against loading the desk once. By hand: python
-m bench.starting
"""

from __future__ import annotations

import os
import signal
import statistics
import subprocess
import sys
import time
from pathlib import Path

from .table import row

ROOT = Path(__file__).resolve().parents[1]
LINE = '{"op": "pkce_challenge", "code_verifier": "dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk"}'
TIMES = 15


def timed(command: list[str]) -> float:
    """Milliseconds until it has ended."""
    begun = time.perf_counter()
    subprocess.run(command, input=LINE, capture_output=True, text=True, check=True, cwd=ROOT)
    return (time.perf_counter() - begun) * 1000


PORT = 8960


def demo() -> float:
    """Seconds until the demo says that everything is started; it is stopped again."""
    begun = time.perf_counter()
    started = subprocess.Popen(
        ["bin/demo", "--port", str(PORT), "--only", "lost-property"],
        stdout=subprocess.PIPE,
        text=True,
        cwd=ROOT,
        start_new_session=True,
    )
    assert started.stdout is not None
    for line in started.stdout:
        if "Ctrl-C stops" in line:
            break
    seconds = time.perf_counter() - begun
    started.send_signal(signal.SIGINT)
    started.wait()
    return seconds


def loading() -> float:
    """Seconds to load the desk once, as each of its programs does."""
    home = ROOT / "var" / "demo" / str(PORT)
    begun = time.perf_counter()
    subprocess.run(
        [sys.executable, "-c", "import django; django.setup(); import neatlatch.desk.pages.urls"],
        env={
            **os.environ,
            "NEATLATCH_HOME": str(home),
            "DJANGO_SETTINGS_MODULE": "neatlatch.desk.settings",
        },
        check=True,
        cwd=ROOT,
    )
    return time.perf_counter() - begun


def main() -> None:
    """In turns."""
    demo()  # fills it
    again, once = (
        statistics.median(demo() for _ in range(3)),
        statistics.median(loading() for _ in range(3)),
    )
    print(f"the demo started again: {again:.1f} s; the desk loaded once: {once:.1f} s (aim: 5 s)")
    row(
        "the demo started again",
        f"{again:.1f} s",
        f"the desk loaded once: {once:.1f} s",
        again / once,
        "5 s",
        again <= 5,
    )
    ours, theirs = [], []
    for _ in range(TIMES):
        ours.append(timed([sys.executable, "-m", "neatlatch.cli", "compute"]))
        theirs.append(timed([sys.executable, "-c", "import json, argparse"]))
    a, b = statistics.median(ours), statistics.median(theirs)
    print(
        f"one line: {a:.0f} ms; an interpreter that imports json and argparse: {b:.0f} ms; "
        f"{a / b:.1f} × (aim: 150 ms)"
    )
    row(
        "`nlatch compute`, one line",
        f"{a:.0f} ms",
        f"an interpreter with json and argparse: {b:.0f} ms",
        a / b,
        "150 ms",
        a <= 150,
    )


if __name__ == "__main__":
    main()
