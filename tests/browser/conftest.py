"""Desks in a browser: one empty, one with the demo; a page that is logged in; hands that use the
mouse or only the keyboard.
"""

from __future__ import annotations

import json
import shutil
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Browser, Locator, Page, expect

from tests import packaged, reruns
from tests.harness import CHROMIUM, CHROMIUM_FLAGS, PATIENT, ROOT, Desk, StandIns

PASSWORD = "skerry-lantern-hawser"
# Other tests run beside these on the same machine.
expect.set_options(timeout=60_000)


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """A test of this folder that fails is run once more, from a fresh start."""
    reruns.allow(items, Path(__file__).parent)


@pytest.fixture(scope="session")
def browser_type_launch_args(browser_type_launch_args: dict[str, Any]) -> dict[str, Any]:
    return {**browser_type_launch_args, "executable_path": CHROMIUM, "args": CHROMIUM_FLAGS}


@pytest.fixture(scope="session")
def browser_context_args(browser_context_args: dict[str, Any]) -> dict[str, Any]:
    return {**browser_context_args, "viewport": {"width": 1280, "height": 800}}


def make_desk(
    home: Path, stand_ins: StandIns, fill: str, rounds: bool, host: str = "127.0.0.1"
) -> Desk:
    """A desk of its own in a folder, filled by a line of Python that prints the passwords by login
    name. ``rounds``: begin them on schedule.
    """
    assert (ROOT / "web" / "dist" / "index.html").exists(), (
        "build the front end first: bin/test does"
    )
    trust, fresh = home.parent / "standins" / "certificates" / "root.pem", home.parent / "fresh"
    if (
        not fresh.exists()
    ):  # migrated and filled once, then copied: each takes longer than most tests
        first = Desk(fresh, stand_ins, trust)
        first.migrate()
        first.manage("collectstatic", "--noinput", "--verbosity", "0")
        shutil.copytree(fresh, fresh.with_name("empty"))
        (fresh.with_name("empty") / "logins.json").write_text(
            Desk(fresh.with_name("empty"), stand_ins, trust).python(EMPTY)
        )
    source = fresh.with_name("empty") if fill == EMPTY else fresh
    shutil.rmtree(home, ignore_errors=True)  # of a first run that failed
    shutil.copytree(source, home, ignore=shutil.ignore_patterns("static"))
    (home / "static").symlink_to(fresh / "static")
    desk = Desk(home, stand_ins, trust, 60 if rounds else 0, host=host)
    said = (home / "logins.json").read_text() if fill == EMPTY else desk.python(fill)
    desk.passwords = json.loads(said.splitlines()[-1])  # type: ignore[attr-defined]
    desk.start()
    return desk


EMPTY = f"""
import json, yaml
from neatlatch.demo.load import SCENARIO, load_environments
from neatlatch.desk.ground.common.actors import NOBODY
from neatlatch.desk.ground.people import services
load_environments(yaml.safe_load(SCENARIO.read_text()))
for name, role in (("morag", "administrator"), ("isla", "reader")):
    services.add(NOBODY, name, name.title(), role, {PASSWORD!r})
print(json.dumps({{"morag": {PASSWORD!r}, "isla": {PASSWORD!r}}}))
"""


@pytest.fixture
def empty_desk(stand_ins: StandIns, request: pytest.FixtureRequest) -> Iterator[Desk]:
    """A desk with people and environments, and nothing else."""
    from tests.settings import HOME_OF_TESTS

    desk = make_desk(
        HOME_OF_TESTS / f"empty-{abs(hash(request.node.name)) % 10**8}",
        stand_ins,
        EMPTY,
        rounds=False,
    )
    yield desk
    desk.kill()


@pytest.fixture(scope="session")
def demo_desk(stand_ins: StandIns) -> Iterator[Desk]:
    """The whole demo, with its worker."""
    from tests.settings import HOME_OF_TESTS

    fill = (
        f"import json\nfrom neatlatch.demo.load import load\nsaid = load({stand_ins.port}, "
        f"only=('cargo-manifests',))\n{PATIENT}\nprint(json.dumps({{k: v[1] for k, v in "
        f"said.items()}}))"
    )
    desk = make_desk(HOME_OF_TESTS / "demo", stand_ins, fill, rounds=True)
    yield desk
    desk.kill()


def open_page(browser: Browser, desk: Desk, who: str = "morag", **more: Any) -> Page:
    """A page of a fresh browser, logged in. Errors in the page fail the test."""
    known: dict[str, Any] = desk.__dict__.setdefault("sessions", {})
    context = browser.new_context(
        base_url=desk.url,
        viewport={"width": 1280, "height": 800},
        storage_state=known.get(who),
        **more,
    )
    page = context.new_page()
    page.errors = []  # type: ignore[attr-defined]
    page.on("pageerror", lambda error: page.errors.append(str(error)))  # type: ignore[attr-defined]
    page.on(
        "console",
        lambda said: (
            page.errors.append(said.text)
            if said.type == "error" and "Content Security" in said.text
            else None
        ),
    )  # type: ignore[attr-defined]
    page.goto("/")
    within, outside = (
        page.get_by_role("navigation", name="Sections"),
        page.get_by_role("button", name="Log in"),
    )
    expect(within.or_(outside)).to_be_visible()
    if outside.is_visible():  # the first time, and after a log-out
        page.get_by_label("Login name").fill(who)
        page.get_by_label("Password").fill(desk.passwords[who])  # type: ignore[attr-defined]
        outside.click()
        expect(within).to_be_visible()
        known[who] = context.storage_state()
    return page


class Mouse:
    """Uses the page as somebody with a mouse does."""

    def press(self, target: Locator) -> None:
        target.click()

    def fill(self, target: Locator, text: str) -> None:
        target.fill(text)

    def choose(self, target: Locator, label: str) -> None:
        target.select_option(label=label)

    def tick(self, target: Locator) -> None:
        target.check()


class Keyboard:
    """Uses nothing but Tab, arrows, letters, Space and Enter: what Tab does not reach cannot be
    used.
    """

    def reach(self, target: Locator) -> None:
        expect(target).to_be_visible()
        expect(target).to_be_enabled()  # Tab passes by what is not yet
        for _ in range(250):
            if target.evaluate("one => one === document.activeElement"):
                return
            target.page.keyboard.press("Tab")
        raise AssertionError(f"Tab does not reach {target}")

    def press(self, target: Locator) -> None:
        self.reach(target)
        target.page.keyboard.press("Enter")

    def fill(self, target: Locator, text: str) -> None:
        self.reach(target)
        target.page.keyboard.press("Control+A")
        target.page.keyboard.press("Delete")
        target.page.keyboard.insert_text(text)

    def choose(self, target: Locator, label: str) -> None:
        # What can be chosen may come with an answer that is still on its way; arrows on an empty
        # list choose nothing.
        expect(target.locator("option").filter(has_text=label).first).to_be_attached()
        self.reach(target)
        for _ in range(20):
            if target.evaluate("one => one.selectedOptions[0]?.label") == label:
                return
            target.page.keyboard.press("ArrowDown")
        raise AssertionError(f"the arrows do not reach {label}")

    def tick(self, target: Locator) -> None:
        self.reach(target)
        if not target.is_checked():
            target.page.keyboard.press("Space")


@pytest.fixture(scope="session")
def package(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The folder of the package and of the file that installs it."""
    return packaged.build(tmp_path_factory.mktemp("package"))


@pytest.fixture(scope="session")
def installed(package: Path, tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The programs of a fresh environment in which it is installed."""
    return packaged.install(package, tmp_path_factory.mktemp("installed"))
