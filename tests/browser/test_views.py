"""Every view with the demo in it: accessible in both themes, usable by keys, right for each role,
alive while things happen.
"""

from __future__ import annotations

import re
from collections.abc import Iterator

import pytest
from axe_playwright_python.base import AXE_SCRIPT
from playwright.sync_api import Browser, Page, expect

from tests.harness import Desk, StandIns

from .conftest import EMPTY, make_desk, open_page
from .steps import open_section, save_ours


@pytest.fixture(scope="module")
def page(browser: Browser, demo_desk: Desk) -> Iterator[Page]:
    found = open_page(browser, demo_desk)
    yield found
    assert found.errors == []  # type: ignore[attr-defined]
    found.context.close()


def addresses(page: Page) -> dict[str, str]:
    """One address for each view, found through the API that the page uses."""
    client = page.request.get("/api/clients?application=cargo-manifests").json()["items"]
    test = page.request.get("/api/connections/production/cargo-manifests").json()["last_test"]
    by_hand = next(item["id"] for item in client if not item["managed"])
    managed = next(item["id"] for item in client if item["managed"])
    return {
        "Today": "/",
        "Applications": "/applications",
        "Add an application": "/applications/new",
        "Application": "/applications/cargo-manifests",
        "Register a client": "/applications/cargo-manifests/clients/new",
        "Client": f"/clients/{managed}",
        "Client by hand": f"/clients/{by_hand}",
        "Connections": "/connections",
        "Add a connection": (
            f"/connections/new?application=cargo-manifests&environment=sandbox&client={managed}"
        ),
        "Names to join": "/connections/names",
        "Environments": "/environments",
        "Decommissioning": "/decommissioning",
        "Safe": "/safe",
        "Glossary": "/help",
        "Connection that differs": "/connections/production/cargo-manifests",
        "Connection that latches": "/connections/sandbox/cargo-manifests",
        "Connection not proven": "/connections/staging/cargo-manifests",
        "Test": f"/tests/{test}",
        "Credentials": "/credentials",
        "Programs": "/credentials/programs",
        "Rounds": "/rounds",
        "Round": "/rounds/1",
        "Journal": "/journal",
        "People": "/people",
        "Health": "/health",
        "Settings": "/settings",
        "Missing": "/nowhere",
    }


def violations(page: Page) -> list[str]:
    # A page that is still loading has no heading yet; what is judged is the page as a person reads
    # it.
    expect(page.locator("h1").first).to_be_visible()
    page.evaluate(AXE_SCRIPT)
    # Only what is wrong is described: describing the rest, too, takes twice as long. What else axe
    # would load is for media, of which there is none.
    run = (
        "options => axe.run({resultTypes: ['violations'], preload: false, "
        "...options}).then(found => found.violations)"
    )
    found = page.evaluate(run, {})
    # In the other theme everything is the same but its colours.
    page.emulate_media(color_scheme="dark", reduced_motion="reduce")
    found += page.evaluate(run, {"runOnly": ["color-contrast"]})
    page.emulate_media(color_scheme="light")
    return [
        f"{item['id']}: {node['target']} {node['failureSummary']}"
        for item in found
        for node in item["nodes"]
    ]


def test_no_view_runs_out_of_a_phones_screen(browser: Browser, demo_desk: Desk) -> None:
    """At 390 × 844 only parts of a page are moved sideways: the wall, a wide table."""
    page = open_page(browser, demo_desk)
    shown = addresses(page)
    page.set_viewport_size({"width": 390, "height": 844})
    wide = {}
    for name, address in shown.items():
        page.goto(address)
        expect(page.locator("h1").first).to_be_visible()
        expect(page.get_by_text("Reading …")).to_have_count(0)
        if (width := page.evaluate("document.documentElement.scrollWidth")) > 390:
            wide[name] = width
    assert wide == {}
    page.goto("/connections/production/cargo-manifests")
    line = page.get_by_role("region", name="Both halves, pin by pin")
    bars = line.locator("[data-pin=client_id] svg")
    assert bars.bounding_box()["width"] > 50  # type: ignore[index]
    page.get_by_role("button", name=re.compile("Test now")).click()
    expect(page.get_by_text("Last test")).to_be_visible()
    page.context.close()


