"""The thinnest slice through the real interface: empty desk to latched, broken,
explained, mended.
"""

from __future__ import annotations

import re

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.harness import Desk, StandIns

from .conftest import Keyboard, Mouse, open_page

SERVICE = "svc-manifests@gannet.example"


def link(page: Page, name: str) -> object:
    return page.get_by_role("link", name=name, exact=True)


@pytest.mark.parametrize("hands", [Mouse(), Keyboard()], ids=["mouse", "keyboard"])
def test_from_an_empty_desk_to_latched_broken_and_mended(
    browser: Browser, empty_desk: Desk, stand_ins: StandIns, hands: Mouse | Keyboard
) -> None:
    page = open_page(browser, empty_desk)
    expect(page.get_by_role("heading", name="Nothing is set up yet")).to_be_visible()
    hands.press(page.get_by_role("link", name="Add an application"))

    # Find out what it wants
    hands.choose(page.get_by_label("Environment"), "Sandbox")
    hands.fill(page.get_by_label("Metadata address or issuer"), "https://localhost:9")
    hands.press(page.get_by_role("button", name="Add application"))
    expect(
        page.get_by_text("could not be reached").first
    ).to_be_visible()  # a clear error, and nothing typed is lost
    hands.fill(page.get_by_label("Metadata address or issuer"), stand_ins.issuer())
    hands.fill(
        page.get_by_label("API description, if it has one"), f"{stand_ins.issuer()}/openapi.json"
    )
    hands.press(page.get_by_role("button", name="Add application"))
    expect(page.get_by_role("heading", name="Cargo manifests", level=1)).to_be_visible()
    expect(page.get_by_text("File a manifest with customs").first).to_be_visible()

    # Prepare the provider side
    hands.press(page.get_by_role("link", name="Register a client"))
    hands.fill(page.get_by_label("Name", exact=True), "Gannet Sound Ferries, slice")
    uri = page.get_by_role("textbox", name="Redirect URI 1")
    hands.fill(uri, f"{empty_desk.url}/return#x")
    expect(
        page.get_by_text("A redirect URI must not have one.")
    ).to_be_visible()  # lint, as one types
    hands.fill(uri, f"{empty_desk.url}/return")
    expect(page.get_by_text("A redirect URI must not have one.")).to_be_hidden()
    for scope in ("manifest.read", "berth.read"):
        hands.tick(page.get_by_label(scope))
    hands.press(page.get_by_role("button", name="Register", exact=True))

    # The handover
    expect(page.get_by_role("heading", name="Handover of the new secret")).to_be_visible()
    hands.press(page.get_by_role("button", name="Show secret once"))
    secret = page.locator("[data-secret]").inner_text()
    assert len(secret) >= 30
    hands.press(page.get_by_role("button", name="I have it"))
    expect(page.get_by_role("heading", name="Handover of the new secret")).to_be_hidden()
    assert secret not in page.content()
    page.reload()
    expect(page.get_by_role("heading", name="Gannet Sound Ferries, slice")).to_be_visible()
    assert secret not in page.content()
    expect(page.get_by_text(f"…{secret[-4:]}")).to_be_visible()

    # Fill in the caller side
    hands.press(page.get_by_role("link", name="Add connection"))
    expect(page.get_by_label("Client ID")).to_have_value(re.compile("gs-cargo-sbx-"))
    hands.fill(page.get_by_label("Expected account, if there is one"), f" {SERVICE}")
    hands.press(page.get_by_role("button", name="Add connection"))
    expect(page.get_by_text("Cleaned: 1 space cut from the start.")).to_be_visible()
    expect(page.locator("[data-pin=account]")).to_have_attribute("data-fit", "missing")

    # Sign in: first as the wrong account, then as the right one
    aside, signed_in = page.locator("[data-set-aside]"), page.locator("[data-outcome=signed_in]")
    for account, told in (("m.orr@gannet.example", aside), (SERVICE, signed_in)):
        hands.press(page.get_by_role("button", name=re.compile("^Sign in")).first)
        expect(
            page.get_by_role("heading", name="Cargo manifests, sandbox: who are you?")
        ).to_be_visible()
        hands.press(page.get_by_role("button", name=account))
        expect(page.get_by_role("heading", name="Do you agree?")).to_be_visible()
        hands.press(page.get_by_role("button", name="I agree"))
        expect(told).to_contain_text(account)
        assert "/connections/sandbox/cargo-manifests" in page.url  # back on the page they left
        assert "code=" not in page.url
    expect(page.locator("[data-pin=account]")).to_have_attribute("data-fit", "fits")

    # Test: every rung, live
    hands.press(page.get_by_role("button", name="Test now"))
    expect(page.get_by_text("All rungs passed")).to_be_visible()
    expect(page.locator("[data-state]").first).to_have_attribute("data-state", "latched")

    # Break the redirect URI
    hands.press(page.get_by_role("button", name="Edit our side"))
    hands.fill(page.get_by_role("textbox", name="Redirect URI"), f"{empty_desk.url}/return/")
    hands.press(page.get_by_role("button", name="Save"))
    pin = page.locator("[data-pin=redirect_uri]")
    expect(pin).to_have_attribute("data-fit", "differs")
    expect(pin.locator("mark")).to_have_text("/")
    hands.press(page.get_by_role("button", name="Test now"))
    expect(page.get_by_text("Stopped at Sign in.")).to_be_visible()
    expect(page.get_by_text("The pin “redirect URI” explains it.")).to_be_visible()
    expect(page.locator("[data-state]").first).to_have_attribute("data-state", "unlatched")

    # What was sent, without secrets
    hands.press(page.get_by_role("link", name="See what was sent"))
    expect(page.get_by_text("Why it stopped, most likely first")).to_be_visible()
    assert secret not in page.content()
    page.go_back()

    # Mend it by the button
    hands.press(pin.get_by_role("button", name="Use the provider's"))
    expect(pin).to_have_attribute("data-fit", "fits")
    hands.press(page.get_by_role("button", name="Test now"))
    expect(page.get_by_text("All rungs passed")).to_be_visible()
    expect(page.locator("[data-state]").first).to_have_attribute("data-state", "latched")

    hands.press(page.get_by_role("link", name="Today", exact=True))
    expect(page.get_by_text("1 latched")).to_be_visible()
    expect(page.get_by_text("Nothing known will stop within 90 days.")).to_be_visible()
    assert page.errors == []  # type: ignore[attr-defined]


