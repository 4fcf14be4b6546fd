"""Today with more applications than a page of the wall holds: the broken first, the others as they
come into sight, found by words.
"""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, expect

from tests.harness import Desk, StandIns

from .conftest import EMPTY, make_desk, open_page


@pytest.fixture(scope="module")
def filled_desk(stand_ins: StandIns) -> Iterator[Desk]:
    from tests.settings import HOME_OF_TESTS

    code = EMPTY.replace(
        "print(", "from neatlatch.demo.fill import fill\nfill(200, lambda stand: None)\nprint("
    )
    desk = make_desk(HOME_OF_TESTS / "filled", stand_ins, code, rounds=False)
    yield desk
    desk.kill()


def test_the_wall_is_drawn_where_it_is_seen_and_found_by_words(
    filled_desk: Desk, browser: Browser
) -> None:
    page = open_page(browser, filled_desk)
    expect(page.get_by_role("heading", name="200 connections")).to_be_visible()
    rows = page.locator("#wall tr[data-of-wall]")
    expect(page.get_by_text("40 applications, the broken first")).to_be_visible()
    assert rows.count() == 30
    headings = page.locator("#wall th[scope=rowgroup]")
    assert "with an unlatched connection" in headings.first.inner_text()
    page.mouse.wheel(0, 9000)
    expect(rows).to_have_count(40)
    expect(page.get_by_role("button", name="More applications")).to_have_count(0)
    assert "all latched" in headings.last.inner_text()
    page.get_by_label("Find on the wall").fill("pier state:latched")
    expect(rows).to_have_count(4)
    for name in rows.locator("th").all_inner_texts():
        assert name.startswith("Pier")
    page.get_by_label("Find on the wall").fill("no such thing")
    expect(page.get_by_text("Nothing on the wall fits")).to_be_visible()
    page.get_by_role("button", name="Show all").click()
    expect(rows).to_have_count(40)
    assert page.errors == []  # type: ignore[attr-defined]


def test_more_that_breaks_is_a_page_further(filled_desk: Desk, browser: Browser) -> None:
    page = open_page(browser, filled_desk)
    told = page.locator("#breaks > li")
    expect(told).to_have_count(25)
    page.get_by_role("button", name="More that breaks").click()
    expect(told.nth(25)).to_be_visible()
    refs = page.locator("#breaks [data-ref]").evaluate_all("all => all.map(one => one.dataset.ref)")
    assert len(refs) == len(set(refs))
    assert page.errors == []  # type: ignore[attr-defined]
