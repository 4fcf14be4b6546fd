"""Tags, notes and links that people put on an object (common practice, no source)."""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from urllib.parse import urlsplit

from . import house_key

LONGEST_TAG, MOST_TAGS = 40, 20
LONGEST_NOTES, MOST_LINKS, LONGEST_LABEL, LONGEST_ADDRESS = 10_000, 20, 100, 1_000
# A tag is one word of a filter: no space, no colon, no quotation mark.
_TAG = re.compile(r"[a-z0-9][a-z0-9._-]*")
_SCHEMES = ("http", "https", "mailto")


class BadAnnotation(ValueError):
    """Something cannot be kept; ``field`` is the one that it is about: tags, notes or links."""

    def __init__(self, field: str, says: str) -> None:
        super().__init__(says)
        self.field = field


@dataclass(frozen=True, order=True)
class Link:
    """An address outside, and what it is called; an empty label: the address itself."""

    address: str
    label: str = ""


@dataclass(frozen=True)
class TagsAndNotes:
    """What people have put on an object: tags in alphabetical order, notes as plain text with
    line breaks, and links in the order in which they were given.
    """

    tags: tuple[str, ...] = ()
    notes: str = ""
    links: tuple[Link, ...] = ()

    @property
    def is_empty(self) -> bool:
        """Whether there is nothing to keep."""
        return not (self.tags or self.notes or self.links)


def checked(tags: Iterable[str], notes: str, links: Sequence[Link]) -> TagsAndNotes:
    """What is kept of it: tidied, nothing twice. Raises :class:`BadAnnotation`."""
    return TagsAndNotes(_tags(tags), _checked_notes(notes), _links(links))


def tag(text: str) -> str:
    """One tag as it is kept: in small letters. Raises :class:`BadAnnotation`."""
    kept = text.strip().lower()
    if len(kept) > LONGEST_TAG:
        raise BadAnnotation("tags", f"A tag has at most {LONGEST_TAG} characters.")
    if not _TAG.fullmatch(kept):
        raise BadAnnotation(
            "tags",
            f"“{text.strip()[:LONGEST_TAG]}” is not a tag: use letters from a to z, digits, full "
            f"stops, hyphens and underscores, and begin with a letter or a digit.",
        )
    return kept


def with_and_without(
    tags: Iterable[str], add: Iterable[str], remove: Iterable[str]
) -> tuple[str, ...]:
    """Tags after some are added and others removed. Raises :class:`BadAnnotation` where they
    become too many.
    """
    return _tags({*_tags(tags), *map(tag, add)} - {tag(text) for text in remove})


def _tags(entered: Iterable[str]) -> tuple[str, ...]:
    kept = sorted({tag(text) for text in entered if text.strip()})
    if len(kept) > MOST_TAGS:
        raise BadAnnotation("tags", f"At most {MOST_TAGS} tags are kept for one object.")
    return tuple(kept)


def _checked_notes(entered: str) -> str:
    kept = entered.replace("\r\n", "\n").replace("\r", "\n").strip()
    if len(kept) > LONGEST_NOTES:
        raise BadAnnotation("notes", f"Notes have at most {LONGEST_NOTES:,} characters.")
    if house_key.find_in(kept) or "PRIVATE KEY-----" in kept:
        # Everybody who may look reads them, and they are in exports.
        raise BadAnnotation(
            "notes", "These notes contain a secret. Put it into the safe, and remove it here."
        )
    return kept


def _links(entered: Sequence[Link]) -> tuple[Link, ...]:
    kept = tuple(_link(link) for link in entered if link.address.strip() or link.label.strip())
    if len(kept) > MOST_LINKS:
        raise BadAnnotation("links", f"At most {MOST_LINKS} links are kept for one object.")
    addresses = [link.address for link in kept]
    for address in addresses:
        if addresses.count(address) > 1:
            raise BadAnnotation("links", f"“{address[:60]}” is there twice.")
    return kept


def _link(entered: Link) -> Link:
    address, label = entered.address.strip(), entered.label.strip()
    if not address:
        raise BadAnnotation("links", f"The link “{label[:LONGEST_LABEL]}” has no address.")
    if len(address) > LONGEST_ADDRESS:
        raise BadAnnotation("links", f"A link has at most {LONGEST_ADDRESS:,} characters.")
    if len(label) > LONGEST_LABEL:
        raise BadAnnotation("links", f"A link's label has at most {LONGEST_LABEL} characters.")
    if not _leads_somewhere(address):
        # A link with another scheme, such as javascript:, would do something in the reader's page.
        raise BadAnnotation(
            "links", f"“{address[:60]}” is not a link: it begins with https:, http: or mailto:."
        )
    return Link(address, label)


def _leads_somewhere(address: str) -> bool:
    if any(letter.isspace() or not letter.isprintable() for letter in address):
        return False
    try:
        parts = urlsplit(address)
        host = parts.hostname
    except ValueError:
        return False
    if parts.username is not None or parts.password is not None:
        return False
    return parts.scheme in _SCHEMES and bool(parts.path if parts.scheme == "mailto" else host)
