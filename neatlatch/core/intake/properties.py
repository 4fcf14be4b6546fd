"""``.properties`` files, as java.util.Properties.load reads them (Java SE API,
java.util.Properties).
"""

from __future__ import annotations

from collections.abc import Iterator

_ESCAPES = {"t": "\t", "n": "\n", "r": "\r", "f": "\f"}
_WHITE = " \t\f"


class BadProperties(ValueError):
    """The text is not a properties file; the message says why."""


def parse(text: str) -> dict[str, str]:
    """Keys and values; of a key that occurs twice, the last one wins.

    Raises :class:`BadProperties`.
    """
    return dict(pairs(text))


def pairs(text: str) -> Iterator[tuple[str, str]]:
    """Keys and values in their order. Raises :class:`BadProperties`."""
    for line in _logical_lines(text):
        end, value_from = _split(line)
        yield _unescape(line[:end]), _unescape(line[value_from:])


def _natural_lines(text: str) -> list[str]:
    return text.replace("\r\n", "\n").replace("\r", "\n").split("\n")


def _logical_lines(text: str) -> Iterator[str]:
    """Lines with their continuations joined; comments and blank lines left out."""
    begun: list[str] = []
    natural = _natural_lines(text)
    for number, line in enumerate(natural, 1):
        stripped = line.lstrip(_WHITE)
        if not begun and (not stripped or stripped[0] in "#!"):
            continue
        slashes = len(stripped) - len(stripped.rstrip("\\"))
        if slashes % 2:
            begun.append(stripped[:-1])
            continue
        joined = "".join(begun) + stripped
        # A line that is empty after joining is blank, unless the file ends right behind its
        # backslash: so the reference reads it.
        if joined or (line == "" and number == len(natural)):
            yield joined
        begun = []
    if begun:
        yield "".join(begun)


def _split(line: str) -> tuple[int, int]:
    """Where the key ends and where the value begins: at the first “=”, “:” or white space that is
    not escaped.
    """
    place = 0
    while place < len(line) and line[place] not in "=:" + _WHITE:
        place += 2 if line[place] == "\\" else 1
    end = min(place, len(line))
    place = end
    while place < len(line) and line[place] in _WHITE:
        place += 1
    if place < len(line) and line[place] in "=:":
        place += 1
        while place < len(line) and line[place] in _WHITE:
            place += 1
    return end, place


def _unescape(text: str) -> str:
    if "\\" not in text:
        return text
    out, place = [], 0
    while place < len(text):
        character = text[place]
        place += 1
        if character != "\\" or place >= len(text):
            if character != "\\":
                out.append(character)
            continue
        escaped = text[place]
        place += 1
        if escaped == "u":
            digits = text[place : place + 4]
            if len(digits) < 4 or any(c not in "0123456789abcdefABCDEF" for c in digits):
                raise BadProperties("malformed unicode escape")
            out.append(chr(int(digits, 16)))
            place += 4
        else:
            out.append(_ESCAPES.get(escaped, escaped))
    # Two escapes may be the halves of one character beyond U+FFFF (UTF-16).
    return "".join(out).encode("utf-16", "surrogatepass").decode("utf-16", "replace")
