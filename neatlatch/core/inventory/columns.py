"""Columns of the tables that come in from a spreadsheet: which there are, which column of
somebody's table is probably meant, and rows that look like something that is there already
(common practice, no source).
"""

from __future__ import annotations

import difflib
import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

# How alike a heading and one of our words must be to be offered for it.
_ALIKE, _LONGEST = 0.8, 60
_SIGNS = re.compile(r"[\W_]+")


@dataclass(frozen=True)
class Column:
    """A column that is understood; ``also``: what others call it."""

    name: str
    says: str
    required: bool = False
    also: tuple[str, ...] = ()


_NAME = ("title", "system", "app", "label")
_OWNER = Column("owner", "a person, a team or a contact", also=("responsible", "contact", "team"))
_ENVIRONMENT = Column("environment", "its name or key", True, ("env", "stage", "landscape", "tier"))
_TAGS = Column("tags", "separated by spaces", also=("labels", "keywords", "categories"))
_NOTES = Column("notes", "plain text", also=("comment", "comments", "remarks", "description"))
_API_BASE = Column(
    "api_base", "the address of the API", also=("url", "base url", "api url", "endpoint", "address")
)

TABLES: dict[str, tuple[Column, ...]] = {
    "applications": (
        Column("name", "what it is called", True, (*_NAME, "application")),
        _ENVIRONMENT,
        Column("scheme", "how others authenticate there, of a new one", also=("authentication",)),
        Column("purpose", "what it is for", also=("use", "description")),
        _OWNER,
        Column("documentation", "the address of its documentation", also=("docs", "manual")),
        _API_BASE,
        Column("issuer", "of OAuth 2.0", also=("issuer url",)),
        Column("authorization_endpoint", "of OAuth 2.0", also=("authorize url",)),
        Column("token_endpoint", "of OAuth 2.0", also=("token url",)),
        Column("stream_address", "host and port of a stream", also=("broker",)),
        _TAGS,
        _NOTES,
    ),
    "connections": (
        Column("name", "the reference name, without its environment", True, (*_NAME, "ref")),
        Column("application", "its name or key", True, ("app", "system")),
        _ENVIRONMENT,
        Column("scheme", "where the application has several", also=("authentication",)),
        Column("client", "its name, or its client ID", also=("client id", "client name")),
        Column("scopes", "separated by spaces", also=("scope", "permissions")),
        Column("account", "which account signs in", also=("service account", "user")),
        Column("username", "of HTTP Basic", also=("user name", "login")),
        Column("key_id", "of a key and secret", also=("access key", "key name")),
        _API_BASE,
        Column("test_interval", "in minutes; 0: every round", also=("interval",)),
        Column("paused", "yes or no; a new one is paused", also=("disabled",)),
        _TAGS,
        _NOTES,
    ),
    "workloads": (
        Column("name", "what it is called", True, (*_NAME, "job", "workload")),
        _ENVIRONMENT,
        Column("kind", "job, report, script or agent", also=("type",)),
        _OWNER,
        Column("runs", "when it runs, in words", also=("schedule", "cron", "frequency")),
        Column("windows", "change windows, separated by semicolons", also=("change window",)),
        Column("notice_days", "days before a change that its owner is notified", also=("notice",)),
        Column("draws", "yes: it draws by reference name"),
        Column("connection", "the reference of what it calls", also=("calls", "uses")),
        Column("operations", "separated by semicolons", also=("calls made",)),
        _TAGS,
        _NOTES,
    ),
}


def alike(text: str) -> str:
    """A text without what people write now one way and now another: case, spaces, signs."""
    return _SIGNS.sub("", text.casefold())


def suggested(heading: Iterable[str], columns: Iterable[Column]) -> dict[str, str]:
    """Which column of a table probably is which of ours, by our names; each goes once. The same
    word comes before another word for it, and that before one that is only alike.
    """
    short = [name for name in heading if len(name) <= _LONGEST]
    left = {alike(name): name for name in short if alike(name)}
    wanted = list(columns)
    found: dict[str, str] = {}
    for words in ("name", "also"):
        for column in wanted:
            if column.name in found:
                continue
            for word in (column.name,) if words == "name" else column.also:
                if (name := left.pop(alike(word), None)) is not None:
                    found[column.name] = name
                    break
    for column in wanted:
        if column.name not in found:
            close = difflib.get_close_matches(alike(column.name), left, 1, _ALIKE)
            if close:
                found[column.name] = left.pop(close[0])
    return found


def look_alikes(new: Mapping[str, int], known: Iterable[str]) -> list[tuple[str, int, str, int]]:
    """New names, by the lines that they are on, that differ from another only in how they are
    written: name and line, and the other with its line (0: it is there already).
    """
    there = {alike(name): (name, 0) for name in known}
    found = []
    for name, line in new.items():
        other = there.setdefault(alike(name), (name, line))
        if other[0] != name:
            found.append((name, line, *other))
    return found
