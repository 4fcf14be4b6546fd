"""Files of lines: ``.env``, INI and ``.properties``."""

from __future__ import annotations

import re

from . import properties
from .clean import clean
from .found import IntakeRefused, Item, Recognised

_ENV_LINE = re.compile(r"^\s*(?:export\s+)?([A-Za-z_][A-Za-z0-9_]*)\s*=\s*(.*)$")
_SECTION = re.compile(r"^\s*\[([^\]\n]{1,100})\]\s*(?:[#;].*)?$")
_PAIR = re.compile(r"^\s*([^=:#;\[\]\s][^=:\n]{0,100}?)\s*[=:]\s*(.*)$")


def looks_like_env(text: str) -> bool:
    """Whether every line that says anything is ``NAME=value``."""
    lines = [
        line for line in text.splitlines() if line.strip() and not line.lstrip().startswith("#")
    ]
    return bool(lines) and all(_ENV_LINE.match(line) for line in lines)


def looks_like_table(text: str) -> bool:
    """Whether every line is a label and a value with a tab between, as rows copied out of a page
    are.
    """
    lines = [line for line in text.splitlines() if line.strip()]
    return bool(lines) and all(line.strip("\t ").count("\t") == 1 for line in lines)


def read_table(text: str) -> Recognised:
    """Labels and values copied out of a page."""
    items = []
    for line in text.splitlines():
        if line.strip():
            name, _, value = line.strip("\t ").partition("\t")
            cleaned = clean(value)
            items.append(Item(name.strip(), cleaned.value, cleaned.notes))
    return Recognised("table", f"{len(items)} rows of a table", tuple(items))


def looks_like_ini(text: str) -> bool:
    """Whether there is a section in brackets, and a pair in it."""
    lines = text.splitlines()
    return any(_SECTION.match(line) for line in lines) and any(_PAIR.match(line) for line in lines)


def looks_like_properties(text: str) -> bool:
    """Whether most lines that say anything are a key and a value."""
    lines = [line for line in text.splitlines() if line.strip() and line.lstrip()[0] not in "#!"]
    return bool(lines) and sum(bool(_PAIR.match(line)) for line in lines) * 2 > len(lines)


def read_env(text: str) -> Recognised:
    """``NAME=value`` lines as shells and starters read them: quotes group, ``#`` after a space
    begins a comment outside of quotes.

    ``$NAME`` is left as it stands and said, because nobody here knows what it would be.
    """
    items, left = [], []
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip() or line.lstrip().startswith("#"):
            continue
        match = _ENV_LINE.match(line)
        if match is None:
            left.append(f"line {number}: not NAME=value")
            continue
        name, raw = match.group(1), match.group(2).strip()
        value, single = _env_value(raw)
        if not single and re.search(r"\$(?:\w+|\{\w+\})", value):
            left.append(
                f"{name}: it refers to another variable, and what that holds is not known here"
            )
            continue
        cleaned = clean(value)
        items.append(Item(name, cleaned.value, cleaned.notes))
    return Recognised("env", f"A file of variables: {len(items)} values", tuple(items), tuple(left))


def _env_value(raw: str) -> tuple[str, bool]:
    if len(raw) > 1 and raw[0] in "'\"":
        end = raw.find(raw[0], 1)
        while raw[0] == '"' and end > 0 and raw[end - 1] == "\\":
            end = raw.find('"', end + 1)
        if end > 0:
            inner = raw[1:end]
            if raw[0] == '"':
                inner = re.sub(
                    r"\\(.)",
                    lambda found: {"n": "\n", "t": "\t"}.get(found.group(1), found.group(1)),
                    inner,
                )
            return inner, raw[0] == "'"
    return _without_remark(raw), False


def _without_remark(raw: str) -> str:
    """A remark begins with ``#`` after a space."""
    at = raw.find("#", 1)
    while at > 0 and not raw[at - 1].isspace():
        at = raw.find("#", at + 1)
    return raw[:at].rstrip() if at > 0 else raw


def read_ini(text: str) -> Recognised:
    """Sections and pairs; a comment begins with ``;`` or ``#``."""
    items, left, section = [], [], ""
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip() or line.lstrip()[0] in "#;":
            continue
        if found := _SECTION.match(line):
            section = found.group(1).strip()
            continue
        pair = _PAIR.match(line)
        if pair is None:
            left.append(f"line {number}: neither a section nor a pair")
            continue
        cleaned = clean(pair.group(2))
        items.append(
            Item(
                f"{section}.{pair.group(1).strip()}" if section else pair.group(1).strip(),
                cleaned.value,
                cleaned.notes,
            )
        )
    return Recognised(
        "ini", f"A file of settings in sections: {len(items)} values", tuple(items), tuple(left)
    )


def read_properties(text: str) -> Recognised:
    """Keys and values as java.util.Properties reads them. Raises :class:`IntakeRefused`."""
    try:
        found = list(properties.pairs(text))
    except properties.BadProperties as error:
        raise IntakeRefused(f"It looks like a properties file, but: {error}.") from error
    items, left, last = [], [], dict(found)
    for name, value in last.items():
        cleaned = clean(value)
        items.append(Item(name, cleaned.value, cleaned.notes))
    if len(last) != len(found):
        left.append("a key that occurs twice: its last value was taken, as the format requires")
    return Recognised(
        "properties", f"A properties file: {len(items)} values", tuple(items), tuple(left)
    )
