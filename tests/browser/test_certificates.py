"""Certificates and the replacing of credentials, as people use them in the browser."""

from __future__ import annotations

import re
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect

from neatlatch.demo.visitor import OfficeVisitor
from tests.harness import Desk, StandIns

from .conftest import make_desk, open_page
from .test_views import violations

VECTORS = Path(__file__).parents[1] / "vectors" / "certs"
FILL = """
import json
from neatlatch.demo.load import load
made = load(PORT, only=("crew-roster", "lost-property"))
print(json.dumps({name: word for name, (role, word) in made.items()}))
"""


@pytest.fixture(scope="module")
def desk(stand_ins: StandIns) -> Iterator[Desk]:
    from tests.settings import HOME_OF_TESTS

    found = make_desk(
        HOME_OF_TESTS / "certificates",
        stand_ins,
        FILL.replace("PORT", str(stand_ins.port)),
        rounds=False,
    )
    yield found
    found.kill()


@pytest.fixture
def page(browser: Browser, desk: Desk) -> Iterator[Page]:
    found = open_page(browser, desk)
    yield found
    found.context.close()


def test_reading_any(page: Page) -> None:
    page.goto("/certificates")
    page.get_by_role("link", name="Read any certificate").click()
    chain = "".join(
        (VECTORS / name).read_text() for name in ("leaf-good.pem", "intermediate.pem", "root.pem")
    )
    page.get_by_label("Pasted (PEM)").fill(chain)
    page.get_by_label("At this moment").fill("2026-06-01T00:00")
    page.get_by_role("button", name="Read certificate").click()
    expect(page.get_by_text("The chain is good.")).to_be_visible()
    drawn = page.get_by_role(
        "img",
        name=re.compile("Open Root, root.*www.good.example, certificate.*the first to expire"),
    )
    expect(drawn).to_be_visible()
    expect(page.get_by_text("31 Dec 2026", exact=True)).to_be_visible()
    page.get_by_label("Called by this name").fill("another.example")
    page.get_by_role("button", name="Read certificate").click()
    expect(page.get_by_text("It is for another name.")).to_be_visible()
    page.get_by_role("button", name="Its root").click()
    expect(
        page.get_by_text("16:AB:21:C5", exact=False)
    ).to_be_visible()  # 06-certificates.json, certificate_facts of root.pem
    assert violations(page) == []

    page.get_by_label("Called by this name").fill("")
    page.get_by_label("Or a file").set_input_files(VECTORS / "leaf-good.p12")
    expect(page.get_by_text("its password is needed")).to_be_visible()
    page.get_by_label("Its password, if it has one").fill("changeit")
    page.get_by_role("button", name="Read certificate").click()
    expect(page.get_by_text("The private key in it is this certificate’s.")).to_be_visible()
    page.get_by_label("Pasted (PEM)").fill((VECTORS / "request-broken.csr.pem").read_text())
    page.get_by_role("button", name="Read certificate").click()
    expect(page.get_by_text("Its signature does not hold", exact=False)).to_be_visible()
    page.get_by_label("Pasted (PEM)").fill("-----BEGIN CERTIFICATE-----\nAAAA")
    page.get_by_role("button", name="Read certificate").click()
    expect(page.get_by_role("alert")).to_contain_text("the text was cut")


def test_one_is_issued_packed_renewed_and_revoked(page: Page, tmp_path: Path) -> None:
    page.goto("/applications/crew-roster/clients/new?environment=production")
    page.get_by_label("What it is").select_option(label="A certificate, shown in TLS")
    page.get_by_label("Name", exact=True).fill("Bunk list")
    page.get_by_role("button", name="Issue client").click()
    page.get_by_role("button", name="Pack it as PKCS#12").click()
    page.get_by_label("Whom it is for").fill("Crewing")
    with page.expect_download() as waiting:
        page.get_by_role("button", name="Create file").click()
    file = tmp_path / "bunk.p12"
    waiting.value.save_as(file)
    password = page.locator("[data-secret]").inner_text()
    opened = subprocess.run(
        ["openssl", "pkcs12", "-in", str(file), "-nodes", "-passin", f"pass:{password}"],
        capture_output=True,
        text=True,
        check=False,
    )
    assert opened.returncode == 0, opened.stderr
    assert "CN = Bunk list" in opened.stdout
    page.get_by_role("button", name="I have both").click()
    expect(page.locator("[data-secret]")).to_have_count(0)
    page.get_by_role("link", name="Its chain, renew, revoke").click()
    expect(page.get_by_text("The chain is good.")).to_be_visible()
    first = page.url
    page.get_by_role("button", name="Renew certificate").click()
    page.get_by_role("button", name="Issue the new one").click()
    expect(page.get_by_role("link", name="The one it replaces")).to_be_visible()
    page.get_by_role("button", name="I do not need to see it").click()
    page.goto(first)
    page.get_by_role("button", name="Revoke certificate").click()
    page.get_by_label("Reason on the list").select_option("keyCompromise")
    assert violations(page) == []
    page.get_by_role("button", name=re.compile("^Revoke …")).click()
    expect(page.get_by_text("revoked", exact=True)).to_be_visible()
    page.goto("/certificates?environment=production")
    expect(page.get_by_role("row", name=re.compile("Bunk list.*keyCompromise"))).to_be_visible()


