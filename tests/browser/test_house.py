"""The house authority, handing over and drawing, as people use them in the browser."""

from __future__ import annotations

import re
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path
from urllib.parse import parse_qs, urlsplit

import httpx
import pytest
from playwright.sync_api import Browser, Page, expect

from tests.harness import NOBODY, Desk, StandIns

from .conftest import EMPTY, make_desk, open_page
from .test_views import violations

FILL = (
    EMPTY
    + """
from neatlatch.desk.estate.applications import services as applications
from neatlatch.desk.estate.applications.shipped import shipped
from neatlatch.desk.ground.people.models import Person

kept = shipped()["berth-booking"]
values = {
    "api_base": "https://berths.example/api",
    "issuer": "https://own.example",
    "token_endpoint": "https://own.example/token",
}
applications.add_manually(
    Person.objects.get(username="morag"),
    kept["name"],
    "sandbox",
    values,
    kept["profile"],
    "",
    "Quays",
)
print(logins)
"""
)
CHALLENGE = "E9Melhoa2OwvFrEMTJguCHaoeK1t8URWbuGJSstw-cM"  # RFC 7636 App. B


@pytest.fixture(scope="module")
def desk(stand_ins: StandIns) -> Iterator[Desk]:
    from tests.settings import HOME_OF_TESTS

    found = make_desk(
        HOME_OF_TESTS / "house",
        stand_ins,
        FILL.replace("print(json.dumps(", "logins = (json.dumps("),
        rounds=False,
    )
    yield found
    found.kill()


def issue(page: Page, name: str, kind: str = "A client of OAuth 2.0") -> None:
    """From the authority's page to a client that is issued."""
    page.goto("/credentials/house?environment=sandbox")
    page.get_by_role("link", name="Issue a client").click()
    page.get_by_label("Name", exact=True).fill(name)
    page.get_by_label("What it is").select_option(label=kind)
    if kind.startswith("A client"):
        page.get_by_label("authorization_code").uncheck()
        page.get_by_label("refresh_token").uncheck()
        page.get_by_label("client_credentials").check()
    page.get_by_label("berths.read").check()
    page.get_by_role("button", name="Issue client").click()
    expect(page.get_by_role("heading", name=name, level=1)).to_be_visible()


def test_an_application_is_added_and_a_secret_handed_over_by_link(
    browser: Browser, desk: Desk
) -> None:
    page = open_page(browser, desk)
    page.goto("/credentials/house?environment=sandbox")
    expect(page.get_by_text("None yet.")).to_be_visible()
    page.get_by_label("Add an application").select_option(label="Berth booking")
    page.get_by_role("button", name="Add application", exact=True).click()
    expect(page.get_by_role("link", name="Berth booking")).to_be_visible()
    issue(page, "Quay board")
    page.get_by_role("button", name="Send a link that serves once").click()
    page.get_by_label("Whom it is for").fill("Rhona of Quays")
    page.get_by_role("button", name="Create link and code").click()
    address, code = (page.locator("code.value").nth(at) for at in (0, 1))
    link, digits = address.inner_text(), code.inner_text()

    other = browser.new_context(
        base_url=desk.url, viewport={"width": 1280, "height": 800}
    ).new_page()
    other.goto(link)
    assert violations(other) == []
    wrong = "0000 0000" if digits != "0000 0000" else "1"
    other.get_by_label("The code you were given").fill(wrong)
    other.get_by_label("Your name").fill("Rhona Flett")
    other.get_by_role("button", name="Show it to me").click()
    expect(other.get_by_text("This is not the code. 4 more tries.")).to_be_visible()
    assert other.get_by_label("Your name").input_value() == "Rhona Flett"
    other.get_by_label("The code you were given").fill(digits)
    other.get_by_role("button", name="Show it to me").click()
    secret = other.locator("[data-secret]").inner_text()
    assert secret.startswith("nls_sandbox_")
    other.get_by_role("button", name="I have it").click()
    expect(other.get_by_text("You took it.")).to_be_visible()
    other.reload()
    expect(other.get_by_text("This link was used, or has expired")).to_be_visible()

    page.goto("/credentials/handovers")
    row = page.locator("[data-row]").filter(has_text="Rhona of Quays")
    expect(row).to_contain_text("by Rhona Flett")
    row.get_by_role("link", name="Quay board").click()
    client_id = page.locator("dd.value").first.inner_text()
    ask = {"data": {"grant_type": "client_credentials"}, "auth": (client_id, secret)}
    assert (
        httpx.post(f"{desk.url}/house/sandbox/token", **ask, timeout=30, verify=NOBODY).status_code
        == 200
    )  # type: ignore[arg-type]
    expect(page.get_by_role("button", name=re.compile("^End token"))).to_have_count(1)
    assert violations(page) == []
    page.get_by_role("button", name="Revoke secret").click()
    expect(page.get_by_text("and its 1 living token with it")).to_be_visible()
    page.get_by_label("Why").fill("it leaked")
    page.get_by_role("button", name=re.compile("^Revoke …")).click()
    expect(page.get_by_text("revoked", exact=True)).to_be_visible()
    expect(page.get_by_role("button", name=re.compile("^End token"))).to_have_count(0)
    assert (
        httpx.post(f"{desk.url}/house/sandbox/token", **ask, timeout=30, verify=NOBODY).status_code
        == 401
    )  # type: ignore[arg-type]
    expect(page.get_by_text("secret revoked")).to_be_visible()  # told here, not to the caller
    assert page.errors == []  # type: ignore[attr-defined]