def test_by_hand_where_the_application_registers_nothing(
    browser: Browser, empty_desk: Desk, stand_ins: StandIns
) -> None:
    """Staging has no registration by protocol: steps with copy buttons and ticks that stay, two
    windows, values carried across.
    """
    page = open_page(browser, empty_desk)
    page.goto("/applications/new")
    page.get_by_label("Environment").select_option(label="Staging")
    page.get_by_label("Metadata address or issuer").fill(stand_ins.issuer("staging"))
    page.get_by_label("API description, if it has one").fill(
        f"{stand_ins.issuer('staging')}/openapi.json"
    )
    page.get_by_role("button", name="Add application").click()
    page.get_by_role("link", name="Register a client").click()
    page.get_by_label("Name", exact=True).fill("Ferries by hand")
    page.get_by_label("client_credentials").check()
    page.get_by_label("authorization_code").uncheck()
    page.get_by_label("refresh_token").uncheck()
    page.get_by_label("manifest.read").check()
    page.get_by_role("button", name="List the steps").click()
    page.get_by_label(re.compile("Step 1 done")).check()
    expect(page.get_by_text("1 of 6 done; the ticks stay")).to_be_visible()
    page.reload()
    expect(page.get_by_label(re.compile("Step 1 done"))).to_be_checked()

    office = page.context.new_page()
    office.goto(f"{stand_ins.screens('staging')}/office")
    office.get_by_role("button", name="Enter").click()
    office.get_by_label("Name").fill("Ferries by hand")
    office.get_by_label("manifest.read").check()
    for box in office.locator("[name=grant]").all():
        box.set_checked(box.get_attribute("value") == "client_credentials")
    office.get_by_role("button", name="Add").click()
    client_id, secret_id, secret = (
        office.locator("td code").nth(place).inner_text() for place in range(3)
    )
    page.bring_to_front()  # a page behind another is drawn once a second

    page.get_by_role("textbox", name="Client ID").fill(f" {client_id} ")
    page.get_by_role("button", name="Enter value").click()
    expect(page.get_by_text("1 space cut from the end")).to_be_visible()
    page.get_by_role("link", name="Add connection").click()
    page.get_by_role("textbox", name="Client secret").fill(
        secret_id
    )  # the usual mistake: the ID where the value belongs
    page.get_by_role("button", name="Add connection").click()
    expect(page.locator("[data-pin=secret]")).to_have_attribute("data-fit", "not_proven")
    page.get_by_role("button", name="Test now").click()
    expect(page.locator("[data-rung=sign_in]")).to_contain_text(
        "invalid_client"
    )  # tried again while it may not have spread
    expect(
        page.get_by_text("The new credential may not have spread yet.")
    ).to_be_visible()  # it is half a minute old, and may be right
    page.get_by_role("button", name="replace").click()
    page.get_by_role("textbox", name="Client secret").fill(secret + "\n")
    put = page.get_by_role("button", name="Store secret")
    put.click()
    expect(put).to_have_count(0)  # its form closes, and moves the page
    page.get_by_role("button", name="Test now").click()
    expect(page.get_by_text("All rungs passed")).to_be_visible()
    expect(page.locator("[data-pin=secret]")).to_have_attribute("data-fit", "fits")
    assert page.errors == []  # type: ignore[attr-defined]


def test_an_application_described_by_hand(browser: Browser, empty_desk: Desk) -> None:
    """No metadata, no description: addresses and scopes are entered from its documents, and a
    client can be prepared.
    """
    page = open_page(browser, empty_desk)
    page.goto("/applications/new")
    page.get_by_label("Manually, from its documentation").check()
    for label, value in (
        ("Issuer", "https://ids.tides.example"),
        ("Authorization endpoint", "https://ids.tides.example/a"),
        ("Token endpoint", "https://ids.tides.example/t"),
        ("API base address", "http://tides.example/api"),
        ("Name", "Tide tables"),
    ):
        page.get_by_label(label, exact=True).fill(value)
    page.get_by_role("button", name="Add application").click()
    expect(
        page.get_by_text("It must be https, unless it is a loopback address.").first
    ).to_be_visible()
    page.get_by_label("API base address", exact=True).fill("https://tides.example/api")
    page.get_by_role("button", name="Add application").click()
    expect(page.get_by_role("heading", name="Tide tables", level=1)).to_be_visible()
    page.get_by_role("button", name="Enter scopes").click()
    page.get_by_role("button", name="Add a scope").click()
    page.get_by_label("Name of the new scope").fill("tide read")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("alert")).to_contain_text("is not a scope")
    page.get_by_label("Name of the new scope").fill("tide.read")
    page.get_by_label("Meaning of").fill("See the tides")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("cell", name="tide.read")).to_be_visible()
    page.get_by_role("link", name="Register a client").click()
    expect(page.get_by_role("checkbox", name="tide.read")).to_be_visible()
    assert page.errors == []  # type: ignore[attr-defined]