def test_a_workload_is_given_a_certificate_to_draw_with(page: Page) -> None:
    page.goto("/workloads")
    page.get_by_role("link", name="Rest hours check").click()
    page.get_by_role("button", name="Add key").click()
    page.get_by_label("What", exact=True).select_option(
        label="A certificate, presented at the TLS listener"
    )
    page.get_by_role("button", name="Issue key", exact=True).click()
    expect(page.get_by_text("a certificate, relay only", exact=True)).to_be_visible()
    page.get_by_role("button", name="Show secret once").click()
    expect(page.locator("[data-secret]")).to_contain_text("BEGIN PRIVATE KEY")
    page.get_by_role("button", name="I have it").click()
    expect(page.locator("[data-secret]")).to_have_count(0)


def test_the_authority_is_replaced_in_its_order(page: Page) -> None:
    page.goto("/certificates?environment=production")
    page.get_by_role("button", name="See the order").click()
    page.get_by_role("button", name="Create new authority").click()
    expect(page.get_by_role("heading", name="Being replaced")).to_be_visible()
    expect(page.get_by_role("button", name="Mark as trusting").first).to_be_visible()
    count = page.get_by_role("button", name="Mark as trusting").count()
    assert count >= 2
    for left in range(count, 0, -1):
        expect(page.get_by_role("button", name="Mark as trusting")).to_have_count(left)
        page.get_by_role("button", name="Mark as trusting").first.click()
    page.get_by_role("button", name="Issue below the new one").click()
    expect(page.get_by_role("button", name="Issue below the old one again")).to_be_visible()
    expect(page.get_by_role("link", name="Crew tablet").last).to_be_visible()
    assert violations(page) == []
    page.get_by_role("button", name="Issue below the old one again").click()
    expect(page.get_by_role("button", name="Issue below the new one")).to_be_visible()


def test_a_credential_is_replaced_by_hand(page: Page, stand_ins: StandIns) -> None:
    held = page.request.get(
        "/api/credentials?words=connection:lost-property env:production"
    ).json()["items"]
    old = next(item for item in held if item["connections"] == ["production/lost-property"])
    page.goto(f"/credentials/{old['id']}")
    page.get_by_role("button", name="Replace credential").click()
    expect(page.get_by_text("Both live side by side", exact=False)).to_be_visible()
    assert violations(page) == []
    page.get_by_role("button", name="Begin").click()
    expect(page.get_by_role("heading", name=re.compile("^Replacing"))).to_be_visible()
    office = OfficeVisitor(stand_ins.office("lost", "production").rpartition("/")[0], "production")
    value = office.make("the new one", "svc-lost", "clerk")["Token"]
    page.get_by_label("The new value").fill(f" {value} ")
    page.get_by_role("button", name="Store value").click()
    page.get_by_role("button", name="Try it at the application").click()
    expect(page.get_by_text("The new one works", exact=False)).to_be_visible()
    page.get_by_role("button", name="Switch over").click()
    by_hand = page.get_by_label("Found items page has been changed manually")
    expect(page.get_by_text("Still to be moved manually: Found items page")).to_be_visible()
    by_hand.check()
    expect(page.get_by_text("Nobody was seen with it yet, but the switch was only")).to_be_visible()
    by_hand.uncheck()  # a tick made by mistake, taken back
    expect(page.get_by_text("Still to be moved manually: Found items page")).to_be_visible()
    by_hand.check()
    assert violations(page) == []
    page.get_by_label("Retire it all the same").check()
    page.get_by_role("button", name="It is withdrawn there").click()
    page.get_by_role("button", name="Try the old one").click()
    expect(page.get_by_text("It is still accepted", exact=False)).to_be_visible()
    listed = office.web.get(office.screens).text
    name = re.findall(rf"<td>{re.escape(old['client'])}<td><code>([^<]+)</code>", listed)[-1]
    office.web.post(f"{office.screens}/{name}/end")
    page.get_by_role("button", name="Try the old one").click()
    expect(page.get_by_text("done", exact=True)).to_be_visible()


def test_axe_finds_nothing(browser: Browser, desk: Desk) -> None:
    page = open_page(browser, desk)
    one = page.request.get("/api/certificates").json()["items"][0]["id"]
    found = {}
    for address in (
        "/certificates",
        "/certificates/read",
        f"/certificates/{one}",
        f"/credentials/{one}?act=replace",
    ):
        page.goto(address)
        expect(page.locator("h1").first).to_be_visible()
        expect(page.get_by_text("Reading …")).to_have_count(0)
        if broken := violations(page):
            found[address] = broken
    assert found == {}
    page.context.close()
