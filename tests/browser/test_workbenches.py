"""The workbenches as people use them: redirect URIs, scopes and consent, access rules, workloads,
accounts, a leaver, the inventory, finding.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path
from urllib.parse import urlsplit

import httpx
import pytest
import yaml
from playwright.sync_api import Browser, Page, Route, expect

from tests.harness import NOBODY, PORTS, Desk, StandIns

from .conftest import make_desk, open_page
from .test_views import violations


@pytest.fixture(scope="module")
def desk(stand_ins: StandIns) -> Iterator[Desk]:
    """Three applications of the demo, with what stands on their benches."""
    from tests.settings import HOME_OF_TESTS

    only = ("cargo-manifests", "fuel-ledger", "vessel-positions", "repair-tickets")
    fill = (
        f"import json\nfrom neatlatch.demo.load import load\nprint(json.dumps({{k: v[1] for k, "
        f"v in load({stand_ins.port}, only={only}).items()}}))"
    )
    found = make_desk(HOME_OF_TESTS / "benches", stand_ins, fill, rounds=False)
    yield found
    found.kill()


@pytest.fixture
def page(browser: Browser, desk: Desk) -> Iterator[Page]:
    found = open_page(browser, desk)
    yield found
    assert found.errors == []  # type: ignore[attr-defined]
    found.context.close()


def client_of(page: Page, ref: str) -> str:
    return str(page.request.get(f"/api/connections/{ref}").json()["client"])


def workload_of(page: Page, name: str) -> str:
    return str(page.request.get(f"/api/workloads?words={name}").json()["items"][0]["id"])


def test_axe_finds_nothing_on_any_bench(browser: Browser, desk: Desk) -> None:
    page = open_page(browser, desk)
    client, staging = (
        client_of(page, "production/cargo-manifests"),
        client_of(page, "staging/cargo-manifests"),
    )
    addresses = [
        "/redirect-uris",
        f"/clients/{client}/redirect-uris",
        "/scopes",
        f"/clients/{client}/scopes",
        f"/clients/{staging}/scopes",
        "/access-rules",
        "/access-rules/vessel-positions/production",
        "/access-rules/repair-tickets/production",
        "/workloads",
        f"/workloads/{workload_of(page, 'night')}",
        f"/workloads/{workload_of(page, 'forecast')}",
        "/accounts",
        "/connections/production/fuel-ledger-own",
        "/people",
        "/people/rowan",
        "/owners",
        "/inventory",
        f"/clients/{client}",
        "/connections?words=env:production",
        "/credentials?words=used:yes",
        "/applications?words=fuel",
    ]
    found = {}
    for address in addresses:
        page.goto(address)
        expect(page.locator("h1").first).to_be_visible()
        expect(page.get_by_text("Reading …")).to_have_count(0)
        if broken := violations(page):
            found[address] = broken
            print(address, broken)
    link = page.request.get(f"/api/clients/{staging}/scopes").json()["requests"][0]["link"]
    stranger = browser.new_context(base_url=desk.url).new_page()
    stranger.goto(link)
    if broken := violations(stranger):
        found["asked"] = broken
    for name, address in (
        ("Edit the rules", "/access-rules/vessel-positions/production"),
        ("Change them", f"/clients/{client}/redirect-uris"),
        ("Add workload", "/workloads"),
    ):
        page.goto(address)
        page.get_by_role("button", name=name).click()
        if broken := violations(page):
            found[name] = broken
    assert found == {}


def test_a_near_miss_is_explained_tried_and_mended(page: Page) -> None:
    page.goto("/redirect-uris")
    row = page.get_by_role("row").filter(has_text="Production").filter(has_text="Cargo")
    expect(row).to_contain_text("0 of 1")
    row.get_by_role("link").first.click()
    expect(page.get_by_text("1 of 1 caller would be refused")).to_be_visible()
    expect(page.locator("mark")).to_have_text("/")
    expect(page.get_by_text("registered, but unused here")).to_be_visible()
    # Any URI can be tried against the client; the answer comes as one types.
    trial = page.get_by_label("Nothing is sent; the answer is what the standard says.")
    uri = page.request.get(
        f"/api/clients/{client_of(page, 'production/cargo-manifests')}/redirect-uris"
    ).json()["registered"][0]["uri"]
    trial.fill(uri)
    expect(page.get_by_text("✓ It is taken")).to_be_visible()
    trial.fill(uri.replace("http:", "https:") + "#x")
    expect(
        page.get_by_text("It has a fragment (#). A redirect URI must not have one.")
    ).to_be_visible()
    # What a change stops is said before it is made, and has to be agreed to.
    page.get_by_role("button", name="Change them").click()
    page.get_by_role("button", name="Remove redirect URI 2").click()
    expect(page.get_by_text("No connection is affected.")).to_be_visible()
    page.get_by_label("Redirect URI 1", exact=True).fill(uri + "/")
    expect(page.get_by_text("✓ production/cargo-manifests can sign in then.")).to_be_visible()
    page.get_by_role("button", name="Change them there").click()
    expect(page.get_by_text("every caller matches")).to_be_visible()
    page.get_by_role("button", name="Change them").click()
    page.get_by_label("Redirect URI 1", exact=True).fill(uri)
    expect(page.get_by_text(re.compile("cargo-manifests stops"))).to_be_visible()
    expect(
        page.get_by_text("Hit: Night manifest run, Freight desk report, Customs return.")
    ).to_be_visible()
    expect(page.get_by_role("button", name="Change them there")).to_be_disabled()
    page.get_by_label(re.compile("type the client's name")).fill("Gannet Sound Ferries, manifests")
    page.get_by_role("button", name="Change them there").click()
    expect(page.get_by_text("1 of 1 caller would be refused")).to_be_visible()
    page.get_by_role("button", name="Use the registered one here").click()
    expect(page.get_by_text("every caller matches")).to_be_visible()


@pytest.mark.parametrize("where", ["the bench", "the client's page"])
def test_a_preview_belongs_to_the_list_that_is_shown(page: Page, where: str) -> None:
    """What was worked out for another list is not shown, and a late answer to it does not come
    after the answer to this one.
    """
    client = client_of(page, "production/cargo-manifests")
    page.goto(f"/clients/{client}" + ("/redirect-uris" if where == "the bench" else ""))
    late: list[Route] = []
    page.route(
        "**/redirect-uris/previews",
        lambda route: (
            late.append(route) if "late" in (route.request.post_data or "") else route.continue_()
        ),
    )
    page.get_by_role(
        "button", name="Change them" if where == "the bench" else "Change redirect URIs"
    ).click()
    effects, save = (
        page.locator("[data-effects]"),
        page.get_by_role("button", name="Change them there"),
    )
    expect(effects).to_have_attribute("data-effects", "known")
    expect(save).to_be_enabled()
    first = page.get_by_label("Redirect URI 1", exact=True)
    whole = first.input_value()
    with page.expect_request("**/redirect-uris/previews"):
        first.fill("https://desk.gannet.example/late")
    expect(effects).to_have_attribute("data-effects", "asked")
    expect(save).to_be_disabled()  # nobody knows yet what this would stop
    first.fill(whole)
    expect(effects).to_have_attribute("data-effects", "known")
    told = effects.inner_text()
    with page.expect_response("**/redirect-uris/previews"):
        late[0].fulfill(
            json=[
                {
                    "ref": "production/cargo-manifests",
                    "stops": True,
                    "says": "A late answer.",
                    "workloads": [],
                }
            ]
        )
    page.evaluate("() => new Promise(requestAnimationFrame)")
    assert effects.inner_text() == told
    expect(page.get_by_text("A late answer.")).to_have_count(0)
    expect(save).to_be_enabled()
    page.unroute_all()


def test_a_change_by_hand_keeps_its_ticks(page: Page) -> None:
    page.goto(f"/clients/{client_of(page, 'staging/cargo-manifests')}")
    page.goto(f"/clients/{client_of(page, 'staging/cargo-manifests')}/redirect-uris")
    page.get_by_role("button", name="Change them").click()
    page.get_by_role("button", name="Add redirect URI").click()
    page.get_by_label(re.compile("Redirect URI \\d")).last.fill(
        "https://desk.gannet.example/return"
    )
    page.get_by_role("button", name="List the acts").click()
    boxes = page.get_by_role("checkbox")
    expect(boxes).to_have_count(3)
    done = page.get_by_role("button", name="Mark as done")
    expect(done).to_be_disabled()
    boxes.nth(0).click()
    expect(boxes.nth(0)).to_be_checked()
    page.reload()
    expect(page.get_by_role("checkbox").nth(0)).to_be_checked()
    for place in (1, 2):
        page.get_by_role("checkbox").nth(place).click()
        expect(page.get_by_role("checkbox").nth(place)).to_be_checked()
    done.click()
    expect(page.get_by_text("https://desk.gannet.example/return").first).to_be_visible()
    expect(page.get_by_text("registered, but unused here")).to_be_visible()


def test_the_trim_is_asked_for_and_tokens_are_made_anew(page: Page) -> None:
    page.goto(f"/clients/{client_of(page, 'sandbox/fuel-ledger')}/scopes")
    expect(page.get_by_role("heading", name="2 scopes × 0 workloads")).to_be_visible()
    # Nobody knows what it needs: nothing is offered that would take its scopes away.
    expect(page.get_by_text("not known: it has no workload")).to_be_visible()
    expect(page.get_by_role("button", name="Request only these")).to_have_count(0)
    page.goto(f"/clients/{client_of(page, 'production/cargo-manifests')}/scopes")
    expect(
        page.get_by_role(
            "row", name=re.compile("manifest.write: Customs return: stopped without it")
        )
    ).to_be_visible()
    expect(page.get_by_text("Missing: manifest.write")).to_be_visible()
    page.get_by_role("button", name="Permit these").click()
    expect(page.get_by_text("What is permitted is exactly that.")).to_be_visible()
    page.get_by_role("button", name="Request only these").click()
    expect(page.get_by_text("asks for exactly that")).to_be_visible()
    expect(page.get_by_text("before the change")).to_be_visible()  # the token does not have it
    page.get_by_role("button", name="Sign in again").click()
    page.get_by_text("Manifests service account").click()
    page.get_by_role("button", name=re.compile("agree|yes|allow", re.IGNORECASE)).first.click()
    expect(page).to_have_url(re.compile(r"/clients/.*/scopes"))
    expect(page.get_by_text("before the change")).to_have_count(0)


def test_an_administrator_consents_by_a_link_without_a_log_in(
    browser: Browser, desk: Desk, page: Page
) -> None:
    client = client_of(page, "sandbox/cargo-manifests")
    page.goto(f"/clients/{client}/scopes")
    page.get_by_role("button", name="Ask an administrator by a link").click()
    page.get_by_role("checkbox", name="customs.file").check()
    page.get_by_label("Whom do you ask?").fill("Una Flett")
    page.get_by_role("button", name="Create link").click()
    link = page.locator("code", has_text="/asked/consent/").inner_text()
    stranger = browser.new_context(base_url=desk.url).new_page()
    stranger.goto(link)
    expect(stranger.get_by_text("File a manifest with customs")).to_be_visible()
    stranger.get_by_role("checkbox", name="customs.file").check()
    stranger.get_by_role("button", name="I have consented").click()
    expect(stranger.get_by_role("alert").first).to_contain_text("Give your name")
    stranger.get_by_label("Your name").fill("Una Flett")
    stranger.get_by_role("button", name="I have consented").click()
    expect(stranger.get_by_text("Consented to customs.file by Una Flett")).to_be_visible()
    page.reload()
    expect(page.get_by_text("Una Flett, by link")).to_be_visible()


def test_access_rules_are_edited_pushed_and_what_was_done_there_is_seen(
    page: Page, stand_ins: StandIns
) -> None:
    page.goto("/access-rules")
    page.get_by_role("row").filter(has_text="Vessel positions").filter(
        has_text="Production"
    ).get_by_role("link").click()
    expect(page.get_by_text("Changed there manually since we pushed")).to_be_visible()
    expect(page.get_by_text("allow svc-website read on arrivals").first).to_be_visible()
    expect(page.get_by_text("never decides")).to_be_visible()
    page.get_by_role(
        "button", name=re.compile("svc-pilots may from some addresses send positions")
    ).click()
    expect(page.locator("li.bg-wait-ground")).to_contain_text(
        "allow svc-pilots send on positions from 127.0.0.0/8"
    )
    page.get_by_label("Principal", exact=True).fill("r.oake")
    page.get_by_label("Operation", exact=True).select_option("read")
    page.get_by_label("The stream").fill("positions")
    page.get_by_role("button", name="Check").click()
    expect(
        page.get_by_text(
            "r.oake may not read positions; rule 4: deny r.oake everything on positions."
        )
    ).to_be_visible()
    page.get_by_role("button", name="Edit the rules").click()
    page.get_by_role("button", name="Take rule 5 away").click()
    page.get_by_role("button", name="Keep them here").click()
    expect(page.get_by_text("never decides")).to_have_count(0)
    page.get_by_role("button", name="Push our rules").click()
    expect(page.get_by_role("alert").filter(has_text="This takes rights away.")).to_be_visible()
    page.get_by_label(re.compile("type Production first")).fill("Production")
    page.get_by_role("button", name="Push our rules").click()
    expect(page.get_by_text("The same rules are there.")).to_be_visible()
    there = httpx.get(
        f"http://127.0.0.1:{stand_ins.port + PORTS['positions']}/production/register/rules",
        verify=NOBODY,
    ).text
    assert "svc-website" not in there
    page.get_by_role("button", name="Import").click()
    page.get_by_label(re.compile("Paste or drop CSV")).fill(
        "effect,who,operation,resource,match,from\n"
        "allow,svc-positions,read,,prefix,\nallow,x,fly,a,exact,\n"
    )
    page.get_by_role("button", name="See what would change").click()
    expect(page.get_by_role("alert")).to_contain_text("Line 3: 'fly' is no operation here")


def test_a_workload_is_added_warned_of_and_its_operations_read_from_a_log(page: Page) -> None:
    page.goto("/workloads?words=warned:yes env:staging")
    expect(
        page.get_by_text("Fuel forecast trial runs in Staging, where Fuel ledger is not set up.")
    ).to_be_visible()
    page.get_by_role("button", name="Add workload").click()
    page.get_by_label("Name", exact=True).fill("Dawn run")
    page.get_by_label("Environment it runs in").select_option(label="Production")
    page.get_by_label("Change windows").fill("sometimes")
    page.get_by_role("button", name="Add workload", exact=True).click()
    expect(page.get_by_role("alert").first).to_contain_text(
        "is not a window like Mon-Fri 20:00-23:00"
    )
    page.get_by_label("Change windows").fill("Mon-Fri 20:00-23:00")
    page.get_by_role("button", name="Add workload", exact=True).click()
    expect(page.get_by_role("heading", name="Dawn run")).to_be_visible()
    page.get_by_role("button", name="Add an application").click()
    page.locator("label", has_text="Application").locator("select").select_option(
        label="Cargo manifests"
    )
    page.locator("label", has_text="none is set up yet").locator("select").select_option(
        label="production/cargo-manifests, Production"
    )
    page.get_by_label("GET /berths").check()
    page.get_by_role("button", name="Add application", exact=True).click()
    expect(page.get_by_role("link", name="production/cargo-manifests")).to_be_visible()
    page.get_by_role("button", name="From a log").click()
    page.get_by_label("What it was seen to call").fill(
        '1.2.3.4 - - [x] "PUT /production/api/manifests/7 HTTP/1.1" 201 3\nGET /berths\n'
    )
    page.get_by_role("button", name="Read log").click()
    expect(page.get_by_text(re.compile("of its operations were called"))).to_be_visible()
    page.get_by_role("button", name="Only what was seen").click()
    expect(page.get_by_text("from a log, ", exact=False).and_(page.locator("time"))).to_be_visible()


def test_a_person_connects_their_own_account_by_a_link_and_the_wrong_one_is_not_kept(
    browser: Browser, desk: Desk, page: Page
) -> None:
    page.goto("/connections/production/fuel-ledger-own")
    card = page.get_by_role("region", name="Whose account")
    expect(card.get_by_text("1 of 2 have connected.")).to_be_visible()
    link = card.locator("code").inner_text()
    ewan = browser.new_context(
        base_url=desk.url, viewport={"width": 1280, "height": 800}
    ).new_page()
    ewan.goto(link)
    expect(ewan.get_by_text("Log in first; the link alone gives no access.")).to_be_visible()
    ewan.get_by_label("Login name").fill("ewan")
    ewan.get_by_label("Password").fill(desk.passwords["ewan"])  # type: ignore[attr-defined]
    ewan.get_by_role("button", name="Log in").click()
    ewan.get_by_role("button", name="Connect my account").click()
    ewan.get_by_text("Fuel service account").click()
    ewan.get_by_role("button", name=re.compile("agree|yes|allow", re.IGNORECASE)).first.click()
    expect(ewan.locator("[data-outcome=wrong_account]")).to_contain_text(
        "svc-fuel@gannet.example signed in, but your account is e.tait@gannet.example"
    )
    expect(ewan.get_by_text("Not connected yet")).to_be_visible()
    ewan.get_by_role("button", name="Connect my account").click()
    ewan.get_by_text("Ewan Tait").click()
    ewan.get_by_role("button", name=re.compile("agree|yes|allow", re.IGNORECASE)).first.click()
    expect(ewan.get_by_text("✓ Connected as e.tait@gannet.example")).to_be_visible()
    page.reload()
    expect(card.get_by_text("2 of 2 have connected.")).to_be_visible()
    ewan.get_by_role("button", name="Disconnect").click()
    expect(ewan.get_by_text("Not connected yet")).to_be_visible()


REGISTER = """
from neatlatch.desk.authority.house import programs
from neatlatch.desk.estate.credentials import services as credentials
from neatlatch.desk.estate.records.applications.models import Environment
from neatlatch.desk.ground.people.models import Person
by = Person.objects.get(username="morag")
fields = programs.ProgramFields(
    "Tallies", ["test"], return_addresses=["https://tallies.gannet.example/connected"]
)
_, handover = programs.register(by, Environment.objects.get(key="production"), fields)
print(credentials.show(by, handover)[1])
"""


def test_a_program_sends_a_person_through_the_sign_in_and_has_them_back(
    browser: Browser, desk: Desk
) -> None:
    token = desk.python(REGISTER).splitlines()[-1]
    body = {
        "person": "ewan",
        "connection": "production/fuel-ledger-own",
        "back": "https://tallies.gannet.example/connected",
        "state": "s1",
    }
    headers = {"Authorization": f"Bearer {token}"}
    made = httpx.post(f"{desk.url}/api/account-links", json=body, headers=headers, verify=NOBODY)
    ewan = open_page(browser, desk, "ewan")
    ewan.route(
        "https://tallies.gannet.example/**", lambda route: route.fulfill(body="<h1>Tallies</h1>")
    )
    ewan.goto(urlsplit(made.json()["address"]).path)
    expect(ewan.get_by_text("The program Tallies asks Ewan Tait")).to_be_visible()
    expect(ewan.get_by_text("then on to tallies.gannet.example")).to_be_visible()
    ewan.get_by_role("button", name="Connect my account").click()
    expect(ewan).to_have_url(re.compile("/authorize"))
    ewan.get_by_text("Fuel service account").click()
    agree = re.compile("agree|yes|allow", re.IGNORECASE)
    ewan.get_by_role("button", name=agree).first.click()
    # The wrong account: it is said here, and the person is not sent on.
    expect(ewan.locator("[data-outcome=wrong_account]")).to_be_visible()
    ewan.get_by_role("button", name="Connect my account").click()
    expect(ewan).to_have_url(re.compile("/authorize"))
    ewan.get_by_text("Ewan Tait").click()
    ewan.get_by_role("button", name=agree).first.click()
    ewan.wait_for_url("https://tallies.gannet.example/connected?state=s1&connected=yes")
    asked = "person=ewan&application=fuel-ledger&environment=production"
    found = httpx.get(f"{desk.url}/api/account-statuses?{asked}", headers=headers, verify=NOBODY)
    assert found.json()["connected"] is True


def test_what_a_leaver_had_is_handed_over(page: Page) -> None:
    page.goto("/people")
    page.get_by_role("link", name="Rowan Oake").click()
    expect(page.get_by_role("heading", name="Rowan Oake")).to_be_visible()
    expect(
        page.get_by_text("production/fuel-ledger-own acts as r.oake@gannet.example for them.")
    ).to_be_visible()
    page.get_by_role("button", name=re.compile("Choose all")).click()
    page.get_by_label("Who takes it over?").fill("Customs desk")
    page.get_by_role("button", name="Hand over", exact=True).click()
    expect(page.get_by_text("Customs return in Production")).to_have_count(0)
    page.get_by_label("To go on, type rowan").fill("rowan")
    page.get_by_role("button", name="End their access", exact=True).click()
    expect(page.get_by_text(re.compile("^left"))).to_be_visible()
    expect(page.get_by_text("production/fuel-ledger-own acts as")).to_have_count(0)


def test_a_contact_is_added_and_owns_an_application(page: Page) -> None:
    page.goto("/owners")
    expect(page.get_by_role("row", name="Quays contact")).to_contain_text("quays@gannet.example")
    page.get_by_role("button", name="Add a contact").click()
    page.get_by_label("Name", exact=True).fill("Pier 4")
    page.get_by_label("Mail address").fill("nowhere")
    page.get_by_label("Time zone").fill("Sound/Gannet")
    page.get_by_label("Deputy").fill("Quays")
    page.get_by_label("Mail address").fill("pier4@gannet.example")
    page.get_by_role("button", name="Add contact").click()
    expect(
        page.get_by_text("Give a time zone by its name, like Europe/London.").first
    ).to_be_visible()
    page.get_by_label("Time zone").fill("Atlantic/Faroe")
    page.get_by_role("button", name="Add contact").click()
    expect(page.get_by_role("heading", name="Pier 4")).to_be_visible()
    expect(page.get_by_text("Atlantic/Faroe, there it is")).to_be_visible()
    page.goto("/applications/fuel-ledger")
    page.get_by_role("button", name="Change the owner").click()
    page.get_by_label("Owner", exact=True).fill("Pier 4")
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_text("Pier 4")).to_be_visible()
    page.goto("/owners?words=pier")
    expect(page.get_by_role("row").filter(has_text="Pier 4")).to_contain_text("1 application")


def test_the_inventory_goes_out_is_edited_and_comes_in(page: Page, tmp_path: Path) -> None:
    page.goto("/inventory")
    with page.expect_download() as caught:
        page.get_by_role("link", name="The whole inventory, YAML").click()
    plain = yaml.safe_load(Path(str(caught.value.path())).read_text())
    plain["connections"]["production/fuel-ledger"]["pace"] = 2.5
    plain["workloads"]["Bunker report/production"]["owner"] = "Bunker office"
    file = tmp_path / "inventory.yaml"
    file.write_text(yaml.safe_dump(plain, sort_keys=False))
    page.get_by_label("Choose files").set_input_files(str(file))
    expect(page.get_by_role("heading", name="0 added, 2 changed, 0 removed")).to_be_visible()
    expect(page.get_by_text("pace: 10.0 became 2.5")).to_be_visible()
    page.get_by_role("button", name="Apply all of it").click()
    expect(page.get_by_text("Applied: 0 added, 2 changed, 0 removed.")).to_be_visible()
    page.get_by_role("button", name="See what would change").first.click()
    expect(page.get_by_role("heading", name="Nothing would change")).to_be_visible()
    file.write_text(file.read_text().replace("pace: 2.5", "pace: quick"))
    page.get_by_label("Choose files").set_input_files(str(file))
    expect(
        page.get_by_role("heading", name="Wrong with the file; nothing was changed")
    ).to_be_visible()
    line = 1 + file.read_text().splitlines().index("    pace: quick")
    expect(
        page.get_by_role("row").filter(has_text="is a number that is not below 0")
    ).to_contain_text(str(line))


def test_a_large_inventory_is_applied_in_blocks_and_undone(
    browser: Browser, desk: Desk, page: Page, tmp_path: Path
) -> None:
    plain = yaml.safe_load(page.request.get("/api/inventory").text())
    for number in range(150):
        name = f"Tide log {number:03}"
        uses = [{"application": "fuel-ledger", "connection": "production/fuel-ledger"}]
        plain["workloads"][f"{name}/production"] = {
            "name": name,
            "environment": "production",
            "runs": "hourly",
            "uses": uses,
        }
    file = tmp_path / "inventory.yaml"
    file.write_text(yaml.safe_dump(plain, sort_keys=False))
    page.goto("/inventory")
    page.get_by_label("Choose files").set_input_files(str(file))
    expect(page.get_by_role("heading", name="150 added, 0 changed, 0 removed")).to_be_visible()
    page.get_by_role("button", name="Apply all of it").click()
    page.get_by_role("link", name="see how far it is").click()
    expect(page.get_by_role("heading", name="Import", exact=True)).to_be_visible()
    expect(page.get_by_role("row").filter(has_text="Tide log 000/production")).to_contain_text(
        "✓ yes"
    )
    assert violations(page) == []
    address = page.url
    # Others see it on their own pages while it goes on; one who may only look has no button.
    isla = open_page(browser, desk, who="isla")
    isla.goto("/credentials")
    strip = isla.get_by_role("region", name="Import")
    ended = page.get_by_text("150 of 150 applied.")
    expect(strip.or_(isla.get_by_role("heading", name="Credentials")).first).to_be_visible()
    expect(ended).to_be_visible()
    expect(strip).to_have_count(0)
    isla.goto(address)
    expect(isla.get_by_text("150 of 150 applied.")).to_be_visible()
    expect(isla.get_by_role("button", name="Undo import")).to_have_count(0)
    isla.context.close()
    page.get_by_role("button", name="Undo import …").click()
    expect(page.get_by_role("heading", name="0 added, 0 changed, 150 removed")).to_be_visible()
    assert violations(page) == []
    page.get_by_role("button", name="Undo import", exact=True).click()
    expect(page.get_by_role("heading", name="Undo of an import")).to_be_visible()
    expect(page.get_by_text("150 of 150 applied.")).to_be_visible()
    page.get_by_role("link", name="The import that this undoes").click()
    expect(page.get_by_text("150 of 150 applied; undone since.")).to_be_visible()
    assert page.request.get("/api/workloads?words=tide%20log").json()["items"] == []
    page.goto("/inventory")
    expect(page.get_by_role("region", name="Imports")).to_contain_text("applied, then undone")


def test_anything_is_found_from_the_keyboard(page: Page) -> None:
    page.goto("/")
    expect(page.get_by_role("heading", name="What breaks next")).to_be_visible()
    page.keyboard.press("/")
    page.keyboard.type("fuel-ledger-o")
    expect(page.get_by_role("option").first).to_contain_text("fuel-ledger-own")
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("/connections/production/fuel-ledger-own"))
    page.keyboard.press("/")
    page.keyboard.type("access r")
    expect(page.get_by_role("option").first).to_contain_text("Access rules")
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("/access-rules$"))


def test_a_filter_is_kept_shared_and_stands_in_the_address(
    browser: Browser, desk: Desk, page: Page
) -> None:
    page.goto("/connections")
    page.get_by_label("Filter", exact=True).fill("-env:production app:fuel")
    expect(page.get_by_role("link", name="sandbox/fuel-ledger")).to_be_visible()
    expect(page.get_by_role("link", name="production/fuel-ledger", exact=True)).to_have_count(0)
    expect(page).to_have_url(re.compile("words="))
    page.get_by_role("button", name="Keep this filter").click()
    page.get_by_label("Name of the filter").fill("Fuel tests")
    page.get_by_label("for everybody").check()
    page.get_by_role("button", name="Keep", exact=True).click()
    expect(page.get_by_role("button", name="Fuel tests", exact=True)).to_be_visible()
    isla = open_page(browser, desk, who="isla")
    isla.goto("/connections")
    isla.get_by_role("button", name="Fuel tests").click()
    expect(isla.get_by_label("Filter", exact=True)).to_have_value("-env:production app:fuel")
    expect(isla.get_by_role("link", name="sandbox/fuel-ledger")).to_be_visible()
    isla.goto(page.url)
    expect(isla.get_by_label("Filter", exact=True)).to_have_value("-env:production app:fuel")


def test_two_administrators_with_the_same_client_open(
    browser: Browser, desk: Desk, page: Page
) -> None:
    client = client_of(page, "production/fuel-ledger")
    page.goto(f"/clients/{client}")
    page.get_by_role("button", name="Change scopes").click()
    other = open_page(browser, desk)
    other.goto(f"/clients/{client}/redirect-uris")
    other.get_by_role("button", name="Change them").click()
    other.get_by_role("button", name="Add redirect URI").click()
    other.get_by_label(re.compile("Redirect URI \\d")).last.fill(
        "https://desk.gannet.example/second"
    )
    other.get_by_role("button", name="Change them there").click()
    expect(other.get_by_text("https://desk.gannet.example/second")).to_be_visible()
    page.get_by_label(re.compile("ledger.write")).check()
    page.get_by_role("button", name="Change them there").click()
    told = page.get_by_role("alert").filter(has_text="Somebody changed this in the meantime.")
    expect(told).to_contain_text("redirect URIs: https://desk.gannet.example/second added")
    assert page.request.get(f"/api/clients/{client}").json()["scopes"] == ["ledger.read"]


def test_what_leaked_is_recognised_and_ended(page: Page, desk: Desk) -> None:
    """A token that a connection holds, and the key that a workload draws it with."""
    token, key = desk.python("""
