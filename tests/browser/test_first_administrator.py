"""From an empty desk to the first administrator, by the one-time address."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, expect

from tests.harness import Desk, StandIns

from .conftest import make_desk
from .test_views import violations

NOBODY_YET = """
import json
from neatlatch.desk.ground.people import first_administrator
print(json.dumps({"set-up": first_administrator.open_address()}))
"""


@pytest.fixture
def new_desk(stand_ins: StandIns) -> Iterator[Desk]:
    from tests.settings import HOME_OF_TESTS

    desk = make_desk(HOME_OF_TESTS / "new", stand_ins, NOBODY_YET, rounds=False)
    yield desk
    desk.kill()


def test_the_first_administrator(browser: Browser, new_desk: Desk) -> None:
    token = new_desk.passwords["set-up"]  # type: ignore[attr-defined]
    page = browser.new_page(base_url=new_desk.url, viewport={"width": 390, "height": 844})
    page.goto("/")
    expect(page.get_by_text("Nobody can log in yet.")).to_be_visible()
    page.goto("/set-up")
    expect(page.get_by_text("This is not the whole address.")).to_be_visible()
    page.goto("about:blank")
    page.goto(f"/set-up#{token}")
    page.get_by_label("Your name").fill("Morag Orr")
    page.get_by_label("Login name").fill("morag")
    page.get_by_label("Password").fill("short")
    page.get_by_role("button", name="Create administrator").click()
    expect(page.get_by_text("This password is too short.")).to_be_visible()
    assert violations(page) == []
    assert page.evaluate("document.documentElement.scrollWidth") <= 390
    expect(page.get_by_label("Login name")).to_have_value("morag")  # nothing typed is lost
    page.get_by_label("Password").fill("anchor bollard davit 7")
    page.get_by_role("button", name="Create administrator").click()
    expect(page.get_by_role("heading", name="Nothing is set up yet")).to_be_visible()
    page.get_by_role("link", name="Add an application").click()
    expect(page.get_by_role("heading", name="Add an application")).to_be_visible()

    # The address works once.
    late = browser.new_page(base_url=new_desk.url)
    late.goto(f"/set-up#{token}")
    for label, text in (("Your name", "Ewan"), ("Login name", "ewan")):
        late.get_by_label(label).fill(text)
    late.get_by_label("Password").fill("anchor bollard davit 8")
    late.get_by_role("button", name="Create administrator").click()
    expect(late.get_by_text("Neat Latch is set up already.")).to_be_visible()
    page.context.close()
    late.context.close()
