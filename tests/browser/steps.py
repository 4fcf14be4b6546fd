"""Steps of setting up, as a person takes them: in Neat Latch, and in the office of the application
next to it.
"""

from __future__ import annotations

import re
from urllib.parse import urlsplit

from playwright.sync_api import Page, expect

from tests.harness import wait_until


def add(page: Page, profile: str, addresses: dict[str, str]) -> None:
    """The application, by the profile that comes with Neat Latch."""
    page.goto("/applications/new")
    page.get_by_label("Its profile is here").check()
    page.get_by_label("Environment").select_option(label="Sandbox")
    page.get_by_label("Profile", exact=True).select_option(label=profile)
    for label, value in addresses.items():
        page.get_by_label(label, exact=True).fill(value)
    page.get_by_role("button", name="Add application").click()
    expect(page.get_by_role("heading", name=profile, level=1)).to_be_visible()


def begin(page: Page, profile: str, name: str) -> None:
    """A set-up that is begun, and the record of the provider's side."""
    page.get_by_role("link", name="Set up a connection").click()
    page.get_by_role("button", name="Start set-up").click()
    expect(page.get_by_role("heading", name=f"Set up {profile}")).to_be_visible()
    expect(section(page, "prepare")).to_have_attribute("data-standing", "now")
    page.get_by_label("What it is to be called there").fill(name)
    page.get_by_role("button", name="List the acts").click()
    expect(page.get_by_text("the ticks stay")).to_be_visible()


def section(page: Page, key: str) -> object:
    return page.locator(f"[data-section={key}]")


def tick_all(page: Page) -> None:
    boxes = page.get_by_label(re.compile(r"^Step \d+ done"))
    expect(boxes.first).to_be_visible()  # counting does not wait
    for place in range(boxes.count()):
        boxes.nth(place).check()
    expect(page.get_by_text(re.compile(r"(\d+) of \1 done"))).to_be_visible()


def take_in(page: Page, text: str, *keys: str) -> None:
    """Paste, see where each value goes, put them in place."""
    box = page.get_by_label("Paste or drop anything here")
    box.fill(text)
    for key in keys:
        expect(page.locator(f"[data-placed='{key}']")).to_be_visible()
    page.get_by_role("button", name=re.compile("^Put .*in place$")).click()
    expect(page.get_by_text("Not clear")).to_have_count(0)
    expect(page.locator("[data-intake]")).to_have_count(0)


def note(page: Page, role: str, account: str, **facts: str) -> None:
    """What the application's screens show of us."""
    for label, value in facts.items():
        page.get_by_label(label.replace("_", " "), exact=True).last.fill(value)
    if role:
        page.get_by_role("checkbox", name=role, exact=True).check()
    if account:
        page.get_by_label("Whose it is there").fill(account)
        page.get_by_label("That is").select_option(label="a service account")
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_text("Saved.", exact=True)).to_be_visible()


def open_section(page: Page, title: str) -> None:
    button = page.get_by_role("button", name=re.compile(f"^\\d {title}"))
    if button.get_attribute("aria-expanded") != "true":
        button.click()
        expect(button).to_have_attribute("aria-expanded", "true")


def climb(page: Page) -> None:
    """First the credential alone, then the whole ladder."""
    open_section(page, "Test, then do real work once")
    page.get_by_role("button", name="The credential alone").click()
    expect(page.locator("[data-rung=sign_in]")).to_contain_text("passed")
    expect(page.locator("[data-test-state]")).to_have_attribute("data-test-state", "done")
    expect(page.locator("[data-rung=work]")).to_contain_text("not tried")
    expect(page.get_by_text("The credential alone is good.")).to_be_visible()
    tested = section(page, "test")
    expect(tested).not_to_have_attribute("data-standing", "done")  # type: ignore[arg-type]
    page.get_by_role("button", name=re.compile("The whole ladder")).click()
    expect(page.locator("[data-rung=work]")).to_contain_text("passed")
    expect(tested).to_have_attribute("data-standing", "done")  # type: ignore[arg-type]


