"""Which operations somebody was seen to call: an access log, a HAR file, or lines with method and
path, matched to a profile's operations.
"""

from __future__ import annotations

import json
import re
from collections import Counter
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from urllib.parse import urlsplit

from .profiles import Operation

MOST = 2_000_000
_METHODS = "GET|PUT|POST|DELETE|PATCH|HEAD|OPTIONS"
# The request line (RFC 9112 §3) as access logs quote it, or by itself.
_REQUEST = re.compile(rf'(?:^|["\s])(?P<method>{_METHODS})\s+(?P<target>[^\s"]+)')


@dataclass(frozen=True)
class CallCounts:
    """Operations with how often each was called, and calls that are none of the application's
    operations.
    """

    operations: tuple[tuple[str, int], ...]
    others: tuple[tuple[str, int], ...]
    lines: int
    unread: int


def read(text: str, operations: Sequence[Operation], base: str = "") -> CallCounts:
    """Read calls out of a text.

    ``base`` is the API's base address: its path is taken off. A call is counted to the first
    operation that covers it.

    Raises :class:`ValueError` for a text of more than two million characters.
    """
    if len(text) > MOST:
        raise ValueError(
            f"More than {MOST:,} characters are not read. Take the last days of the log."
        )
    root = urlsplit(base).path.rstrip("/")
    known: Counter[str] = Counter()
    others: Counter[str] = Counter()
    lines = unread = 0
    for method, target in _calls(text):
        lines += 1
        if method is None:
            unread += 1
            continue
        path = urlsplit(target).path
        path = path.removeprefix(root) if root and path.startswith(root + "/") else path
        name = next(
            (operation.name for operation in operations if operation.covers(method, path)), ""
        )
        (known if name else others)[name or f"{method} {path}"] += 1
    order = {one.name: place for place, one in enumerate(operations)}
    return CallCounts(
        tuple(sorted(known.items(), key=lambda text: order[text[0]])),
        tuple(sorted(others.items(), key=lambda text: (-text[1], text[0]))[:50]),
        lines,
        unread,
    )


def _calls(text: str) -> Iterator[tuple[str | None, str]]:
    if text.lstrip().startswith("{"):
        try:
            entries = json.loads(text)["log"]["entries"]
            yield from (
                (str(entry["request"]["method"]).upper(), str(entry["request"]["url"]))
                for entry in entries
            )
            return
        except (ValueError, KeyError, TypeError, RecursionError):
            pass  # then it is read line by line
    for line in text.splitlines():
        if line.strip():
            found = _REQUEST.search(line)
            yield (found["method"], found["target"]) if found else (None, "")
