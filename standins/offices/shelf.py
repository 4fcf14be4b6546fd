"""What an office keeps, and its plain pages."""

from __future__ import annotations

import json
import os
from html import escape
from pathlib import Path
from typing import Any
from urllib.parse import parse_qsl

from starlette.requests import Request
from starlette.responses import HTMLResponse

ENVIRONMENTS = ("sandbox", "staging", "production")


class Shelf:
    """One JSON file for an application, replaced as a whole; inside, a drawer for each
    environment.
    """

    def __init__(self, file: Path) -> None:
        self.file = file
        self.data: dict[str, Any] = {
            environment: {"keys": {}, "things": {}, "calls": {}} for environment in ENVIRONMENTS
        }
        if file.exists():
            self.data.update(json.loads(file.read_text()))

    def save(self) -> None:
        """Write everything, so that a cut leaves the old file or the new one."""
        temporary = self.file.with_suffix(".new")
        with temporary.open("w") as out:
            json.dump(self.data, out)
            out.flush()
            os.fsync(out.fileno())
        temporary.replace(self.file)


def page(title: str, colour: str, body: str, status: int = 200) -> HTMLResponse:
    """A page as an old office program draws them."""
    style = (
        "body{font:16px/1.45 'Times New Roman',serif;margin:0;background:#e8e8ee;color:#111}"
        f"h1{{background:{colour};color:#fff;margin:0;padding:.5rem 1rem;font-size:1.3rem}}"
        "div{background:#fff;border:2px inset #bbb;margin:1rem;padding:1rem;max-width:52rem}"
        "table{border-collapse:collapse}"
        "td,th{border:1px solid #888;padding:.25rem .5rem;text-align:left}"
        "input,select,button,textarea{font:inherit}"
        "code{background:#ffd;font-size:1.05em;word-break:break-all}"
        ".no{color:#900;font-weight:bold}form{display:inline}"
    )
    return HTMLResponse(
        f"<!doctype html><html lang=en><meta "
        f"charset=utf-8><title>{escape(title)}</title><style>{style}</style>"
        f"<h1>{escape(title)}</h1><div>{body}</div></html>",
        status,
        {
            "Content-Security-Policy": (
                "default-src 'none'; style-src 'unsafe-inline'; form-action 'self'"
            ),
            "Cache-Control": "no-store",
        },
    )


async def form_of(request: Request) -> dict[str, str]:
    """The fields of a form."""
    return dict(
        parse_qsl((await request.body()).decode("utf-8", "replace"), keep_blank_values=True)
    )
