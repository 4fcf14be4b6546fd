"""Reading and writing the access rules that an application keeps, over HTTP with an entity tag (RFC
9110 §8.8.3, §13.1.1).
"""

from __future__ import annotations

import json
from dataclasses import dataclass, replace

from neatlatch.core import oauth2
from neatlatch.core.access import BadRules, Book, formats
from neatlatch.core.sending import Credentials, with_credential

from .transport import Transport


@dataclass(frozen=True)
class PublishedRules:
    """The rules as the application holds them, their tag, and the resources it names."""

    book: Book
    tag: str
    resources: tuple[str, ...]


class RulesRefused(Exception):
    """The application did not do it; the message says why.

    ``changed``: its rules are not those that were read before.
    """

    def __init__(self, says: str, changed: bool = False) -> None:
        super().__init__(says)
        self.changed = changed


def read(
    transport: Transport, address: str, held: Credentials, nonce: str, timestamp: int
) -> PublishedRules:
    """Read the rules. Raises :class:`RulesRefused`, :class:`TransportError`,
    :class:`NotComplete`.
    """
    return _send(transport, "GET", address, held, nonce, timestamp, None, "")


def write(
    transport: Transport,
    address: str,
    held: Credentials,
    nonce: str,
    timestamp: int,
    book: Book,
    tag: str,
) -> PublishedRules:
    """Put rules in place of those that have the tag. Raises as :func:`read`."""
    return _send(transport, "PUT", address, held, nonce, timestamp, book, tag)


def _send(
    transport: Transport,
    method: str,
    address: str,
    held: Credentials,
    nonce: str,
    timestamp: int,
    book: Book | None,
    tag: str,
) -> PublishedRules:
    request = oauth2.api_request(
        method, address, "", formats.as_plain(book) if book is not None else None
    )
    if tag:
        request = replace(request, headers=(*request.headers, ("If-Match", tag)))
    answer = transport.send(with_credential(request, held, nonce, timestamp))
    if answer.status == 412:
        raise RulesRefused("Its rules were changed there since they were read.", changed=True)
    if answer.status in (401, 403):
        raise RulesRefused(
            f"It does not let us: it answered {answer.status}. Look at the credential of "
            f"this endpoint."
        )
    if not 200 <= answer.status < 300:
        raise RulesRefused(f"It answered {answer.status}.")
    try:
        found = json.loads(answer.text)
        streams = found.get("streams") or found.get("resources") or []
        headers = {name.lower(): value for name, value in answer.headers.items()}
        return PublishedRules(
            formats.from_plain(found),
            headers.get("etag", ""),
            tuple(str(stream) for stream in streams),
        )
    except (ValueError, AttributeError, BadRules) as error:
        raise RulesRefused(
            f"What it answered are no rules that can be read here: {error}"
        ) from error
