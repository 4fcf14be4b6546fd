"""Where there are more applications than one page of a list, one is found by typing, and lists go
on.
"""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, expect

from tests.harness import Desk, StandIns

from .conftest import EMPTY, make_desk, open_page

MANY = """from neatlatch.demo.fill import fill
from neatlatch.desk.estate.records.applications.models import Application, Environment, Deployment
from django.utils import timezone
fill(15, lambda stand: None)
here = Environment.objects.get(key="staging")
for number in range(120):
    profile = {"schemes": [{"key": "api_key"}]}
    spare = Application.objects.create(
        key=f"spare-{number}", name=f"Spare {number:03}", profile=profile
    )
    Deployment.objects.create(application=spare, environment=here, changed_at=timezone.now())
print("""


@pytest.fixture(scope="module")
def wide_desk(stand_ins: StandIns) -> Iterator[Desk]:
    from tests.settings import HOME_OF_TESTS

    desk = make_desk(HOME_OF_TESTS / "wide", stand_ins, EMPTY.replace("print(", MANY), rounds=False)
    yield desk
    desk.kill()


def test_an_application_is_found_by_typing_a_part_of_its_name(
    wide_desk: Desk, browser: Browser
) -> None:
    page = open_page(browser, wide_desk)
    page.goto("/connections/new")
    field = page.get_by_placeholder("type a part of its name")
    field.press_sequentially("are 077")
    offered = page.locator("#application-offered option")
    expect(offered).to_have_count(1)
    assert offered.get_attribute("value") == "Spare 077"
    field.fill("Spare 077")
    expect(page.get_by_label("Environment")).to_have_value("staging")
    expect(page.get_by_role("radio", name="API key")).to_be_checked()
    field.fill("Spare 07")  # nothing is called so
    expect(page.get_by_role("button", name="Start set-up")).to_be_disabled()
    field.fill("Spare 112")
    page.get_by_role("button", name="Start set-up").click()
    page.wait_for_url("**/connections/*/*/set-up")
    assert "spare-112" in page.url
    page.goto("/connections/new?application=spare-3")
    expect(page.get_by_label("Application")).to_have_value("Spare 003")
    assert page.errors == []  # type: ignore[attr-defined]


def test_the_house_is_accepted_by_one_that_was_typed_and_the_list_goes_on(
    wide_desk: Desk, browser: Browser
) -> None:
    page = open_page(browser, wide_desk)
    page.goto("/credentials/house?environment=staging")
    field = page.get_by_label("Add an application")
    field.fill("Spare 050")
    page.get_by_role("button", name="Add application", exact=True).click()
    expect(page.get_by_role("link", name="Spare 050")).to_be_visible()
    expect(field).to_have_value("")
    page.goto("/applications")
    rows = page.locator("tbody tr[data-row]")
    expect(rows).to_have_count(100)
    page.get_by_role("button", name="Show more").click()
    expect(rows).to_have_count(123)
    names = rows.locator("td:first-child").all_inner_texts()
    assert names == sorted(names)
    assert page.errors == []  # type: ignore[attr-defined]
