"""Whether a text that names somebody means a person: by full name, initial and last name, login
name, or the account names they are known by.
"""

from __future__ import annotations

import re
from collections.abc import Iterable


def spellings(name: str, username: str, accounts: Iterable[str] = ()) -> frozenset[str]:
    """How people write a person's name, in small letters without dots (common practice, no source):
    “Rowan Oake”, “R. Oake”, “r.oake”, “Oake, Rowan”.
    """
    found = {_plain(username)}
    parts = name.split()
    found.add(_plain(name))
    if len(parts) > 1:
        first, last = parts[0], parts[-1]
        found |= {
            _plain(f"{first[0]} {last}"),
            _plain(f"{last} {first}"),
            _plain(f"{last} {first[0]}"),
            _plain(f"{first} {last}"),
        }
    for account in accounts:
        found |= {_plain(account), _plain(account.partition("@")[0])}
    return frozenset(found) - {""}


def other_account(expected: str, actual: str) -> bool:
    """Whether somebody else came than was expected; empty: not known, and then nobody can say so.

    Capital letters do not tell accounts apart (common practice, no source).
    """
    return bool(expected and actual) and expected.casefold() != actual.casefold()


def means(text: str, ways: frozenset[str]) -> bool:
    """Whether a text is one of the ways to write the person, whole or as an address with an account
    of theirs before the @.
    """
    return _plain(text) in ways or ("@" in text and _plain(text.partition("@")[0]) in ways)


def _plain(text: str) -> str:
    return " ".join(re.sub(r"[.,_\-]+", " ", text.casefold()).split())
