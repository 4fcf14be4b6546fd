"""How long somebody waits for one line of ``nlatch compute``, against an interpreter that does nothing. By hand: python -m bench.starting"""

from __future__ import annotations

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


def main() -> None:
    """In turns."""
    ours, theirs = [], []
    for _ in range(TIMES):
        ours.append(timed([sys.executable, "-m", "neatlatch.cli", "compute"]))
        theirs.append(timed([sys.executable, "-c", "import json, argparse"]))
    a, b = statistics.median(ours), statistics.median(theirs)
    print(f"one line: {a:.0f} ms; an interpreter that imports json and argparse: {b:.0f} ms; {a / b:.1f} × (aim: 150 ms)")
    row("`nlatch compute`, one line", f"{a:.0f} ms", f"an interpreter with json and argparse: {b:.0f} ms", a / b, "150 ms", a <= 150)


if __name__ == "__main__":
    main()
