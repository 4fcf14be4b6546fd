"""Size of the first page load: everything Chromium fetches for Today, logged in, with an empty
cache. Run manually, with bin/demo running: ``.venv/bin/python -m bench.first_load``. The aim: under
200 KiB gzipped in all, fonts aside.

The bare reference in the same run is the size of the data alone: what the API answers for that
page.
"""

from __future__ import annotations

import argparse
import json
from pathlib import Path

from playwright.sync_api import Response, sync_playwright

from tests.harness import CHROMIUM, CHROMIUM_FLAGS

from .table import row

FLAGS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-quic",
    "--no-first-run",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
]


def main() -> None:
    """Load the page and add up what came over the line."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--port", type=int, default=8600)
    port = parser.parse_args().port
    logins = json.loads(
        (Path(__file__).parents[1] / "var" / "demo" / str(port) / "logins.json").read_text()
    )
    sizes: dict[str, int] = {}
    with sync_playwright() as play:
        browser = play.chromium.launch(executable_path=CHROMIUM, args=CHROMIUM_FLAGS)
        context = browser.new_context(base_url=f"http://127.0.0.1:{port}")
        page = context.new_page()
        page.goto("/")
        page.get_by_label("Login name").fill("isla")
        page.get_by_label("Password").fill(logins["isla"][1])
        page.get_by_role("button", name="Log in").click()
        page.wait_for_selector("text=What breaks next")
        fresh = browser.new_context(
            base_url=f"http://127.0.0.1:{port}", storage_state=context.storage_state()
        ).new_page()
        seen: list[Response] = []
        fresh.on("response", lambda item: seen.append(item))
        fresh.goto("/")
        fresh.wait_for_selector("text=What breaks next")
        fresh.wait_for_timeout(500)
        for response in seen:
            told = response.request.sizes()
            sizes[response.url.split(str(port))[1]] = (
                told["responseBodySize"] + told["responseHeadersSize"]
            )
        browser.close()
    fonts = sum(size for name, size in sizes.items() if name.endswith(".woff2"))
    data = sum(size for name, size in sizes.items() if name.startswith("/api/"))
    total = sum(sizes.values()) - fonts
    for name, size in sorted(sizes.items(), key=lambda size: -size[1]):
        print(f"{size / 1024:8.1f} KiB  {name}")
    row(
        "the first page, with an empty cache, fonts aside",
        f"{total / 1024:.0f} KiB",
        f"the data alone: {data / 1024:.0f} KiB",
        total / data,
        "200 KiB",
        total < 200 * 1024,
    )
    print(
        f"in all, fonts aside: {total / 1024:.1f} KiB (aim: under 200); fonts "
        f"{fonts / 1024:.1f} KiB; the data alone {data / 1024:.1f} KiB, ratio "
        f"{total / data:.1f}"
    )


if __name__ == "__main__":
    main()
