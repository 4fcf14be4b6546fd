"""How connections are named: a name that is the same in each environment, and, with that,
the reference ``production/cargo-manifests``.

Common practice, no source: one name for one purpose, so that a script that moves from one
environment to the next is not changed.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

LONGEST_NAME = 80
WRONG_NAME = (
    "A reference name has small letters, digits and single hyphens, 80 at the most, like "
    "cargo-manifests."
)
_NAME = re.compile(r"[a-z0-9]+(?:-[a-z0-9]+)*")
# Common practice, no source: how names shorten environments.
_SHORT_FORMS = {
    "production": ("prod", "prd", "live"),
    "staging": ("stage", "stg"),
    "sandbox": ("sbx",),
    "development": ("dev",),
    "acceptance": ("acc", "uat"),
    "test": ("tst",),
}


def is_name(text: str) -> bool:
    """Whether a text can be a connection's name."""
    return len(text) <= LONGEST_NAME and _NAME.fullmatch(text) is not None


def write(environment: str, name: str) -> str:
    """The reference of a connection, by the key of its environment and its name."""
    return f"{environment}/{name}"


def read(reference: str) -> tuple[str, str] | None:
    """The environment's key and the name in a reference; ``None``: it has another form."""
    environment, slash, name = reference.partition("/")
    return (environment, name) if slash and environment and is_name(name) else None


def alternatives(references: Iterable[str]) -> str:
    """References as a sentence names them: “a”, “a or b”, “a, b or c”."""
    *others, last = references
    return f"{', '.join(others)} or {last}" if others else last


def joined_name(name: str, environment: str) -> str:
    """A name without the words by which it says its environment, which its reference says already;
    the name itself where it has none, or nothing else.
    """
    for words in (environment, *_SHORT_FORMS.get(environment, ())):
        shorter = _without(name.split("-"), words.split("-"))
        if shorter:
            return "-".join(shorter)
    return name


def _without(name: list[str], words: list[str]) -> list[str]:
    """The parts of a name without the last place where these words are all in a row."""
    for start in range(len(name) - len(words), -1, -1):
        if name[start : start + len(words)] == words:
            return name[:start] + name[start + len(words) :]
    return []


@dataclass(frozen=True)
class Proposal:
    """A name proposed for a connection. ``obstacle`` says why it cannot have it (empty: it can)."""

    environment: str
    name: str
    joined: str
    obstacle: str = ""

    @property
    def reference(self) -> str:
        """The reference of now."""
        return write(self.environment, self.name)

    @property
    def becomes(self) -> str:
        """The reference that is proposed."""
        return write(self.environment, self.joined)


def propose(names: Iterable[tuple[str, str]], taken: Mapping[str, str]) -> list[Proposal]:
    """Joined names for connections, given as environment and name; those that need none are left
    out.

    ``taken`` are references that others have, with what has each (“a connection”). Of two that
    would get the same name, the first gets it.
    """
    found: list[Proposal] = []
    given: dict[str, str] = {}
    for environment, name in names:
        joined = joined_name(name, environment)
        if joined == name:
            continue
        reference = write(environment, joined)
        obstacle = ""
        if reference in taken:
            obstacle = f"{reference} is the name of {taken[reference]}."
        elif reference in given:
            obstacle = f"{reference} is proposed for {given[reference]}."
        else:
            given[reference] = write(environment, name)
        found.append(Proposal(environment, name, joined, obstacle))
    return found
