"""docs/roles.md says what the tests hold every operation to."""

from __future__ import annotations

from docs.roles import PAGE, TABLE, operations, page


def test_the_page_is_as_the_table() -> None:
    assert PAGE.read_text(encoding="utf-8") == page(), "bin/types writes it"
    lines = TABLE.read_text(encoding="utf-8").splitlines()
    count = sum(bool(line) and not line.startswith("#") for line in lines)
    assert sum(map(len, operations().values())) == count > 200