def test_axe_finds_nothing_on_any_view(browser: Browser, demo_desk: Desk) -> None:
    page = open_page(browser, demo_desk)
    found: dict[str, list[str]] = {}
    for name, address in addresses(page).items():
        page.goto(address)
        expect(page.locator("h1").first).to_be_visible()
        expect(page.get_by_text("Reading …")).to_have_count(0)
        if broken := violations(page):
            found[name] = broken
    page.goto("/connections/production/cargo-manifests")
    for name in ("Edit our side", "Add workload"):
        page.get_by_role("button", name=name).click()
    page.get_by_role("button", name="replace").click()
    if broken := violations(page):
        found["Connection, forms open"] = broken
    page.get_by_role("button", name=re.compile("your menu")).click()
    page.get_by_role("button", name="All keys").click()
    if broken := violations(page):
        found["All keys"] = broken
    page.get_by_role("button", name="Close").click()
    page.get_by_role("button", name=re.compile("your menu")).click()
    page.get_by_role("button", name="Log out").click()
    expect(page.get_by_role("button", name="Log in")).to_be_visible()
    if broken := violations(page):
        found["Log in"] = broken
    assert found == {}


def test_the_chosen_theme_stays(browser: Browser, demo_desk: Desk) -> None:
    page = open_page(browser, demo_desk)
    page.get_by_role("button", name=re.compile("your menu")).click()
    page.get_by_label("Colours").select_option(label="Dark")
    page.reload()
    expect(page.locator("html")).to_have_attribute("data-theme", "night")
    assert violations(page) == []


def test_the_connection_of_the_sketch(page: Page) -> None:
    page.goto("/connections/production/cargo-manifests")
    expect(page.get_by_text("Two pins out of line")).to_be_visible()
    fits = {
        item.get_attribute("data-pin"): item.get_attribute("data-fit")
        for item in page.locator("[data-pin]").all()
    }
    assert [key for key, fit in fits.items() if fit == "differs"] == ["redirect_uri", "scopes"]
    assert list(fits) == [
        "issuer",
        "endpoints",
        "redirect_uri",
        "client_id",
        "secret",
        "client_sign_in",
        "grant",
        "scopes",
        "consent",
        "account",
        "route",
        "environment",
    ]
    expect(page.get_by_text("Needed by 1 of 3 workloads below.")).to_be_visible()
    expect(page.get_by_text("needs manifest.write")).to_be_visible()


def test_a_mirrored_half_is_not_proven(page: Page) -> None:
    page.goto("/connections/staging/cargo-manifests")
    expect(page.locator("[data-state]").first).to_have_attribute("data-state", "not_proven")
    expect(page.locator("[data-pin=secret]")).to_have_attribute("data-fit", "not_proven")
    expect(page.get_by_text("never tested")).to_be_visible()


def test_rungs_show_as_they_happen_and_a_test_can_be_stopped(
    page: Page, stand_ins: StandIns
) -> None:
    page.goto("/connections/sandbox/cargo-manifests")
    expect(page.get_by_role("heading", name="Last test")).to_be_visible()
    stand_ins.fault("hold", where="api", count=20)
    page.keyboard.press("t")
    ladder = page.locator("[data-test-state]")
    expect(ladder).to_have_attribute("data-test-state", "running")
    expect(page.locator("[data-rung=sign_in]")).to_contain_text("token alive")
    assert ladder.get_attribute("data-test-state") == "running"  # the rung was there before the end
    with page.expect_response(lambda answer: answer.url.endswith("/stops")):
        page.get_by_role("button", name="Stop").click()
    stand_ins.fault("none")  # the answer that was held comes, and nothing is sent after it
    expect(ladder).to_have_attribute("data-test-state", "stopped")
    page.keyboard.press("t")
    expect(page.get_by_text("All rungs passed")).to_be_visible()


