"""Real work as a test does it: what was made, and what the application's answers have shown of it.

Nothing is claimed that no answer has shown.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass, replace
from typing import Any
from urllib.parse import quote, unquote

from . import pointers, replies
from .addresses import take_apart
from .profiles import LOCATION, Operation, Probe

# Characters of an ID that an application gives; a longer one counts as none (our own bound).
LONGEST_ID = 200


def id_in(probe: Probe, headers: Mapping[str, str], content: str) -> str:
    """Return the ID that an application gave, from where the probe says; empty: there is none.

    ``Location`` (RFC 9110 §10.2.2): the last segment of that address's path. Otherwise a JSON
    Pointer (RFC 6901) to a string or an integer of the content.
    """
    if probe.id_at == LOCATION:
        path = take_apart(replies.header(headers, LOCATION) or "").path
        value: Any = unquote(path.rstrip("/").rpartition("/")[2])
    else:
        try:
            value = pointers.value_at(json.loads(content), probe.id_at)
        except (ValueError, LookupError, RecursionError):
            return ""
    if isinstance(value, bool) or not isinstance(value, str | int):
        return ""
    text = str(value)
    # A path with one of these segments leads elsewhere (RFC 3986 §5.2.4).
    if text in (".", "..") or len(text) > LONGEST_ID or not text.isprintable():
        return ""
    return text


@dataclass(frozen=True)
class Piece:
    """A piece of work that a test makes, and what answers have shown of it."""

    probe: Probe
    # The test's own mark.
    mark: str
    # The ID that the application gave; empty: none, or not known yet.
    id: str = ""
    # An answer said that it was made.
    made: bool = False
    # Another answer showed it.
    seen: bool = False
    # It was cleared away, or was never made.
    gone: bool = False

    @property
    def name(self) -> str:
        """How people find it: its mark, and the application's ID."""
        return f"{self.mark} ({self.id})" if self.id else self.mark

    @property
    def can_be_cleared(self) -> bool:
        """Whether the address to clear it at is known."""
        return bool(self.id) or not self.probe.id_at

    def may_be_made(
        self, operations: Iterable[Operation], may: Callable[[Operation], bool]
    ) -> bool:
        """Whether the operation that makes it is allowed; one that is not described is tried."""
        path = self.path(self.probe.make_path)
        make = next(
            (
                operation
                for operation in operations
                if operation.covers(self.probe.make_method, path)
            ),
            None,
        )
        return make is None or may(make)

    def path(self, template: str) -> str:
        """Return a path of the probe with mark and ID filled in; the ID stays one segment."""
        return template.replace("{test}", self.mark).replace("{id}", quote(self.id, safe=""))

    def body(self) -> dict[str, Any]:
        """Return what is sent to make it."""
        return {
            key: value.replace("{test}", self.mark) if isinstance(value, str) else value
            for key, value in self.probe.make_body.items()
        }

    def shown_by(self, content: str) -> bool:
        """Whether a good answer to the look shows it: by its mark, or because it was asked for by
        ID.
        """
        return self.mark in content or (bool(self.id) and "{id}" in self.probe.look_path)

    def answered(self, headers: Mapping[str, str], content: str) -> Piece:
        """Return it as made, with the ID of the answer."""
        given = id_in(self.probe, headers, content) if self.probe.id_at else ""
        return replace(self, made=True, id=given)

    def report(self, not_found: bool = False) -> str:
        """Return what was shown, in words. ``not_found``: clearing was answered so."""
        end = "it was gone before it was cleared away" if not_found else "cleared it away"
        return ", ".join([f"made {self.name}", *(["saw it"] if self.seen else []), end])
