"""How the source is written (see CONTRIBUTING.md): lines to 100 columns where no
formatter keeps them, few exemptions from the formatter, names for what has one.
"""

from __future__ import annotations

import ast
from collections import Counter
from collections.abc import Iterator
from functools import cache
from itertools import chain
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[2]
LONGEST = 100
# Generated from the API's description.
GENERATED = {ROOT / "web/src/api/schema.d.ts"}
PYTHON = [
    file
    for folder in ("neatlatch", "standins", "tests", "bench")
    for file in sorted((ROOT / folder).rglob("*.py"))
]


def _sources() -> Iterator[Path]:
    yield from PYTHON
    web = ROOT / "web"
    for pattern in ("*.svelte", "*.ts", "*.css"):
        yield from (web / "src").rglob(pattern)
    yield from chain(web.glob("*.ts"), web.glob("*.js"), web.glob("*.html"))
    # A script may have none of the endings above.
    yield from (file for file in (ROOT / "bin").iterdir() if file.is_file())
    yield from (ROOT / "deploy").iterdir()
    yield from (ROOT / ".ci/run", ROOT / "pyproject.toml", ROOT / ".pre-commit-config.yaml")


def test_no_line_is_longer_than_a_hundred_characters() -> None:
    files = [file for file in _sources() if file not in GENERATED]
    assert len(files) > 900  # it looks at the whole, or it could not fail
    long = [
        f"{file.relative_to(ROOT)}:{number}"
        for file in files
        for number, line in enumerate(file.read_text("utf-8").split("\n"), 1)
        if len(line) > LONGEST
    ]
    assert not long


@cache
def _bindings() -> Counter[str]:
    """How often each name is bound: assigned, looped over, or a parameter."""
    names: Counter[str] = Counter()
    for node in chain.from_iterable(ast.walk(ast.parse(file.read_bytes())) for file in PYTHON):
        if isinstance(node, ast.Name) and isinstance(node.ctx, ast.Store):
            names[node.id] += 1
        elif isinstance(node, ast.arg):
            names[node.arg] += 1
    return names


@pytest.mark.parametrize("name", ["one", "told", "said", "given"])
def test_few_names_say_nothing(name: str) -> None:
    bound = _bindings()
    assert bound.total() > 30_000
    assert bound[name] < bound.total() / 100, f"{bound[name]} of {bound.total()}"


def test_the_formatter_is_switched_off_for_tables_of_data_only() -> None:
    marks = sum(file.read_text("utf-8").count("# fmt: " + "skip") for file in PYTHON)
    assert marks < 60


# Wordings that were replaced (CHANGELOG, *Words*); each is written in two pieces for this file.
REPLACED = [
    first + rest
    for first, rest in (
        ("who", "ever"),
        ("way of being", " let in"),
        ("in the desk's", " log"),
        ("helped by", " this"),
        ("Twice is", " once"),
        ("let", " go of"),
        ("turned", " away"),
        ("by hand where", " "),
        ("consumer", " group"),
        ("our right to", " manage"),
        ("stands", " out"),
    )
]


@pytest.mark.parametrize("words", REPLACED)
def test_replaced_wordings_are_gone(words: str) -> None:
    kept = [
        str(file.relative_to(ROOT))
        for file in chain(_sources(), (ROOT / "docs").glob("*.md"), [ROOT / "README.md"])
        if "migrations" not in file.parts and words.lower() in file.read_text("utf-8").lower()
    ]
    assert not kept