def made(office: Page, name: str, account: str, role: str) -> str:
    """Have a key handed out, and copy the rows of the page that shows it once."""
    office.locator("[name=name]").fill(name)
    office.locator("[name=account]").select_option(label=account)
    office.locator("form[action$='/make'] [name=role]").select_option(label=role)
    office.get_by_role("button", name="Make").click()
    if office.locator("#slip").count():  # a second code before the secret is shown
        office.locator("[name=code]").fill(office.locator("#slip").inner_text())
        office.get_by_role("button", name="Show it").click()
    if office.locator("#issued").count():
        return office.locator("#issued").input_value()
    return "\n".join(
        "\t".join(row.locator("th, td").all_inner_texts()) for row in office.locator("tr").all()
    )


def programme(
    page: Page, office: str, name: str, scopes: tuple[str, ...], grant: str, uri: str = ""
) -> tuple[str, str]:
    """A client entered manually in an application's own office, in a window of its own; returns its
    ID and its secret.
    """
    window = page.context.new_page()
    window.goto(f"{office}/office")
    window.get_by_role("button", name="Enter").click()
    window.get_by_label("Name").fill(name)
    window.get_by_label("Sends people back to").fill(uri)
    for box in window.locator("[name=grant]").all():
        box.set_checked(box.get_attribute("value") in (grant, "refresh_token"))
    for scope in scopes:
        window.get_by_label(scope).check()
    window.get_by_role("button", name="Add").click()
    client_id, _, secret = (window.locator("td code").nth(place).inner_text() for place in range(3))
    window.close()
    return client_id, secret


def begin_oauth(page: Page, name: str, scopes: tuple[str, ...]) -> None:
    """A set-up that is begun, the scopes it wants, and the acts listed."""
    page.get_by_role("link", name="Set up a connection").click()
    page.get_by_role("button", name="Start set-up").click()
    open_section(page, "Who will use it")
    for scope in scopes:
        expect(page.get_by_label(scope)).to_be_visible()
    # All in one moment: a tick that comes while another is being saved is not lost.
    page.evaluate(
        "(names) => [...document.querySelectorAll('label')].filter((one) => "
        "names.some((name) => one.textContent.includes(name)))"
        ".forEach((one) => one.querySelector('input').click())",
        list(scopes),
    )
    expect(page.locator("fieldset input:checked")).to_have_count(len(scopes))
    address = "/api" + urlsplit(page.url).path.removesuffix("/set-up")
    wait_until(
        lambda: set(page.request.get(address).json()["scopes"]) == set(scopes),
        what="the scopes to be saved",
    )
    open_section(page, "Prepare their side")
    page.get_by_label("What it is to be called there").fill(name)
    by_protocol = page.get_by_label("Register it for me")
    if by_protocol.count():  # by hand here: two screens, and values carried across
        by_protocol.uncheck()
    page.get_by_role("button", name="List the acts").click()
    expect(page.get_by_text("the ticks stay")).to_be_visible()


# A press is lost when the page moves between the button's going down and its coming up: each act is
# seen to its end before the next.


def enter(page: Page, client_id: str) -> None:
    """The client ID, where the acts in their screens are listed."""
    box = page.get_by_role("textbox", name="Client ID").first
    box.fill(client_id)
    page.get_by_role("button", name="Enter value").click()
    expect(box).to_have_value("")


def save_ours(page: Page) -> None:
    """The form of our side."""
    page.get_by_role("button", name="Save our side").click()
    expect(page.get_by_text("Saved.", exact=True)).to_be_visible()


def carry_across(page: Page, client_id: str, secret: str) -> None:
    """The two values of a client, from their screen to both halves here."""
    tick_all(page)
    enter(page, client_id)
    open_section(page, "Our side")
    page.get_by_label("Client ID", exact=True).fill(client_id)
    save_ours(page)
    take_in(page, f"client_secret: {secret}", "client_secret")