def test_what_was_sent_is_followed_while_a_test_runs(page: Page, stand_ins: StandIns) -> None:
    stand_ins.fault("hold", where="api", count=50)  # until the fault is switched off below
    page.goto("/connections/sandbox/cargo-manifests")
    expect(page.locator("[data-test-state]")).to_have_attribute(
        "data-test-state", re.compile("done|stopped|cut|none")
    )  # else it would be joined
    with page.expect_response(
        lambda answer: answer.request.method == "POST" and answer.url.endswith("/tests")
    ) as begun:
        page.get_by_role("button", name=re.compile("Test now")).click()
    page.goto(f"/tests/{begun.value.json()['id']}")
    expect(page.get_by_text("it still runs")).to_be_visible()
    expect(page.get_by_role("heading", name=re.compile("Work"))).to_have_count(0)
    stand_ins.fault("none")
    expect(page.get_by_role("heading", name=re.compile("Work"))).to_be_visible()
    expect(page.get_by_text("it still runs")).to_be_hidden()


def test_a_round_shows_progress_and_can_be_stopped(page: Page, stand_ins: StandIns) -> None:
    stand_ins.fault("hold", where="api", count=50)
    page.goto("/rounds")
    page.get_by_role("button", name="Test all now").click()
    expect(page.get_by_role("progressbar")).to_be_visible()
    with page.expect_response(lambda answer: answer.url.endswith("/stops")):
        page.get_by_role("button", name="Stop the round").click()
    stand_ins.fault("none")
    expect(page.get_by_text(", stopped.")).to_be_visible()
    page.goto("/rounds")
    page.get_by_role("button", name="Test all now").click()
    expect(page.get_by_text(re.compile(r"2 of 2 tested, 1 failed\. It has ended"))).to_be_visible()
    expect(
        page.get_by_role("row", name="sandbox/cargo-manifests").get_by_text("passed")
    ).to_be_visible()


LEFTOVER = """
from uuid import uuid4
from neatlatch.desk.estate.records.connections.models import Connection
from neatlatch.desk.work.rounds.models import Leftover

connection = Connection.objects.get(ref="sandbox/cargo-manifests")
address = connection.values["api_base"] + "/nothing-like-it/TEST-1"
Leftover.objects.create(
    connection=connection,
    test_id=uuid4(),
    name="TEST-1 (T-204)",
    operation="POST /reports",
    known="made",
    method="DELETE",
    address=address,
    status=404,
    stuck=True,
)
"""


def test_what_a_test_left_behind_is_retried_and_closed(page: Page, demo_desk: Desk) -> None:
    demo_desk.python(LEFTOVER)
    page.goto("/")
    page.get_by_role("link", name="See what is left").click()
    row = page.locator("[data-leftover='TEST-1 (T-204)']")
    expect(row).to_contain_text("made, not seen")
    expect(row).to_contain_text("DELETE returned 404")
    page.get_by_role("button", name="Retry clearing TEST-1 (T-204)").click()
    expect(
        page.get_by_text("TEST-1 (T-204) is still left behind: DELETE returned 404.")
    ).to_be_visible()
    page.get_by_role("button", name="Close TEST-1 (T-204)").click()
    page.get_by_label("What became of it").fill("Deleted on their page.")
    assert violations(page) == []
    page.get_by_role("button", name="Close leftover").click()
    expect(page.get_by_text("TEST-1 (T-204) is closed.")).to_be_visible()
    expect(row).to_have_count(0)
    page.goto("/")
    expect(page.get_by_role("heading", level=1)).to_be_visible()
    expect(page.get_by_role("link", name="See what is left")).to_have_count(0)


