"""The trim of sixty scopes and four hundred operations, against an integer program of scipy in the
same run. By hand: python -m bench.trim
"""

from __future__ import annotations

import statistics
import time

from neatlatch.core.trim import smallest
from tests.core.test_trim import integer_program, large

from .table import row

CASES = (
    ("one to three alternatives of up to three scopes, a third implying others", 0.3, (1, 3), 3),
    ("two or three alternatives of up to two scopes", 0.3, (2, 3), 2),
    ("three alternatives of up to three scopes", 0.3, (3, 3), 3),
    ("two alternatives of one scope", 0.0, (2, 2), 1),
    ("two to four alternatives, most scopes implying others", 0.6, (2, 4), 2),
)


def main() -> None:
    """Five systems of each kind; both must find the same weight."""
    for words, implying, alternatives, most in CASES:
        ours, theirs = [], []
        for seed in range(5):
            scopes, operations = large(seed, implying, alternatives, most)
            begun = time.perf_counter()
            found = smallest(scopes, operations)
            ours.append(time.perf_counter() - begun)
            begun = time.perf_counter()
            reference = integer_program(scopes, operations)
            theirs.append(time.perf_counter() - begun)
            assert abs(float(found.weight) - reference) < 1e-6
        a, b = statistics.median(ours), statistics.median(theirs)
        print(
            f"{words}: {a * 1000:.0f} ms (worst {max(ours) * 1000:.0f}); the integer "
            f"program {b * 1000:.0f} ms; {a / b:.2f} times"
        )
        row(
            f"the trim of 60 scopes for 400 operations: {words}",
            f"{a * 1000:.0f} ms, worst {max(ours) * 1000:.0f}",
            f"scipy's integer program: {b * 1000:.0f} ms",
            a / b,
            "1 s",
            max(ours) < 1,
        )


if __name__ == "__main__":
    main()