def test_a_person_is_asked_and_allows_or_refuses(browser: Browser, desk: Desk) -> None:
    back = f"{desk.url}/somewhere"
    code = f"""
from neatlatch.core.registration import ClientMetadata
from neatlatch.desk.estate.records.applications.models import Deployment
from neatlatch.desk.authority.house import issuing
from neatlatch.desk.ground.people.models import Person

Deployment.objects.update(house=True)
deployment = Deployment.objects.select_related("application", "environment").get()
fields = ClientMetadata(
    "Bridge tablet",
    ("t@gannet.example",),
    True,
    ({back!r},),
    ("authorization_code",),
    frozenset({{"berths.read"}}),
    "none",
)
print(issuing.register(Person.objects.get(username="morag"), deployment, fields)[0].client_id)
"""
    client_id = desk.python(code).splitlines()[-1]
    params = {
        "response_type": "code",
        "client_id": client_id,
        "redirect_uri": back,
        "code_challenge": CHALLENGE,
        "code_challenge_method": "S256",
        "state": "s",
    }
    context = browser.new_context(base_url=desk.url, viewport={"width": 1280, "height": 800})
    page = context.new_page()
    address = f"/house/sandbox/authorize?{httpx.QueryParams(params)}"
    page.goto(address)
    page.get_by_label("Login name").fill("isla")
    page.get_by_label("Password").fill(desk.passwords["isla"])  # type: ignore[attr-defined]
    page.get_by_role("button", name="Log in").click()
    expect(page.get_by_role("heading", name="Allow Bridge tablet?")).to_be_visible()
    expect(page.get_by_text("See bookings")).to_be_visible()
    assert violations(page) == []
    page.get_by_role("button", name="Allow access").click()
    page.wait_for_url(f"{back}?*")
    found = parse_qs(urlsplit(page.url).query)
    assert found["state"] == ["s"]
    assert found["iss"] == [f"{desk.url}/house/sandbox"]
    assert found["code"]
    page.goto(address)
    page.get_by_role("button", name="Refuse").click()
    page.wait_for_url(f"{back}?*")
    assert parse_qs(urlsplit(page.url).query)["error"] == ["access_denied"]
    page.goto(address.replace("somewhere", "elsewhere"))
    expect(page.get_by_role("heading", name="This cannot be asked")).to_be_visible()
    assert violations(page) == []


def test_axe_finds_nothing_on_any_view_of_the_house(browser: Browser, desk: Desk) -> None:
    desk.python(
        "from neatlatch.desk.estate.records.applications.models import "
        "Deployment\nDeployment.objects.update(house=True)"
    )
    page = open_page(browser, desk)
    issue(page, "A key of its own", "A key")
    found = {}
    if broken := violations(page):
        found["client"] = broken
    for address in (
        "/credentials",
        "/credentials/house?environment=sandbox",
        "/credentials/handovers",
        "/credentials/leaked",
        "/me",
    ):
        page.goto(address)
        page.locator("main h1").first.wait_for()
        expect(page.get_by_text("Reading …")).to_have_count(0)
        if broken := violations(page):
            found[address] = broken
    page.goto("/credentials/leaked")
    page.get_by_label("Paste it, alone").fill("found-on-a-notice-board")
    page.get_by_role("button", name="Look it up").click()
    expect(page.get_by_text("Nothing that is kept here is in it.")).to_be_visible()
    page.goto("/credentials")
    page.locator("[data-row] a").first.click()
    expect(page.get_by_role("heading", name="History")).to_be_visible()
    if broken := violations(page):
        found["credential"] = broken
    assert found == {}
    assert page.errors == []  # type: ignore[attr-defined]


