"""``WWW-Authenticate``: what a server says it wants (RFC 9110 §11.2, §11.6.1)."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

_TOKEN = re.compile(r"[!#$%&'*+\-.^_`|~0-9A-Za-z]+")
_TOKEN68 = re.compile(r"[A-Za-z0-9\-._~+/]+=*")
_SPACE = re.compile(r"[ \t]*")
_QUOTED = re.compile(r'"((?:[^"\\]|\\.)*)"', re.DOTALL)


@dataclass(frozen=True)
class Challenge:
    """One challenge: its scheme in lower case, its parameters (names in lower case), or its
    token68.
    """

    scheme: str
    params: Mapping[str, str]
    token68: str | None = None


def read_challenges(field_lines: Iterable[str]) -> list[Challenge]:
    """All challenges of one or several field lines, in order.

    What cannot be read is passed over, never raised.
    """
    found: list[Challenge] = []
    for line in field_lines:
        found.extend(_line(line))
    return found


def _line(line: str) -> list[Challenge]:
    found: list[Challenge] = []
    at = 0
    while at < len(line):
        at = _skip(line, at)
        if at < len(line) and line[at] == ",":
            at += 1
            continue
        scheme = _TOKEN.match(line, at)
        if scheme is None:
            break
        at = scheme.end()
        params: dict[str, str] = {}
        token68, at = _token68(line, at)
        if token68 is None:
            params, at = _params(line, at)
        found.append(Challenge(scheme.group().lower(), params, token68))
    return found


def _skip(line: str, at: int) -> int:
    space = _SPACE.match(line, at)
    assert space is not None
    return space.end()


def _token68(line: str, at: int) -> tuple[str | None, int]:
    """A token68 is one only where a comma or the end follows; otherwise it was the name of a
    parameter.
    """
    start = _skip(line, at)
    blob = _TOKEN68.match(line, start) if start > at else None
    if blob is None:
        return None, at
    end = _skip(line, blob.end())
    if end < len(line) and line[end] != ",":
        return None, at
    return blob.group(), end


def _params(line: str, at: int) -> tuple[dict[str, str], int]:
    params: dict[str, str] = {}
    while True:
        start = _skip(line, at)
        while start < len(line) and line[start] == ",":
            start = _skip(line, start + 1)
        name = _TOKEN.match(line, start)
        if name is None:
            return params, start
        equals = _skip(line, name.end())
        if equals >= len(line) or line[equals] != "=":
            return params, start  # no "=": the next challenge begins here
        value_at = _skip(line, equals + 1)
        if quoted := _QUOTED.match(line, value_at):
            value, at = re.sub(r"\\(.)", r"\1", quoted.group(1)), quoted.end()
        elif token := _TOKEN.match(line, value_at):
            value, at = token.group(), token.end()
        else:
            return params, len(line)
        params.setdefault(name.group().lower(), value)
