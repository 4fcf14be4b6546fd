"""What the code says of the job points to a section of docs/domain.md."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

ROOT = Path(__file__).parents[2]
_PLACES = ("neatlatch", "standins", "tests", "bench", "docs")


def _references() -> Iterator[tuple[str, int]]:
    for place in _PLACES:
        for path in (ROOT / place).rglob("*"):
            if path.suffix in (".py", ".md", ".yaml"):
                for number in re.findall(r"DOMAIN §(\d+)", path.read_text()):
                    yield str(path.relative_to(ROOT)), int(number)


def test_each_section_that_is_named_is_there() -> None:
    sections = {
        int(number)
        for number in re.findall(r"^## (\d+) ", (ROOT / "docs/domain.md").read_text(), re.MULTILINE)
    }
    assert sections == set(range(1, 18))
    references = list(_references())
    assert len(references) > 20
    assert [reference for reference in references if reference[1] not in sections] == []
