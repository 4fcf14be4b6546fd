"""The usual mistakes, planted in the scenario: found, explained in words, and mended by the act
that the pin offers.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.harness import Desk, StandIns
from tests.settings import HOME_OF_TESTS

from .conftest import make_desk, open_page
from .steps import made, take_in

ONLY = (
    "berth-booking",
    "fare-kiosks",
    "harbour-returns",
    "lost-property",
    "passenger-messages",
    "payroll-export",
    "repair-tickets",
    "tide-tables",
    "vessel-positions",
)


@pytest.fixture(scope="module")
def page(browser: Browser, stand_ins: StandIns) -> Iterator[Page]:
    fill = (
        f"import json\nfrom neatlatch.demo.load import load\nprint(json.dumps({{k: v[1] for k, "
        f"v in load({stand_ins.port}, only={ONLY!r}).items()}}))"
    )
    desk: Desk = make_desk(HOME_OF_TESTS / "mistakes", stand_ins, fill, rounds=False)
    found = open_page(browser, desk)
    yield found
    assert found.errors == []  # type: ignore[attr-defined]
    desk.kill()


def press(page: Page, pin: str, act: str) -> None:
    page.locator(f"[data-pin='{pin}']").get_by_role("button", name=act).click()


def latch(page: Page) -> None:
    page.get_by_role("button", name=re.compile("Test now")).click()
    expect(page.locator("[data-test-state]")).to_have_attribute("data-test-state", "done")
    expect(page.locator("[data-state]").first).to_have_attribute("data-state", "latched")


def opened(page: Page, ref: str, pin: str, why: str) -> None:
    page.goto(f"/connections/{ref}")
    row = page.locator(f"[data-pin='{pin}']")
    expect(row).to_have_attribute("data-fit", re.compile("differs|missing"))
    expect(row).to_contain_text(why)


def test_the_tenant_left_unchanged_in_one_address(page: Page) -> None:
    opened(
        page,
        "staging/harbour-returns",
        "tenant",
        "Our authorization endpoint has 4417, the other addresses have 4471.",
    )
    press(page, "tenant", "Put 4471 everywhere")
    expect(page.locator("[data-pin=endpoints]")).to_have_attribute("data-fit", "not_proven")
    latch(page)


def test_the_root_folder_left_off(page: Page) -> None:
    opened(
        page,
        "staging/repair-tickets",
        "endpoints",
        "The folder /workshop is part of their address.",
    )
    expect(page.get_by_text("The pin “endpoints” explains it.")).to_be_visible()
    press(page, "endpoints", "Use the provider's")
    latch(page)


def test_a_slash_at_the_end_of_the_audience(page: Page) -> None:
    opened(
        page,
        "production/payroll-export",
        "audience",
        "Only a slash at the end differs, and it counts.",
    )
    expect(page.get_by_text("The pin “audience” explains it.")).to_be_visible()
    press(page, "audience", "Use the provider's")
    latch(page)


def test_the_id_where_the_value_belongs(page: Page, stand_ins: StandIns) -> None:
    opened(
        page,
        "staging/berth-booking",
        "secret",
        "What was put in is the ID of the secret, not its value.",
    )
    window = page.context.new_page()
    window.goto(f"{stand_ins.office('berths', 'staging')}/office")
    window.get_by_role("button", name="Enter").click()
    window.get_by_role("link", name="Gannet Sound Ferries, booking (staging)").click()
    window.get_by_role("button", name="Make another secret").click()
    value = window.locator("td code").nth(2).inner_text()
    window.close()
    press(page, "secret", "Put in the secret")
    page.get_by_role("textbox", name="Client secret").fill(f"“{value}”")
    page.get_by_role("button", name="Store secret").click()
    expect(page.get_by_text("quotes round it taken off")).to_be_visible()
    latch(
        page
    )  # a new secret takes a while to spread there: the test tries again before it says so


def test_a_key_of_another_environment(page: Page, stand_ins: StandIns) -> None:
    opened(
        page,
        "production/fare-kiosks",
        "environment",
        "The API key we send is the one that is used in Sandbox.",
    )
    expect(page.get_by_text("The pin “environment” explains it.")).to_be_visible()
    window = page.context.new_page()
    window.goto(stand_ins.office("fares", "production"))
    rows = made(window, "Kiosks", "svc-fares", "clerk")
    window.close()
    press(page, "environment", "Put in Production's")
    page.get_by_role("textbox", name="API key").fill(rows.splitlines()[1].split("\t")[1])
    page.get_by_role("button", name="Store secret").click()
    press(page, "rights", "It has clerk now")
    latch(page)


def test_a_permission_does_not_reach_an_older_token(page: Page, stand_ins: StandIns) -> None:
    opened(
        page,
        "production/tide-tables",
        "rights",
        "The permission was changed after the token was made, and does not reach it.",
    )
    expect(page.get_by_text("The pin “permission” explains it.")).to_be_visible()
    window = page.context.new_page()
    window.goto(stand_ins.office("tides", "production"))
    shown = dict(
        line.split("\t")
        for line in made(window, "Tide upload", "svc-tides", "read-and-write").splitlines()
    )
    window.close()
    page.get_by_role("button", name="Paste anything").click()
    names = {
        "client_key": "Client key",
        "client_secret": "Client secret",
        "token_id": "Token",
        "token_secret": "Token secret",
    }
    take_in(page, "\n".join(f"{name}: {shown[label]}" for name, label in names.items()), *names)
    page.get_by_role("button", name="Close").click()
    for pin in ("client_key", "token_id"):
        press(page, pin, "Ours is what they gave")
        expect(page.locator(f"[data-pin={pin}]")).to_have_attribute("data-fit", "not_proven")
    latch(page)


def test_a_second_endpoint_without_its_password(page: Page, stand_ins: StandIns) -> None:
    opened(
        page,
        "staging/vessel-positions",
        "register.password",
        "We have no password of the register.",
    )
    window = page.context.new_page()
    window.goto(f"{stand_ins.office('positions', 'staging')}/register")
    window.locator("[name=name]").fill("svc-register")
    window.get_by_role("button", name="Make").click()
    value = window.locator("code").nth(1).inner_text()
    window.close()
    press(page, "register.password", "Put in the password of the register")
    page.get_by_role("textbox", name="Password of the register").fill(value)
    page.get_by_role("button", name="Store secret").click()
    latch(page)


def test_a_vendors_client_and_a_personal_account_are_pointed_at_although_they_work(
    page: Page,
) -> None:
    opened(
        page,
        "production/passenger-messages",
        "environment",
        "A vendor's shared client is for trying things out, never for production.",
    )
    opened(
        page,
        "production/lost-property",
        "account",
        "r.oake is a person's, and Production requires a service account",
    )
    press(page, "account", "Name a service account")
    page.get_by_label("Whose it is there").fill("svc-lost")
    page.get_by_label("That is").select_option(label="a service account")
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_text("Saved.", exact=True)).to_be_visible()
    page.goto("/connections/production/lost-property")
    expect(page.locator("[data-pin=account]")).to_have_attribute("data-fit", "not_proven")
    latch(page)
    page.goto("/")
    expect(page.get_by_text(re.compile(r"latched, \d+ of them with a pin out"))).to_be_visible()


def test_saying_what_a_scope_means_takes_nothing_away(page: Page) -> None:
    page.goto("/applications/berth-booking")
    row = (
        page.get_by_role("region", name="Scopes")
        .get_by_role("row")
        .filter(has=page.get_by_role("cell", name="berths.book", exact=True))
    )
    expect(row).to_contain_text("it includes berths.read")
    page.get_by_role("button", name="Edit scopes").click()
    page.get_by_label("Meaning of berths.book").fill("Book, move and cancel berths")
    page.get_by_role("button", name="Save").click()
    expect(row).to_contain_text("Book, move and cancel berths")
    expect(row).to_contain_text("an administrator")
    expect(row).to_contain_text("it includes berths.read")
