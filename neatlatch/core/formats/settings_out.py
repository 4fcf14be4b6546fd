"""A connection as a settings file, ``.env`` or ``.properties``: values as they are, secrets as
references into the safe.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping

_REFERENCE = re.compile(r"neatlatch://(?P<ref>(?:[a-z0-9_-]+/)?[a-z0-9-]+)/(?P<key>[a-z0-9_.]+)")
_PLAIN = re.compile(r"[A-Za-z0-9_./:@%+,=~-]+")


def reference(ref: str, key: str) -> str:
    """How a secret is named in files: by the connection's reference and the key of the value."""
    return f"neatlatch://{ref}/{key}"


def read_reference(text: str) -> tuple[str, str] | None:
    """The connection's reference and the key that a text names, if it names a secret; one that is
    written without its environment comes as it is.
    """
    found = _REFERENCE.fullmatch(text.strip())
    return (found["ref"], found["key"]) if found else None


def env(
    ref: str, values: Mapping[str, str], secrets: Iterable[str], scopes: Iterable[str] = ()
) -> str:
    """As ``.env``: names in capitals and without the environment, so that a job reads the same
    names in each; values in double quotes where a shell would take them apart.
    """
    return "".join(
        f"{_name(ref, key, '_').upper()}={_quoted(value)}\n"
        for key, value in _lines(ref, values, secrets, scopes)
    )


def properties(
    ref: str, values: Mapping[str, str], secrets: Iterable[str], scopes: Iterable[str] = ()
) -> str:
    """As ``.properties`` (Java SE API, java.util.Properties.load), in ASCII."""
    return "".join(
        f"{_bare(ref).replace('-', '.')}.{key}={_escaped(value)}\n"
        for key, value in _lines(ref, values, secrets, scopes)
    )


def _lines(
    ref: str, values: Mapping[str, str], secrets: Iterable[str], scopes: Iterable[str]
) -> list[tuple[str, str]]:
    found = [(key, value) for key, value in values.items() if value]
    if wanted := " ".join(sorted(scopes)):
        found.append(("scopes", wanted))
    return found + [(key, reference(ref, key)) for key in secrets]


def _name(ref: str, key: str, joint: str) -> str:
    return re.sub(r"[^A-Za-z0-9]+", joint, f"{_bare(ref)}{joint}{key}")


def _bare(ref: str) -> str:
    """The connection's name, the same in each environment."""
    return ref.rpartition("/")[2]


def _quoted(value: str) -> str:
    if _PLAIN.fullmatch(value):
        return value
    escaped = (
        value.replace("\\", "\\\\")
        .replace('"', '\\"')
        .replace("$", "\\$")
        .replace("`", "\\`")
        .replace("\r", "")
        .replace("\n", "\\n")
    )
    return f'"{escaped}"'


def _escaped(value: str) -> str:
    found = []
    for at, letter in enumerate(value):
        if letter in "\\" or (letter == " " and at == 0):
            found.append("\\" + letter)
        elif letter in "\n\r\t\f":
            found.append({"\n": "\\n", "\r": "\\r", "\t": "\\t", "\f": "\\f"}[letter])
        elif " " <= letter <= "~":
            found.append(letter)
        else:
            units = letter.encode("utf-16-be")
            found += [
                f"\\u{units[place]:02x}{units[place + 1]:02x}" for place in range(0, len(units), 2)
            ]
    return "".join(found)
