"""Reading and writing the access rules that an application keeps, over HTTP with an entity tag (RFC
9110 §8.8.3, §13.1.1).
"""

from __future__ import annotations

import json
from dataclasses import dataclass, replace

from neatlatch.core import oauth2
from neatlatch.core.access import BadRules, Book, formats
from neatlatch.core.sending import Credentials, dress

from .road import Road


@dataclass(frozen=True)
class There:
    """The rules as the application holds them, their tag, and the resources it names."""

    book: Book
    tag: str
    resources: tuple[str, ...]


class Refused(Exception):
    """The application did not do it; the message says why.

    ``changed``: its rules are not those that were read before.
    """

    def __init__(self, says: str, changed: bool = False) -> None:
        super().__init__(says)
        self.changed = changed


def read(road: Road, address: str, held: Credentials, nonce: str, timestamp: int) -> There:
    """Read the rules. Raises :class:`Refused`, :class:`RoadError`, :class:`NotComplete`."""
    return _send(road, "GET", address, held, nonce, timestamp, None, "")


def write(
    road: Road, address: str, held: Credentials, nonce: str, timestamp: int, book: Book, tag: str
) -> There:
    """Put rules in place of those that have the tag. Raises as :func:`read`."""
    return _send(road, "PUT", address, held, nonce, timestamp, book, tag)


def _send(
    road: Road,
    method: str,
    address: str,
    held: Credentials,
    nonce: str,
    timestamp: int,
    book: Book | None,
    tag: str,
) -> There:
    request = oauth2.api_request(
        method, address, "", formats.as_plain(book) if book is not None else None
    )
    if tag:
        request = replace(request, headers=(*request.headers, ("If-Match", tag)))
    answer = road.send(dress(request, held, nonce, timestamp))
    if answer.status == 412:
        raise Refused("Its rules were changed there since they were read.", changed=True)
    if answer.status in (401, 403):
        raise Refused(
            f"It does not let us: it answered {answer.status}. Look at the credential of "
            f"this endpoint."
        )
    if not 200 <= answer.status < 300:
        raise Refused(f"It answered {answer.status}.")
    try:
        found = json.loads(answer.text)
        streams = found.get("streams") or found.get("resources") or []
        headers = {name.lower(): value for name, value in answer.headers.items()}
        return There(
            formats.from_plain(found),
            headers.get("etag", ""),
            tuple(str(stream) for stream in streams),
        )
    except (ValueError, AttributeError, BadRules) as error:
        raise Refused(f"What it answered are no rules that can be read here: {error}") from error
