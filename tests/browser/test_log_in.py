"""One's own log-in in the browser, with a passkey of Chromium's own virtual authenticator; and
leave for what is held to go elsewhere.
"""

from __future__ import annotations

import base64
import re
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from typing import Any

import pytest
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.twofactor.totp import TOTP
from playwright.sync_api import Browser, Page, expect

from tests.harness import Desk, StandIns
from tests.settings import HOME_OF_TESTS

from .conftest import EMPTY, PASSWORD, make_desk, open_page
from .test_views import violations

CONNECTION = """
from django.utils import timezone
from neatlatch.desk.estate.applications import services as applications
from neatlatch.desk.estate.connections import services as connections
from neatlatch.desk.ground.people.models import Person

by = Person.objects.get(username="morag")
deployment = applications.add_manually(
    by,
    "Tide tables",
    "sandbox",
    {"api_base": "https://localhost:9/tides"},
    {"schemes": [{"key": "api_key"}]},
)
connections.create(
    by,
    deployment,
    "tide-tables",
    "api_key",
    None,
    {"api_base": "https://localhost:9/tides"},
    [],
    {"api_key": "hush-key-of-the-tides"},
)
"""


@pytest.fixture(scope="module")
def desk(stand_ins: StandIns) -> Iterator[Desk]:
    """A desk that is opened by a name, as passkeys want it."""
    found = make_desk(HOME_OF_TESTS / "log-in", stand_ins, EMPTY, rounds=False, host="localhost")
    found.python(CONNECTION)
    yield found
    found.kill()


def authenticator(page: Page) -> Any:
    """A device that makes passkeys and knows who holds it; returns how to switch that off."""
    session = page.context.new_cdp_session(page)
    session.send("WebAuthn.enable")
    options = {
        "protocol": "ctap2",
        "transport": "internal",
        "hasResidentKey": True,
        "hasUserVerification": True,
        "isUserVerified": True,
        "automaticPresenceSimulation": True,
    }
    made = session.send("WebAuthn.addVirtualAuthenticator", {"options": options})["authenticatorId"]
    return lambda yes: session.send(
        "WebAuthn.setUserVerified", {"authenticatorId": made, "isUserVerified": yes}
    )


def log_out(page: Page) -> None:
    page.get_by_role("button", name=re.compile("your menu")).click()
    page.get_by_role("button", name="Log out", exact=True).click()
    expect(page.get_by_role("button", name="Log in")).to_be_visible()


def enter(page: Page, who: str, password: str) -> None:
    page.get_by_label("Login name").fill(who)
    page.get_by_label("Password", exact=True).fill(password)
    page.get_by_role("button", name="Log in").click()


def test_codes_and_recovery_codes(browser: Browser, desk: Desk) -> None:
    page = open_page(browser, desk, "isla")
    page.goto("/me")
    page.get_by_role("button", name="Set them up").click()
    page.get_by_label("Your password").fill("not it")
    page.get_by_role("button", name="Set up one-time codes").click()
    expect(page.get_by_text("This is not your password.")).to_be_visible()
    page.get_by_label("Your password").fill(PASSWORD)
    page.get_by_role("button", name="Set up one-time codes").click()
    secret = base64.b32decode(page.locator("code.value").inner_text())
    reference = TOTP(secret, 6, hashes.SHA1(), 30)
    page.get_by_label("Code").fill("000000")
    page.get_by_role("button", name="Confirm device").click()
    expect(page.get_by_role("alert")).to_contain_text("not the code")
    assert violations(page) == []
    page.get_by_label("Code").fill(reference.generate(datetime.now(UTC).timestamp()).decode())
    page.get_by_role("button", name="Confirm device").click()
    expect(page.get_by_role("heading", name="Your recovery codes")).to_be_visible()
    codes = page.get_by_role("listitem").all_inner_texts()
    assert len(codes) == 10
    assert violations(page) == []
    page.get_by_role("button", name="I have kept them").click()
    expect(page.get_by_text(codes[0])).to_have_count(0)
    log_out(page)
    enter(page, "isla", PASSWORD)
    # The next step's code: the one that confirmed it serves once.
    page.get_by_label("Code of your second factor").fill(
        reference.generate((datetime.now(UTC) + timedelta(seconds=30)).timestamp()).decode()
    )
    page.get_by_role("button", name="Log in").click()
    expect(page.get_by_role("navigation", name="Sections")).to_be_visible()
    log_out(page)
    enter(page, "isla", PASSWORD)
    page.get_by_label("Code of your second factor").fill(codes[3])
    page.get_by_role("button", name="Log in").click()
    expect(page.get_by_role("navigation", name="Sections")).to_be_visible()
    page.goto("/me")
    expect(page.get_by_text("9 of 10 are left.")).to_be_visible()
    assert page.errors == []  # type: ignore[attr-defined]


def sign_with_a_passkey(page: Page) -> None:
    """The browser's dialog stands before the page until it has signed, but that of a virtual
    authenticator does not.
    """
    page.get_by_role("button", name="Use a passkey").click()
    expect(page.get_by_text("Your passkey has signed.")).to_be_visible()