def test_today_says_what_breaks_next(page: Page) -> None:
    page.goto("/")
    row = page.get_by_role("listitem").filter(has_text="Cargo manifests · Production")
    expect(row).to_contain_text("now")
    expect(row).to_contain_text("Redirect URI and scopes don't meet.")
    # Signing in fails; anyone who draws gets the token that is held, and only who lacks a scope is
    # stopped.
    expect(row).to_contain_text("The token that is held serves on. Customs return stopped.")
    expect(
        page.get_by_role(
            "img",
            name=re.compile("cargo-manifests, Unlatched: 12 pins, 2 differ: redirect URI, scopes"),
        )
    ).to_be_visible()
    row.get_by_role("link").click()
    expect(page).to_have_url(re.compile("/connections/production/cargo-manifests$"))
    page.go_back()
    expect(page.get_by_role("heading", name="What breaks next")).to_be_visible()


def test_finding_and_single_keys(page: Page) -> None:
    page.goto("/")
    expect(page.get_by_role("heading", name="What breaks next")).to_be_visible()
    page.keyboard.press("/")
    page.keyboard.type("staging")
    expect(page.get_by_role("option").first).to_contain_text("staging/cargo-manifests")
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("staging/cargo-manifests"))
    expect(page.get_by_role("button", name="Test now")).to_be_visible()
    page.keyboard.press("g")
    page.keyboard.press("c")
    expect(page.get_by_role("heading", name="Connections")).to_be_visible()
    expect(page.get_by_role("link", name="production/cargo-manifests", exact=True)).to_be_visible()
    page.keyboard.press("j")
    page.keyboard.press("j")
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("/connections/sandbox/cargo-manifests"))
    expect(page.get_by_role("button", name="Edit our side")).to_be_visible()
    page.keyboard.press("?")
    expect(page.get_by_role("dialog")).to_be_visible()
    page.keyboard.press("Escape")
    page.keyboard.press("e")
    expect(page.get_by_role("button", name="Save")).to_be_visible()


def test_more_is_opened_and_left_by_keys(page: Page) -> None:
    page.goto("/")
    expect(page.get_by_role("heading", name="What breaks next")).to_be_visible()
    more = page.get_by_role("button", name="More", exact=True)
    page.keyboard.press("g")
    page.keyboard.press("m")
    expect(more).to_have_attribute("aria-expanded", "true")
    expect(page.get_by_role("link", name="Certificates", exact=True)).to_be_focused()
    page.keyboard.press("Escape")
    expect(more).to_be_focused()
    expect(more).to_have_attribute("aria-expanded", "false")
    more.press("Enter")
    page.keyboard.press("Tab")
    page.keyboard.press("Tab")
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("/credentials/house"))
    expect(more).to_have_attribute("aria-expanded", "false")
    page.keyboard.press("g")
    page.keyboard.press("i")
    expect(page.get_by_role("heading", name="Inventory", exact=True)).to_be_visible()


def test_on_a_phone_more_holds_what_does_not_fit(browser: Browser, demo_desk: Desk) -> None:
    page = open_page(browser, demo_desk, "isla")
    page.set_viewport_size({"width": 390, "height": 844})
    sections = page.get_by_role("navigation", name="Sections")
    expect(sections.get_by_role("link", name="Workloads")).to_have_count(0)
    sections.get_by_role("button", name="More").click()
    expect(sections.get_by_role("link", name="Journal")).to_have_count(0)  # a reader's
    assert page.evaluate("document.documentElement.scrollWidth") <= 390
    sections.get_by_role("link", name="Workloads").click()
    expect(page.get_by_role("heading", name="Workloads")).to_be_visible()
    page.context.close()


def test_the_filter_stands_in_the_address(page: Page) -> None:
    page.goto("/connections")
    page.get_by_label("Filter", exact=True).fill("env:production pin:scopes")
    expect(page.locator("[data-row]")).to_have_count(1)
    expect(page).to_have_url(re.compile("words=env"))
    page.reload()
    expect(page.locator("[data-row]")).to_have_count(1)
    page.get_by_label("Filter", exact=True).fill("nothing-like-this")
    page.get_by_role("button", name="Show all").click()
    expect(page.locator("[data-row]")).to_have_count(3)


