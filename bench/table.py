"""All benches, one after the other, and one table of what they measured: ``bin/bench [names]``, by
hand, on a machine that does nothing else.

A bench stands by itself (``python -m bench.NAME``) and says here what of it stands in the table.
Names that are given are run; the rows of the others stay as they were.
"""

from __future__ import annotations

import datetime as dt
import json
import os
import platform
import subprocess
import sys
import tempfile
import time
from dataclasses import asdict, dataclass
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
OUT, KEPT = ROOT / "docs" / "benchmarks.md", ROOT / "docs" / "benchmarks.json"
# Where a bench that is run from here writes its rows.
_ROWS = "NEATLATCH_BENCH_ROWS"
BENCHES = (
    "scale",
    "rounds",
    "inventory",
    "starting",
    "ladder",
    "draws",
    "relay",
    "finding",
    "scroll",
    "first_load",
    "safe",
    "access",
    "trim",
)


@dataclass(frozen=True)
class Row:
    """What was measured, of what, against which reference in the same run; ``ratio``: ours by the
    reference's (``None``: they are no times of one kind). ``met``: whether it is as it is to be
    (``None``: nothing is wanted).
    """

    what: str
    measured: str
    reference: str
    ratio: float | None
    aim: str
    met: bool | None


def row(
    what: str,
    measured: str,
    reference: str,
    ratio: float | None = None,
    aim: str = "",
    met: bool | None = None,
) -> None:
    """Put a line into the table, where a table is being made."""
    if file := os.environ.get(_ROWS):
        with Path(file).open("a") as rows:
            rows.write(json.dumps(asdict(Row(what, measured, reference, ratio, aim, met))) + "\n")


def run(name: str) -> list[Row]:
    """Run one bench; returns its rows. Raises ``CalledProcessError`` where it fails."""
    with tempfile.NamedTemporaryFile(suffix=".jsonl") as rows:
        subprocess.run(
            [sys.executable, "-m", f"bench.{name}"],
            check=True,
            cwd=ROOT,
            env={**os.environ, _ROWS: rows.name},
        )
        return [Row(**json.loads(line)) for line in Path(rows.name).read_text().splitlines()]


def machine() -> str:
    """The machine in a few words."""
    model = next(
        (
            line.partition(":")[2].strip()
            for line in Path("/proc/cpuinfo").read_text().splitlines()
            if line.startswith("model name")
        ),
        "",
    )
    memory = int(Path("/proc/meminfo").read_text().split()[1]) / 2**20
    return (
        f"{os.cpu_count()} cores ({model or platform.machine()}), {memory:.0f} GiB, Python "
        f"{platform.python_version()}"
    )


def pace() -> float:
    """Milliseconds of processor time that a million additions take in plain Python: on a shared
    machine, times of different runs are comparable only where this is about the same.
    """
    begun, total = time.process_time(), 0
    for number in range(1_000_000):
        total += number
    return (time.process_time() - begun) * 1000


def main() -> None:
    """Run those that are named, or all; keep and write the table."""
    names = sys.argv[1:] or list(BENCHES)
    kept: dict[str, dict[str, object]] = json.loads(KEPT.read_text()) if KEPT.exists() else {}
    commit = subprocess.run(
        ["git", "rev-parse", "--short", "HEAD"],
        capture_output=True,
        text=True,
        cwd=ROOT,
        check=True,
    ).stdout.strip()
    for name in names:
        print(f"== {name}", flush=True)
        before = pace()
        rows = [asdict(item) for item in run(name)]
        measured = (
            f"{dt.datetime.now(dt.UTC):%-d %B %Y}, {commit}; a million additions: "
            f"{before:.0f} ms before, {pace():.0f} ms after"
        )
        kept[name] = {"measured": measured, "rows": rows}
        KEPT.write_text(json.dumps(kept, indent=1) + "\n")
        OUT.write_text(_written(kept))


def _written(kept: dict[str, dict[str, object]]) -> str:
    lines = [
        "# Benchmarks",
        "",
        (
            f"`bin/bench` runs them all, `bin/bench NAME` one, and writes this table. Machine: "
            f"{machine()}. Both sides of a ratio were measured in turns in one run; the machine "
            f"is"
        ),
        "shared, so the ratio tells more than the time: its pace varies by a factor of two, and a "
        "million additions in plain Python, measured before and after, tell how it was.",
        "",
        "| what | measured | against | ratio | aim | |",
        "|---|---|---|---|---|---|",
    ]
    for name in (
        *(bench for bench in BENCHES if bench in kept),
        *(text for text in kept if text not in BENCHES),
    ):
        lines.append(f"| **{name}** (`bench/{name}.py`, {kept[name]['measured']}) | | | | | |")
        for one in kept[name]["rows"]:  # type: ignore[attr-defined]
            ratio = f"{one['ratio']:.2f} ×" if one["ratio"] is not None else ""
            met = "" if one["met"] is None else "met" if one["met"] else "**not met**"
            lines.append(
                f"| {one['what']} | {one['measured']} | {one['reference']} | {ratio} | "
                f"{one['aim']} | {met} |"
            )
    return "\n".join(lines) + "\n"


if __name__ == "__main__":
    main()
