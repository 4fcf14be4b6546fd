"""From the package alone to the first latched connection: built, installed by hashes into a fresh
environment, started where nothing else of this machine is found, and used by a person.
"""

from __future__ import annotations

import re
import sys
import tarfile
import zipfile
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect

from tests.harness import ROOT, StandIns
from tests.packaged import run, start
from tests.served import Served

from .steps import add, begin, climb, made, note, open_section, take_in, tick_all

OLD_HOME = ROOT / "tests" / "homes" / "7aa8f6f.tar.gz"


@pytest.fixture
def served(installed: Path, stand_ins: StandIns, tmp_path: Path) -> Iterator[Served]:
    """Started from a folder of its own; no Node, and nothing else, is on the path."""
    begun = start(installed, tmp_path / "home", tmp_path)
    yield begun
    if begun.program.poll() is None:
        begun.stop()


def test_the_same_commit_gives_the_same_file(package: Path, tmp_path: Path) -> None:
    run("bin/package", str(tmp_path))
    for kind in ("neatlatch-*.whl", "neatlatch_client-*.whl"):
        (first,), (again,) = package.glob(kind), tmp_path.glob(kind)
        assert first.read_bytes() == again.read_bytes()
    (first,) = package.glob("neatlatch-*.whl")
    with zipfile.ZipFile(first) as packed:
        names = packed.namelist()
    assert "neatlatch/front_end/index.html" in names
    assert not [name for name in names if "__pycache__" in name or name.startswith("tests/")]


def test_the_client_library_is_a_package_of_its_own(package: Path, tmp_path: Path) -> None:
    (wheel,) = package.glob("neatlatch_client-*.whl")
    with zipfile.ZipFile(wheel) as packed:
        names = {name for name in packed.namelist() if ".dist-info/" not in name}
        (metadata,) = (name for name in packed.namelist() if name.endswith("/METADATA"))
        required = re.findall(r"^Requires-Dist: (\w+)", packed.read(metadata).decode(), re.M)
        packed.extractall(tmp_path)
    assert required == ["httpx"]
    assert "neatlatch/client/py.typed" in names
    assert all(name.startswith("neatlatch/client/") for name in names)
    # With an interpreter for which Neat Latch itself is not installed.
    code = "import neatlatch.client as c, sys; print(c.__file__, 'django' in sys.modules)"
    told = run(sys.executable, "-P", "-c", code, PYTHONPATH=str(tmp_path))
    assert told == f"{tmp_path}/neatlatch/client/__init__.py False\n"


def test_from_the_package_to_the_first_latched_connection(
    browser: Browser, served: Served, stand_ins: StandIns
) -> None:
    address = served.says(r"http://localhost:\d+/set-up#[\w-]+", 300)[0]
    page = browser.new_context(base_url=address.partition("/set-up")[0]).new_page()
    page.goto(address)
    page.get_by_label("Your name").fill("Morag Orr")
    page.get_by_label("Login name").fill("morag")
    page.get_by_label("Password").fill("anchor bollard davit 7")
    page.get_by_role("button", name="Create administrator").click()
    expect(page.get_by_role("heading", name="Nothing is set up yet")).to_be_visible()
    first_connection(page, stand_ins)
    page.goto("/connections/sandbox/passenger-messages")
    expect(page.locator("[data-state]").first).to_have_attribute("data-state", "latched")
    page.goto("/")
    expect(page.get_by_role("heading", name="What breaks next")).to_be_visible()
    expect(page.get_by_role("heading", name="First steps")).to_have_count(0)
    page.context.close()


def first_connection(page: Page, stand_ins: StandIns) -> None:
    """An application whose key travels in the query."""
    add(page, "Passenger messages", {"API base address": stand_ins.secured("messages")})
    page.goto("/")
    expect(page.get_by_role("heading", name="First steps")).to_be_visible()
    page.get_by_role("link", name="Set up a connection").click()
    expect(page).to_have_url(re.compile("/connections/new"))
    page.goto("/applications/passenger-messages")
    begin(page, "Passenger messages", "Ferries")
    window = page.context.new_page()
    window.goto(stand_ins.office("messages"))
    rows = made(window, "Ferries", "svc-messages", "sender")
    window.close()
    tick_all(page)
    open_section(page, "Prepare their side")
    note(page, "sender", "svc-messages")
    open_section(page, "Our side")
    take_in(page, rows, "api_key")
    climb(page)


def test_a_home_of_an_earlier_version_is_carried_over(installed: Path, tmp_path: Path) -> None:
    with tarfile.open(OLD_HOME) as packed:
        packed.extractall(tmp_path / "old", filter="data")
    (database,) = (tmp_path / "old").rglob("desk.sqlite3")
    told = {
        "PATH": str(installed),
        "NEATLATCH_HOME": str(database.parent),
        "DJANGO_SETTINGS_MODULE": "neatlatch.desk.settings",
    }
    run(str(installed / "python"), "-m", "django", "migrate", "--verbosity", "0", **told)
    assert run(str(installed / "nlatch"), "journal", "check", **told).startswith(
        "The journal holds"
    )
    proposed = run(str(installed / "nlatch"), "join-names", "--preview", **told)
    assert "sandbox/cargo-manifests-sandbox" in proposed
