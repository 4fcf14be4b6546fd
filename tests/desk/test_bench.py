"""Benchmarks are run manually, rarely: what they take from elsewhere must still be there."""

from __future__ import annotations

import ast
import importlib
from pathlib import Path

import pytest

BENCH = Path(__file__).parents[2] / "bench"


@pytest.mark.parametrize("file", sorted(BENCH.glob("*.py")), ids=lambda item: item.stem)
def test_what_a_benchmark_imports_is_there(file: Path) -> None:
    taken = [
        item for item in ast.walk(ast.parse(file.read_text())) if isinstance(item, ast.ImportFrom)
    ]
    for item in taken:
        # The application looks into its database as it is imported.
        if (item.module or "").startswith(
            ("neatlatch.", "tests.")
        ) and item.module != "neatlatch.desk.pages.asgi":
            found = importlib.import_module(item.module or "")
            for name in item.names:
                assert hasattr(found, name.name) or importlib.import_module(
                    f"{item.module}.{name.name}"
                )