def test_a_reader_looks_and_an_auditor_reads_the_journal(browser: Browser, demo_desk: Desk) -> None:
    page = open_page(browser, demo_desk, "isla")
    page.goto("/connections/production/cargo-manifests")
    expect(page.get_by_text("Two pins out of line")).to_be_visible()
    for name in (
        "Test now",
        "Edit our side",
        "Use the provider's",
        "Sign in again",
        "Add workload",
    ):
        expect(page.get_by_role("button", name=name)).to_have_count(0)
    page.goto("/journal")
    expect(page.locator("[data-may-not]")).to_contain_text(
        "read the journal (administrators and auditors)"
    )
    auditor = open_page(browser, demo_desk, "hamish")
    auditor.goto("/journal")
    expect(auditor.get_by_text(re.compile("It holds over"))).to_be_visible()
    auditor.get_by_label("Filter", exact=True).fill("registered client")
    expect(auditor.get_by_role("row").nth(1)).to_contain_text("registered")


def test_two_people_edit_and_the_second_is_told(
    browser: Browser, demo_desk: Desk, page: Page
) -> None:
    page.goto("/connections/sandbox/cargo-manifests")
    page.get_by_role("button", name="Edit our side").click()
    other = open_page(browser, demo_desk)
    other.goto("/connections/sandbox/cargo-manifests")
    other.get_by_role("button", name="Edit our side").click()
    other.get_by_label("Most calls a second").fill("7")
    other.get_by_role("button", name="Save").click()
    expect(other.get_by_role("button", name="Save")).to_have_count(0)
    page.get_by_label("Most calls a second").fill("9")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_text("Somebody changed this in the meantime.")).to_be_visible()
    expect(page.get_by_label("Most calls a second")).to_have_value(
        "9"
    )  # what was typed is still there


def test_two_people_set_up_and_what_both_typed_is_no_silent_overwrite(
    browser: Browser, demo_desk: Desk
) -> None:
    """Anyone who comes second is told, keeps what they typed, sees what else was changed, and saves
    knowingly.
    """
    mine, theirs = pages = [open_page(browser, demo_desk), open_page(browser, demo_desk)]
    for page in pages:
        page.goto("/connections/staging/cargo-manifests/set-up")
        open_section(page, "Our side")
    api, token = "API base address", "Token endpoint"
    before = mine.get_by_label(api).input_value()

    def refused(page: Page, label: str, typed: str) -> None:
        page.get_by_role("button", name="Save our side").click()
        expect(page.get_by_text("Somebody changed this in the meantime.")).to_be_visible()
        expect(page.get_by_label(label)).to_have_value(typed)

    there = mine.get_by_label(token).input_value() + "/mine"
    mine.get_by_label(token).fill(there)
    theirs.get_by_label(api).fill(f"{before}/theirs")
    save_ours(theirs)
    refused(mine, token, there)
    expect(mine.get_by_label(api)).to_have_value(f"{before}/theirs")
    save_ours(mine)
    # Now both change the same.
    theirs.get_by_label(api).fill(f"{before}/again")
    mine.get_by_label(api).fill(before)
    save_ours(mine)
    refused(theirs, api, f"{before}/again")
    expect(theirs.get_by_label(token)).to_have_value(there)
    save_ours(theirs)
    for page in pages:
        assert page.errors == []  # type: ignore[attr-defined]
        page.context.close()


def test_copied_as_curl_without_the_token(browser: Browser, demo_desk: Desk) -> None:
    page = open_page(browser, demo_desk, permissions=["clipboard-read", "clipboard-write"])
    page.goto("/connections/sandbox/cargo-manifests")
    page.get_by_role("button", name=re.compile("Copy as curl")).click()
    expect(page.get_by_text("Copied")).to_be_visible()
    line = page.evaluate("navigator.clipboard.readText()")
    assert line.startswith("curl ")
    assert "Bearer $TOKEN" in line


