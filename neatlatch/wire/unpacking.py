"""Taking the coding off an answer (RFC 9110 §8.4), within a limit: 1,800 octets may
hold gigabytes.
"""

from __future__ import annotations

import zlib
from collections.abc import Iterable

# What is asked for, and no other is taken apart.
ACCEPTED = "gzip, deflate"


class BadCoding(ValueError):
    """The answer has more codings than one, or an unknown one, or is damaged; the message says
    which.
    """


class TooLarge(ValueError):
    """There is more in it than is read."""


def unpacked(parts: Iterable[bytes], codings: str, most: int) -> bytes:
    """The whole content of an answer.

    ``codings`` is its ``Content-Encoding``; ``most``: octets, packed and unpacked alike.

    Raises :class:`BadCoding`, :class:`TooLarge`.
    """
    named = [
        part.strip().lower()
        for part in codings.split(",")
        if part.strip() and part.strip().lower() != "identity"
    ]
    if len(named) > 1:
        raise BadCoding(
            f"It is packed {len(named)} times ({', '.join(named)[:80]}); one coding is taken off."
        )
    if named and named[0] not in ("gzip", "x-gzip", "deflate"):
        raise BadCoding(f"It is packed as {named[0][:40]!r}, which was not asked for.")
    plain = bytearray()
    packed, unpacker = 0, _Unpacker(named[0]) if named else None
    for part in parts:
        packed += len(part)
        if packed > most:
            raise TooLarge
        plain += part if unpacker is None else unpacker.take(part, most + 1 - len(plain))
        if len(plain) > most:
            raise TooLarge
    if unpacker is not None and packed:
        unpacker.end()
    return bytes(plain)


class _Unpacker:
    def __init__(self, coding: str) -> None:
        self._deflate = coding == "deflate"
        # gzip (RFC 1952); deflate is zlib (RFC 1950), which some servers leave out.
        self._inflater = zlib.decompressobj(15 if self._deflate else 31)
        self._begun = False

    def take(self, part: bytes, most: int) -> bytes:
        try:
            return self._inflate(part, most)
        except zlib.error as error:
            if self._deflate and not self._begun:
                self._inflater = zlib.decompressobj(-15)
                try:
                    return self._inflate(part, most)
                except zlib.error as worse:
                    raise BadCoding(f"What it is packed in is damaged: {worse}.") from worse
            raise BadCoding(f"What it is packed in is damaged: {error}.") from error

    def _inflate(self, part: bytes, most: int) -> bytes:
        found = self._inflater.decompress(part, most)
        self._begun = True
        return found

    def end(self) -> None:
        if not self._inflater.eof and not self._inflater.unconsumed_tail:
            raise BadCoding("What it is packed in was cut off.")
