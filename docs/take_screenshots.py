"""One picture of each main view at 1280 x 800, from the demo. ``bin/screenshots`` calls this."""

from __future__ import annotations

import json
import sys
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

from tests.harness import CHROMIUM, CHROMIUM_FLAGS

ROOT = Path(__file__).resolve().parents[1]
OUT = ROOT / "docs" / "screenshots"
ADDRESS = "http://localhost:8600"


def log_in(page: Page) -> None:
    """As the administrator."""
    logins = json.loads((ROOT / "var" / "demo" / "8600" / "logins.json").read_text())
    page.goto(ADDRESS)
    page.get_by_label("Login name").fill("morag")
    page.get_by_label("Password").fill(logins["morag"][1])
    page.get_by_role("button", name="Log in").click()
    page.get_by_role("navigation", name="Sections").wait_for()


def take(page: Page, name: str, address: str) -> None:
    """Open an address, wait until it stands still, take the picture."""
    page.goto(ADDRESS + address)
    page.locator("h1").first.wait_for()
    page.wait_for_timeout(900)
    page.screenshot(path=OUT / f"{name}.png")


def main() -> None:
    """All of them, or the ones named."""
    wanted = set(sys.argv[1:])
    with sync_playwright() as play:
        browser = play.chromium.launch(executable_path=CHROMIUM, args=CHROMIUM_FLAGS)
        page = browser.new_context(viewport={"width": 1280, "height": 800}).new_page()
        log_in(page)
        clients = page.request.get(f"{ADDRESS}/api/clients?application=cargo-manifests").json()[
            "items"
        ]
        test = page.request.get(f"{ADDRESS}/api/connections/production/cargo-manifests").json()[
            "last_test"
        ]
        rounds = page.request.get(f"{ADDRESS}/api/rounds").json()["items"]
        production = next(
            client["id"] for client in clients if client["environment"]["key"] == "production"
        )
        views = {
            "today": "/",
            "connection": "/connections/production/cargo-manifests",
            "application": "/applications/cargo-manifests",
            "test": f"/tests/{test}",
            "connections": "/connections",
            "credentials": "/credentials",
            "round": f"/rounds/{rounds[0]['number']}",
            "house": "/credentials/house?environment=production",
            "set-up": "/connections/staging/harbour-returns/set-up",
            "profile": "/applications/fare-kiosks/profile",
            "redirect-uris": f"/clients/{production}/redirect-uris",
            "scopes": f"/clients/{production}/scopes",
            "access-rules": "/access-rules/vessel-positions/production",
            "workloads": "/workloads",
            "certificates": "/certificates?environment=production",
            "inventory": "/inventory",
        }
        for name, address in views.items():
            if not wanted or name in wanted:
                take(page, name, address)
        if not wanted or "client" in wanted:
            page.goto(f"{ADDRESS}/applications/cargo-manifests/clients/new")
            page.get_by_label("Name", exact=True).fill("Gannet Sound Ferries, berth board")
            page.get_by_label("Contact").fill("connections@gannet.example")
            page.get_by_label("berth.read").check()
            page.get_by_role("button", name="Register", exact=True).click()
            page.get_by_role("button", name="Show secret once").click()
            page.locator("[data-secret]").wait_for()
            page.screenshot(path=OUT / "client.png")
        if not wanted or "intake" in wanted:
            take(page, "intake", "/connections/production/tide-tables/set-up")
            page.get_by_role("button", name="Paste anything").click()
            words = (
                "client_key: ck-7d21c0a9e4\nclient_secret: ' "
                "Yv0qk2-made-up-for-the-picture'\ntoken_id: tid-41fe9b02\ntoken_secret: "
                "q9-also-made-up-Lm83\ncolour: red"
            )
            page.get_by_role("dialog").get_by_label("Paste or drop anything here").fill(words)
            page.locator("[data-intake]").wait_for()
            page.screenshot(path=OUT / "intake.png")
        if not wanted or "replacing" in wanted:
            held = page.request.get(
                f"{ADDRESS}/api/credentials?words=connection:lost-property env:production"
            ).json()["items"]
            one = next(each for each in held if each["connections"] == ["production/lost-property"])
            take(page, "replacing", f"/credentials/{one['id']}?act=replace")
            begin = page.get_by_role("button", name="Begin")
            begin.click()
            page.get_by_role("heading", name="Replacing").wait_for()
            page.wait_for_timeout(900)
            page.screenshot(path=OUT / "replacing.png")
        browser.close()


if __name__ == "__main__":
    main()