def test_a_shown_secret_hides_itself(browser: Browser, stand_ins: StandIns) -> None:
    """After 60 seconds, or when the page loses the focus; and it is never shown a second time."""
    from tests.settings import HOME_OF_TESTS

    desk = make_desk(HOME_OF_TESTS / "handover", stand_ins, EMPTY, rounds=False)
    try:
        page = open_page(browser, desk)
        page.goto("/applications/new")
        page.get_by_label("Metadata address or issuer").fill(stand_ins.issuer())
        page.get_by_label("Name", exact=True).fill("Cargo manifests")
        page.get_by_role("button", name="Add application").click()
        expect(page.get_by_role("heading", name="Cargo manifests", level=1)).to_be_visible()
        for way in ("time", "focus"):
            page.goto("/applications/cargo-manifests/clients/new")
            page.get_by_label("Name", exact=True).fill(f"Hides by {way}")
            page.get_by_label("manifest.read").check()
            if way == "time":
                page.clock.install()
            page.get_by_role("button", name="Register", exact=True).click()
            page.get_by_role("button", name="Show secret once").click()
            secret = page.locator("[data-secret]").inner_text()
            if way == "time":
                page.clock.fast_forward(61_000)
            else:
                page.evaluate("window.dispatchEvent(new Event('blur'))")
            expect(page.locator("[data-secret]")).to_have_count(0)
            assert secret not in page.content()
            page.reload()
            expect(page.get_by_role("heading", name=f"Hides by {way}")).to_be_visible()
            expect(page.get_by_role("button", name="Show secret once")).to_have_count(0)
    finally:
        desk.kill()


def test_a_reader_is_told_at_once_what_they_may_not(browser: Browser, demo_desk: Desk) -> None:
    """F13: whole forms were shown, and the refusal came after sending."""
    page = open_page(browser, demo_desk, "isla")
    told = page.locator("[data-may-not]")
    for address, words in (
        ("/connections/production/cargo-manifests", "change either half (administrators)"),
        ("/rounds", "begin a round (operators and administrators)"),
        ("/applications/new", "add an application (administrators)"),
        ("/connections/new?application=cargo-manifests", "make a connection (administrators)"),
    ):
        page.goto(address)
        expect(told).to_contain_text(words)
    expect(page.locator("#main form")).to_have_count(0)
    expect(page.get_by_role("heading", name="Not for your role")).to_be_visible()
    page.goto("/")
    expect(page.get_by_role("heading", name="What breaks next")).to_be_visible()
    expect(told).to_have_count(0)
    page.context.close()


def test_the_list_of_connections_follows_without_a_reload(
    browser: Browser, demo_desk: Desk
) -> None:
    """F11: it never asked again."""
    page = open_page(browser, demo_desk)
    page.clock.install()
    page.goto("/connections")
    row = page.locator(
        "tr", has=page.get_by_role("link", name="sandbox/cargo-manifests", exact=True)
    )
    expect(row).to_be_visible()
    expect(row).not_to_contain_text("not in rounds")
    other = open_page(browser, demo_desk)
    other.goto("/connections/sandbox/cargo-manifests")
    other.get_by_role("button", name="Edit our side").click()
    other.get_by_label("Leave it out of the rounds").check()
    other.get_by_role("button", name="Save", exact=True).click()
    expect(other.get_by_label("Leave it out of the rounds")).to_have_count(0)
    page.clock.fast_forward(21_000)
    expect(row).to_contain_text("not in rounds")
    other.get_by_role("button", name="Edit our side").click()
    other.get_by_label("Leave it out of the rounds").uncheck()
    other.get_by_role("button", name="Save", exact=True).click()
    expect(other.get_by_label("Leave it out of the rounds")).to_have_count(0)
    page.context.close()
    other.context.close()
