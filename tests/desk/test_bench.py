"""Benchmarks are run by hand, rarely: what they take from elsewhere must still be there."""

from __future__ import annotations

import ast
import importlib
from pathlib import Path

import pytest

BENCH = Path(__file__).parents[2] / "bench"


@pytest.mark.parametrize("file", sorted(BENCH.glob("*.py")), ids=lambda one: one.stem)
def test_what_a_benchmark_imports_is_there(file: Path) -> None:
    taken = [
        one for one in ast.walk(ast.parse(file.read_text())) if isinstance(one, ast.ImportFrom)
    ]
    for one in taken:
        # The application looks into its database as it is imported.
        if (one.module or "").startswith(
            ("neatlatch.", "tests.")
        ) and one.module != "neatlatch.desk.pages.asgi":
            found = importlib.import_module(one.module or "")
            for name in one.names:
                assert hasattr(found, name.name) or importlib.import_module(
                    f"{one.module}.{name.name}"
                )
