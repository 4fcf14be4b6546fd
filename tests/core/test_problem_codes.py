"""Problems have codes, and docs/problems.md lists them."""

from __future__ import annotations

import re

from docs.problem_codes import MESSAGES, PAGE, found, messages, page


def test_the_page_lists_every_code() -> None:
    assert len({place.code for place in found()}) > 150
    assert PAGE.read_text(encoding="utf-8") == page(), "bin/types writes it"
    assert MESSAGES.read_text(encoding="utf-8") == messages(), "bin/types writes it"


def test_a_code_is_kebab_case_and_has_one_status() -> None:
    statuses: dict[str, set[int]] = {}
    for place in found():
        assert re.fullmatch(r"[a-z0-9]+(-[a-z0-9]+)+", place.code), place
        statuses.setdefault(place.code, set()).add(place.status)
    several = {code for code, of in statuses.items() if len(of - {0}) > 1}
    assert not several