def test_a_program_is_registered_calls_the_api_and_is_revoked(browser: Browser, desk: Desk) -> None:
    page = open_page(browser, desk)
    page.goto("/credentials/programs")
    page.get_by_role("button", name="Register program").click()
    page.get_by_label("Name", exact=True).fill("Manifest pipeline")
    page.locator("form").get_by_role("button", name="Register program").click()
    expect(page.get_by_text("Choose at least one right.")).to_be_visible()
    assert violations(page) == []
    page.get_by_label(re.compile("^read:")).check()
    page.get_by_role("checkbox", name="Sandbox").check()
    page.get_by_label("Only from these addresses").fill("127.0.0.0/8")
    page.locator("form").get_by_role("button", name="Register program").click()
    page.get_by_role("button", name="Show secret once").click()
    token = page.locator("[data-secret]").inner_text()
    assert token.startswith("nlp_sandbox_")
    page.get_by_role("button", name="I have it").click()

    headers = {"Authorization": f"Bearer {token}"}
    for address, status in (("/api/connections", 200), ("/api/people/morag/log-outs", 403)):
        method = "GET" if status == 200 else "POST"
        answer = httpx.request(method, desk.url + address, headers=headers, timeout=30)
        assert answer.status_code == status, answer.text
    page.reload()
    row = page.locator("[data-row]").filter(has_text="Manifest pipeline")
    expect(row).to_contain_text("127.0.0.1")
    row.get_by_role("link", name="Manifest pipeline").click()
    expect(page.get_by_text("a program that calls the API of Neat Latch")).to_be_visible()
    expect(page.get_by_role("link", name="Add connection")).to_have_count(0)
    assert violations(page) == []
    page.get_by_role("button", name="Revoke secret").click()
    page.get_by_label("Why").fill("the pipeline ended")
    page.get_by_role("button", name=re.compile("^Revoke …")).click()
    expect(page.get_by_text("revoked", exact=True)).to_be_visible()
    answer = httpx.get(f"{desk.url}/api/connections", headers=headers, timeout=30)
    assert (answer.status_code, answer.json()["code"]) == (401, "token-refused")


def test_somebody_logs_in_at_the_command_line(browser: Browser, desk: Desk, tmp_path: Path) -> None:
    """RFC 8252: the browser asks, and comes back to a port of this machine."""
    environment = {
        **desk.environment,
        "NLATCH_URL": desk.url,
        "XDG_CONFIG_HOME": str(tmp_path),
        "NEATLATCH_HOME": "",
    }

    def nlatch(*words: str) -> tuple[int, str]:
        done = subprocess.run(
            [sys.executable, "-m", "neatlatch.cli", *words],
            env=environment,
            capture_output=True,
            text=True,
            timeout=60,
        )
        return done.returncode, done.stdout + done.stderr

    assert nlatch("connection", "list")[0] == 4
    waiting = subprocess.Popen(
        [sys.executable, "-m", "neatlatch.cli", "login", "--no-browser", "--right", "read"],
        env=environment,
        stdout=subprocess.PIPE,
        stderr=subprocess.PIPE,
        text=True,
    )
    assert waiting.stderr is not None
    waiting.stderr.readline()
    page = open_page(browser, desk)
    page.goto(waiting.stderr.readline().strip())
    expect(page.get_by_role("heading", name="Allow Command line (nlatch)?")).to_be_visible()
    expect(page.get_by_text("read what is set up, and how it is", exact=False)).to_be_visible()
    page.get_by_role("button", name="Allow access").click()
    expect(page.get_by_text("You are logged in.")).to_be_visible()
    out, said = waiting.communicate(timeout=60)
    assert (waiting.returncode, "to read" in out) == (0, True), said
    kept = tmp_path / "neatlatch" / "logins.json"
    assert kept.stat().st_mode & 0o077 == 0
    assert nlatch("connection", "list")[0] == 0
    # Another right was not asked for.
    status, said = nlatch("round", "begin")
    assert (status, "token-forbids" in said) == (4, True)
    assert nlatch("logout")[0] == 0
    assert nlatch("connection", "list")[0] == 4
