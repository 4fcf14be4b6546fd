"""Paste or drop anything: what is it, which values are in it, and what was left?

Nothing is guessed silently: what cannot be told is said, and what cannot be read is refused in
words, in bounded time and memory.
"""

from __future__ import annotations

import re
from datetime import datetime

from . import certificate_files, line_files, tree_items, trees, web_lines
from .clean import clean, suspicions
from .found import IntakeRefused, Item, Recognised

LARGEST = 4 * 1024 * 1024
LONGEST_LINE = 300_000
# One line as people send it, "Client secret: a1b2": words, a colon and a space, and one word after
# it. Common practice, no source.
_ONE_NAMED = re.compile(r"([A-Za-z][\w-]*(?: [A-Za-z][\w-]*){0,3}): +(\S+)")
_BOMS = ((b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16"), (b"\xef\xbb\xbf", "utf-8-sig"))


def recognise(data: bytes, now: datetime, password: str | None = None) -> Recognised:
    """Tell what was pasted or dropped. Raises :class:`IntakeRefused`."""
    found = _recognise(data, now, password)
    if not (found.items or found.left or found.facts):
        raise IntakeRefused(f"{found.says}. There is no value in it.")
    return found


def _recognise(data: bytes, now: datetime, password: str | None) -> Recognised:
    if not data.strip():
        raise IntakeRefused("There is nothing in it.")
    if len(data) > LARGEST:
        raise IntakeRefused(
            f"It is {len(data) // 2**20} MiB; more than {LARGEST // 2**20} MiB is not read. "
            f"Paste only the part with the values."
        )
    if data[:1] == b"\x30" and not _is_text(data):
        return certificate_files.recognise(data, password, now)
    text = decode(data)
    if "\x00" in text:
        raise IntakeRefused(
            "It holds null characters, so it is no text; drop the file itself if it is a "
            "certificate or key store."
        )
    start = text.lstrip("\ufeff \t\r\n")
    if start[:1] in ("{", "[") and (start[0] == "{" or not line_files.looks_like_ini(start)):
        return _json(start)
    if "-----BEGIN " in start and not start.startswith("curl"):
        return certificate_files.recognise(start.encode("utf-8"), password, now)
    return _lines(start, now)


def _is_text(data: bytes) -> bool:
    try:
        return data.decode("ascii").isprintable()
    except UnicodeDecodeError:
        return False


def decode(data: bytes) -> str:
    """Octets as text: by their byte order mark, else UTF-8. Raises :class:`IntakeRefused`."""
    for mark, encoding in _BOMS:
        if data.startswith(mark):
            try:
                return data.decode(encoding)
            except UnicodeDecodeError as error:
                raise IntakeRefused(
                    f"It says that it is {encoding.upper().removesuffix('-SIG')}, and is "
                    f"not. Save it as UTF-8 and try again."
                ) from error
    try:
        return data.decode("utf-8")
    except UnicodeDecodeError as error:
        raise IntakeRefused(
            f"It is not UTF-8 text (octet {error.start + 1}). Save it as UTF-8, or drop the "
            f"file itself if it is a certificate or key store."
        ) from error


def _json(text: str) -> Recognised:
    try:
        return tree_items.recognise(trees.read_json(text), "JSON")
    except trees.TreeRefused as error:
        raise IntakeRefused(str(error)) from error


def _lines(text: str, now: datetime) -> Recognised:
    if any(len(line) > LONGEST_LINE for line in text.splitlines()):
        raise IntakeRefused("A line in it is longer than any value could be.")
    if web_lines.looks_like_curl(text):
        return web_lines.read_curl(text)
    if web_lines.looks_like_jwt(text):
        return web_lines.read_jwt(text, now.timestamp())
    if web_lines.looks_like_authorization_url(text):
        return web_lines.read_authorization_url(text)
    if web_lines.looks_like_header(text):
        return web_lines.read_headers(text)
    if line_files.looks_like_table(text):
        return line_files.read_table(text)
    if line_files.looks_like_ini(text):
        return line_files.read_ini(text)
    if line_files.looks_like_env(text):
        return line_files.read_env(text)
    many = len([line for line in text.splitlines() if line.strip()]) > 1
    if many or text.startswith("---"):
        tree = _yaml(text)
        if tree is not None:
            return tree
        if line_files.looks_like_properties(text):
            return line_files.read_properties(text)
        return _several(text)
    if (named := _ONE_NAMED.fullmatch(text.strip())) and (cleaned := clean(named[2])).value:
        odd = tuple(("Looks odd", suspicion) for suspicion in suspicions(cleaned.value))
        return Recognised(
            "value",
            f"A value and its name, “{named[1]}”",
            (Item(named[1], cleaned.value, cleaned.notes),),
            (),
            odd,
        )
    return _one(text)


def _yaml(text: str) -> Recognised | None:
    """As YAML, if it is a mapping.

    Aliases, depth and size are refused for good; what is no YAML may still be something else.
    """
    try:
        tree = trees.read_yaml(text)
    except trees.TreeRefused as error:
        if "not YAML" in str(error):
            return None
        raise IntakeRefused(str(error)) from error
    return tree_items.recognise(tree, "YAML") if isinstance(tree, dict) else None


def _several(text: str) -> Recognised:
    lines = [clean(line) for line in text.splitlines() if line.strip()][:200]
    return Recognised(
        "text",
        f"{len(lines)} lines without names",
        tuple(
            Item(f"line {place}", one.value, one.notes)
            for place, one in enumerate(lines, 1)
            if one.value
        ),
        ("which line is which is not said; choose for each",),
    )


def _one(text: str) -> Recognised:
    cleaned = clean(text)
    if not cleaned.value:
        raise IntakeRefused("Nothing is left of it after cleaning.")
    return Recognised(
        "value",
        "A single value",
        (Item("", cleaned.value, cleaned.notes),),
        (),
        tuple(("Looks odd", suspicion) for suspicion in suspicions(cleaned.value)),
    )
