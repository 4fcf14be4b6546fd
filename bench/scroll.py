"""Scrolling through a list of ten thousand connections in Chromium: the time between frames.

Run manually: ``python -m bench.scroll [how many]``.

Fills a database of its own, starts the desk on it, scrolls from top to bottom as fast as a wheel
goes, and prints the median and the worst of the times between frames, and how many rows stood in
the page at the most. The bare reference is the same scroll over an empty page of the same height.
"""

from __future__ import annotations

import json
import os
import shutil
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

import httpx
from playwright.sync_api import Page, sync_playwright

from tests.harness import CHROMIUM, CHROMIUM_FLAGS, ROOT, free_ports, wait_until

from .table import row

_WATCH = """() => new Promise((done) => {
  const gaps = []; let rows = 0, last = performance.now(); const until = last + 6000
  const step = (now) => {
    gaps.push(now - last); last = now
    rows = Math.max(rows, document.querySelectorAll('[data-row]').length)
    window.scrollBy(0, 240)
    if (now < until) requestAnimationFrame(step); else done({ gaps, rows, top: window.scrollY })
  }
  requestAnimationFrame(step)
})"""


def told(name: str, found: dict[str, Any]) -> float:
    """Print one run; returns its median."""
    gaps = sorted(found["gaps"][2:])
    print(
        f"{name}: median {statistics.median(gaps):.1f} ms between frames, 99 % under "
        f"{gaps[int(len(gaps) * 0.99)]:.1f} ms, worst {gaps[-1]:.0f} ms; "
        f"{found['rows']} rows in the page at most; scrolled {found['top']:.0f} px"
    )
    return float(statistics.median(gaps))


def main() -> None:
    """Fill, serve, scroll, print."""
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 10_000
    home, port = Path(tempfile.mkdtemp(prefix="neatlatch-scroll-")), free_ports()
    environment = {
        **os.environ,
        "NEATLATCH_HOME": str(home),
        "NEATLATCH_URL": f"http://127.0.0.1:{port}",
        "DJANGO_SETTINGS_MODULE": "neatlatch.desk.settings",
    }
    code = (
        f"import django; django.setup()\nfrom django.core.management import "
        f"call_command\ncall_command('migrate', verbosity=0)\n"
        f"call_command('collectstatic', '--noinput', verbosity=0)\nfrom neatlatch.demo.fill "
        f"import fill\nfill({count}, print)\n"
        "from neatlatch.desk.ground.common.actors import NOBODY\nfrom "
        "neatlatch.desk.ground.people import services\nservices.add(NOBODY, 'bench', "
        "'Bench', 'reader', 'skerry-lantern-hawser')"
    )
    subprocess.run([sys.executable, "-c", code], check=True, env=environment, cwd=ROOT)
    desk = subprocess.Popen(
        [
            sys.executable,
            "-m",
            "uvicorn",
            "neatlatch.desk.pages.asgi:application",
            "--port",
            str(port),
            "--lifespan",
            "off",
            "--log-level",
            "error",
        ],
        env=environment,
        cwd=ROOT,
    )
    try:
        wait_until(
            lambda: httpx.get(f"http://127.0.0.1:{port}/alive").is_success,
            what="the start of the desk",
        )
        with sync_playwright() as play:
            browser = play.chromium.launch(executable_path=CHROMIUM, args=CHROMIUM_FLAGS)
            page: Page = browser.new_context(viewport={"width": 1280, "height": 800}).new_page()
            page.goto(f"http://127.0.0.1:{port}")
            page.get_by_label("Login name").fill("bench")
            page.get_by_label("Password").fill("skerry-lantern-hawser")
            page.get_by_role("button", name="Log in").click()
            page.get_by_role("navigation", name="Sections").wait_for()
            page.goto(f"http://127.0.0.1:{port}/connections")
            page.locator("[data-row]").first.wait_for()
            time.sleep(1)
            list_ = told(f"the list of {count}", page.evaluate(_WATCH))
            page.evaluate(
                "document.body.replaceChildren(Object.assign(document.createElement('div'), "
                "{id: 'bare'})); document.getElementById('bare').style.height = '360000px'; "
                "scrollTo(0, 0)"
            )
            bare = told("an empty page of that height", page.evaluate(_WATCH))
            row(
                f"scrolling through {count:,} connections, between two frames",
                f"{list_:.1f} ms",
                f"an empty page of that height: {bare:.1f} ms",
                list_ / bare,
                "smooth",
                list_ < 20,
            )
            print(json.dumps({"ratio of the medians": round(list_ / bare, 2)}))
            browser.close()
    finally:
        desk.terminate()
        shutil.rmtree(home, ignore_errors=True)


if __name__ == "__main__":
    main()