def test_a_passkey_and_leave_to_go_elsewhere(browser: Browser, desk: Desk) -> None:
    page = open_page(browser, desk)
    verified = authenticator(page)
    page.goto("/me")
    page.get_by_role("button", name="Add a passkey").click()
    page.get_by_label("What you call it").fill("Harbour laptop")
    page.get_by_label("Your password").fill(PASSWORD)
    verified(False)
    page.get_by_role("button", name="Add the passkey").click()
    expect(page.get_by_role("alert")).to_contain_text("No passkey was used")
    verified(True)
    page.get_by_role("button", name="Add the passkey").click()
    page.get_by_role("button", name="I have kept them").click()
    expect(page.get_by_text("Harbour laptop")).to_be_visible()
    log_out(page)
    enter(page, "morag", PASSWORD)
    sign_with_a_passkey(page)
    page.get_by_role("button", name="Log in").click()
    expect(page.get_by_role("navigation", name="Sections")).to_be_visible()

    def move(port: int) -> None:
        page.goto("/connections/sandbox/tide-tables")
        page.get_by_role("button", name="Edit our side").click()
        page.get_by_label("API base address").fill(f"https://localhost:{port}/tides")
        page.get_by_role("button", name="Save", exact=True).click()
        expect(
            page.get_by_role("heading", name="This would send what is held to another server")
        ).to_be_visible()

    move(10)
    assert violations(page) == []
    page.get_by_role("button", name="Change nothing").click()
    expect(page.get_by_role("alert")).to_contain_text("Nothing was saved")
    move(10)
    page.get_by_label("Why it may go there").fill("Their API moved")
    sign_with_a_passkey(page)
    page.get_by_role("button", name="Send it there").click()
    expect(page.get_by_role("alert").filter(has_text="younger than a day")).to_be_visible()
    desk.python(
        "from django.utils import timezone; from datetime import timedelta; from "
        "neatlatch.desk.ground.people.models import Passkey; "
        "Passkey.objects.update(added=timezone.now() - timedelta(days=2))"
    )
    sign_with_a_passkey(page)
    page.get_by_role("button", name="Send it there").click()
    expect(
        page.get_by_role("heading", name="This would send what is held to another server")
    ).to_be_hidden()
    page.goto("/journal")
    expect(page.get_by_role("cell", name="revealed to")).to_be_visible()
    move(11)
    page.get_by_role("button", name="Discard it").click()
    page.get_by_role("button", name="Save and discard it").click()
    expect(
        page.get_by_role("heading", name="This would send what is held to another server")
    ).to_be_hidden()
    page.goto("/journal")
    expect(page.get_by_role("cell", name="discarded what was held")).to_be_visible()
    assert page.errors == []  # type: ignore[attr-defined]


def test_a_password_that_was_given_and_ones_sessions(browser: Browser, desk: Desk) -> None:
    desk.python(
        "from neatlatch.desk.ground.common.actors import NOBODY; from "
        "neatlatch.desk.ground.people import factors, services; from "
        "neatlatch.desk.ground.people.models import Person; "
        f"services.add(NOBODY, 'ann', 'Ann', 'administrator', {PASSWORD!r}); "
        f"services.add(NOBODY, 'iain', 'Iain', 'reader', {PASSWORD!r})"
    )
    desk.passwords |= {"ann": PASSWORD, "iain": PASSWORD}  # type: ignore[attr-defined]
    page = open_page(browser, desk, "ann")
    page.goto("/people")
    page.get_by_role("button", name="Give Iain a new password").click()
    page.get_by_label("Password for Iain").fill("short")
    page.get_by_role("button", name="Set password").click()
    expect(page.get_by_text("too short")).to_be_visible()
    page.get_by_label("Password for Iain").fill("tern-ballast-coracle")
    assert violations(page) == []
    page.get_by_role("button", name="Set password").click()
    expect(page.get_by_text("must change it")).to_be_visible()
    other = browser.new_context(base_url=desk.url).new_page()
    other.goto("/")
    enter(other, "iain", "tern-ballast-coracle")
    other.get_by_label("New password").fill("osprey-bollard-fathom")
    assert violations(other) == []
    other.get_by_role("button", name="Log in").click()
    expect(other.get_by_text("Ann gave you a new password.")).to_be_visible()
    third = browser.new_context(base_url=desk.url).new_page()
    third.goto("/")
    enter(third, "iain", "osprey-bollard-fathom")
    expect(third.get_by_role("navigation", name="Sections")).to_be_visible()
    other.goto("/me")
    other.get_by_role("button", name="End session", exact=True).click()
    expect(other.get_by_role("button", name="End session", exact=True)).to_have_count(0)
    third.goto("/people")
    expect(third.get_by_role("button", name="Log in")).to_be_visible()
    other.get_by_role("button", name="Change password").click()
    other.get_by_label("The one you have").fill("osprey-bollard-fathom")
    other.get_by_label("The new one").fill("tern-ballast-coracle")
    other.get_by_role("button", name="Change password").click()
    expect(other.get_by_text("It is changed.")).to_be_visible()
    other.get_by_role("button", name="Log out everywhere").click()
    expect(other.get_by_role("button", name="Log in")).to_be_visible()


def test_by_an_ip_address_the_page_says_that_passkeys_do_not_work(
    browser: Browser, empty_desk: Desk
) -> None:
    page = open_page(browser, empty_desk)
    page.goto("/me")
    expect(page.get_by_text("They do not work here")).to_be_visible()
    assert violations(page) == []