from neatlatch.desk.estate.records.connections.models import TokenSet
from neatlatch.desk.estate.credentials.services import close, show
from neatlatch.desk.work.drawing import services
from neatlatch.desk.ground.people.models import Person
from neatlatch.desk.estate.records.workloads.models import Workload

by = Person.objects.get(username="morag")
_, handover = services.give(
    by,
    Workload.objects.select_related("environment").get(
        uses__connection__ref="production/fuel-ledger"
    ),
    "key",
    right="draw",
)
_, key = show(by, handover)
close(by, handover)
print(TokenSet.objects.get(connection__ref="production/fuel-ledger").open_access().reveal(), key)
""").split()

    def paste(text: str) -> None:
        page.goto("/credentials/leaked")
        page.get_by_label("Paste it, alone").fill(text)
        page.get_by_role("button", name="Look it up").click()

    draw = {"headers": {"Authorization": f"Bearer {key}"}}
    assert page.request.get("/draw/fuel-ledger", **draw).status == 200
    paste(f"curl -H 'Authorization: Bearer {token}' https://ledger.example/entries")
    expect(
        page.get_by_role("heading", name="Access token of production/fuel-ledger")
    ).to_be_visible()
    expect(
        page.get_by_text("Anyone who has it gets in as this connection until it expires")
    ).to_be_visible()
    expect(
        page.get_by_text("Ended, its workloads stop, until somebody signs in again.")
    ).to_be_visible()
    assert violations(page) == []
    page.get_by_role("button", name="End the tokens of production/fuel-ledger now").click()
    expect(page.get_by_role("status")).to_contain_text("Ended at the application: yes")
    expect(
        page.get_by_role("heading", name="Access token of production/fuel-ledger")
    ).to_have_count(0)

    assert page.request.get("/draw/fuel-ledger", **draw).status == 503
    paste(f"NLATCH_KEY={key}")
    found = page.get_by_label(re.compile("^Recognised: "))
    expect(found).to_contain_text("gives access to anyone who has it")
    expect(found).to_contain_text(
        "draws with it, and stops at once; it has something else to draw with."
    )
    found.get_by_role("button", name="Revoke now").click()
    found.get_by_role("button", name=re.compile("^Revoke …")).click()
    expect(found).to_contain_text("no longer gives access")
    assert page.request.get("/draw/fuel-ledger", **draw).status == 401


# Notes, one change of many, spreadsheets


def test_notes_are_kept_beside_a_connection_and_a_tag_leads_to_its_list(page: Page) -> None:
    page.goto("/connections/production/cargo-manifests")
    page.get_by_role("button", name="Add notes").click()
    page.get_by_label("Tags").fill("freight night run!")
    page.get_by_role("textbox", name="Notes").fill("The yard asks for a call.\nQuote GSF-114.")
    page.get_by_role("button", name="Add a link").click()
    page.get_by_label("Label of link 1").fill("Runbook")
    page.get_by_label("Address of link 1").fill("https://wiki.gannet.example/cargo")
    page.get_by_role("button", name="Save notes").click()
    expect(page.get_by_text("“run!” is not a tag")).to_be_visible()
    expect(page.get_by_role("textbox", name="Notes")).to_have_value(re.compile("GSF-114"))
    page.get_by_label("Tags").fill("freight night-run")
    page.get_by_role("button", name="Save notes").click()
    expect(page.get_by_role("link", name="Runbook")).to_have_attribute(
        "href", "https://wiki.gannet.example/cargo"
    )
    assert violations(page) == []
    page.get_by_role("link", name="night-run").click()
    expect(page.get_by_role("searchbox", name="Filter")).to_have_value("tag:night-run")
    expect(page.locator("[data-row]")).to_have_count(1)
    page.goto("/connections/production/cargo-manifests")
    page.get_by_role("button", name="Edit notes").click()
    page.get_by_role("button", name="Discard changes").click()
    expect(page.get_by_text("Quote GSF-114.")).to_be_visible()


def test_rows_are_selected_and_changed_at_once(page: Page) -> None:
    page.goto("/connections?words=env:production")
    expect(page.get_by_role("link", name="production/fuel-ledger", exact=True)).to_be_visible()
    count = page.locator("[data-row]").count()
    page.get_by_role("button", name="Select rows").click()
    page.get_by_label("Select production/fuel-ledger", exact=True).check()
    page.get_by_label("Select production/repair-tickets", exact=True).check()
    expect(page.get_by_text("2 selected")).to_be_visible()
    page.get_by_label("Test interval").select_option("every day")
    page.get_by_label("Add tags").fill("quarterly")
    page.get_by_role("button", name="See what would change").click()
    expect(page.get_by_text("2 connections, 2 of them in production:")).to_be_visible()
    assert violations(page) == []
    page.get_by_role("button", name="Change 2 connections").click()
    expect(page.get_by_text("2 connections changed.")).to_be_visible()
    expect(page.get_by_role("link", name="quarterly")).to_have_count(2)
    page.get_by_role("button", name="Select all that fit “env:production”").click()
    page.get_by_label("Rounds", exact=True).select_option("paused")
    page.get_by_label("Add tags").fill("")
    page.get_by_label("Test interval").select_option("as it is")
    page.get_by_role("button", name="See what would change").click()
    page.get_by_role("button", name=f"Change {count} connections").click()
    expect(page.get_by_text(re.compile(r"connections changed"))).to_be_visible()
    expect(page.get_by_text("not in rounds")).to_have_count(count)
    page.get_by_label("Rounds", exact=True).select_option("tested")
    page.get_by_role("button", name="See what would change").click()
    page.get_by_role("button", name=f"Change {count} connections").click()
    expect(page.get_by_text("not in rounds")).to_have_count(0)
    page.get_by_role("button", name="Close").click()
    expect(page.get_by_label("Select production/fuel-ledger", exact=True)).to_have_count(0)


def test_a_spreadsheet_is_mapped_previewed_and_imported(page: Page) -> None:
    page.goto("/inventory?table=workloads")
    expect(page.get_by_label("Workloads", exact=True)).to_be_checked()
    page.get_by_label("or paste it, with its heading").fill(
        "Job;Where;Responsible\nDusk run;Production;Quays\nDusk run;Production;Quays\n"
    )
    page.get_by_role("button", name="Read the columns").click()
    table = page.get_by_role("region", name="From a spreadsheet")
    expect(page.get_by_label("Name (required)")).to_have_value("Job")
    table.get_by_role("button", name="See what would change").click()
    expect(table.get_by_text("Choose a column for environment.")).to_be_visible()
    page.get_by_label("Environment (required)").select_option("Where")
    table.get_by_role("button", name="See what would change").click()
    expect(page.get_by_text("Line 3 repeats line 2.")).to_be_visible()
    expect(page.get_by_role("heading", name="1 added, 0 changed, 0 removed")).to_be_visible()
    assert violations(page) == []
    page.get_by_role("button", name="Import the table").click()
    expect(page.get_by_text("Imported: 1 added")).to_be_visible()
    page.get_by_role("link", name="Show or undo import").click()
    expect(page.get_by_text("Dusk run/production")).to_be_visible()


def test_a_signing_secret_is_put_in_or_made_on_the_connections_page(page: Page) -> None:
    page.goto("/connections/production/repair-tickets")
    card = page.get_by_role("region", name="Signed calls in")
    expect(card.get_by_text("signs what it sends")).to_be_visible()
    expect(card.get_by_text("for Engine alarms", exact=True)).to_be_visible()
    expect(card.get_by_text("Accepted")).to_be_visible()
    page.goto("/connections/sandbox/repair-tickets")
    expect(card.get_by_text("No signing secret is held")).to_be_visible()
    assert violations(page) == []
    card.get_by_role("button", name="Put in the signing secret").click()
    page.get_by_role("textbox", name="Signing secret").fill("not one")
    page.get_by_role("button", name="Store secret").click()
    expect(page.get_by_text("begins with whsec_").first).to_be_visible()
    page.get_by_role("button", name="Cancel").click()
    card.get_by_role("button", name="Make one, to enter it there").click()
    card.get_by_role("button", name="Show secret once").click()
    expect(card.locator("[data-secret]")).to_contain_text("whsec_")
    assert violations(page) == []
    card.get_by_role("button", name="I have it").click()
    expect(card.get_by_role("link", name="replace")).to_be_visible()
    expect(page.get_by_text("not proven", exact=True)).to_have_count(0)


def test_a_persons_rights_are_limited_and_they_are_told_so(
    page: Page, browser: Browser, desk: Desk
) -> None:
    page.goto("/people/ewan")
    card = page.get_by_role("region", name="Rights hold for")
    expect(card.get_by_text("Everything that their role allows.")).to_be_visible()
    card.get_by_role("button", name="Limit rights").click()
    card.get_by_label("Sandbox").check()
    card.get_by_label("Applications a key on each line").fill("nowhere")
    card.get_by_role("button", name="Save limits").click()
    expect(card.get_by_text("There is no application “nowhere”.").first).to_be_visible()
    assert violations(page) == []
    card.get_by_label("Applications a key on each line").fill("")
    card.get_by_role("button", name="Save limits").click()
    expect(card.get_by_text("They look at everything else")).to_be_visible()
    ewan = open_page(browser, desk, "ewan")
    ewan.goto("/connections/production/cargo-manifests")
    ewan.get_by_role("button", name="Test now").click()
    expect(ewan.get_by_text("Your rights do not reach this.")).to_be_visible()
    ewan.context.close()
    card.get_by_role("button", name="Limit rights").click()
    card.get_by_label("Sandbox").uncheck()
    card.get_by_role("button", name="Save limits").click()
    expect(card.get_by_text("Everything that their role allows.")).to_be_visible()


def test_a_connection_is_decommissioned_step_by_step(page: Page) -> None:
    page.goto("/connections/production/repair-tickets")
    page.get_by_role("button", name="Decommission production/repair-tickets").click()
    expect(page.get_by_role("heading", name="Decommission connection")).to_be_visible()
    now = page.locator("[aria-current=step]")
    expect(now.get_by_text("still uses it. Say why that may stop.")).to_be_visible()
    assert violations(page) == []
    page.get_by_role("button", name="Confirm that it may stop").click()
    expect(now.get_by_role("alert")).to_be_visible()
    page.get_by_label("Why may it stop?").fill("The workshop closes.")
    page.get_by_role("button", name="Confirm that it may stop").click()
    expect(now.get_by_role("heading", name="Revoke")).to_be_visible()
    expect(now.get_by_text("Open Repair tickets as somebody").first).to_be_visible()
    while (left := now.get_by_role("button", name="It is revoked there")).count():
        with page.expect_response(lambda answer: "revocations" in answer.url):
            left.first.click()
    expect(now.get_by_role("heading", name="Prove that it is refused")).to_be_visible()
    page.get_by_role("button", name="Try now").click()
    expect(now.get_by_text("Not proven yet:")).to_be_visible(timeout=60_000)
    assert violations(page) == []
    page.get_by_label("It cannot be tried? Say how you checked it").fill("Seen in its screens.")
    page.get_by_role("button", name="Go on without proof").click()
    page.get_by_label("To confirm, type production/repair-tickets").fill(
        "production/repair-tickets"
    )
    page.get_by_role("button", name="Decommission now").click()
    expect(page.get_by_role("heading", name="What it was")).to_be_visible()
    assert violations(page) == []
    page.goto("/decommissioning?words=kind:conn")
    expect(page.get_by_role("row", name="production/repair-tickets")).to_contain_text(
        "decommissioned"
    )
    page.goto("/connections/production/repair-tickets")
    expect(page.get_by_role("heading", name="There is no such connection")).to_be_visible()
