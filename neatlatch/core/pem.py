"""PEM (RFC 7468): its blocks, found in one pass, and what they hold."""

from __future__ import annotations

import base64
import binascii
import re
from collections.abc import Iterator
from dataclasses import dataclass

# In octets. A revocation list may be long; nothing else is.
LONGEST = 200_000
_LINE = re.compile(rb"-----(BEGIN|END) ([A-Z0-9 ]{1,40})-----")


@dataclass(frozen=True)
class Block:
    """One block: its label, and its text from the first dash to the last."""

    label: str
    text: bytes

    @property
    def has_headers(self) -> bool:
        """Whether lines like ``Proc-Type: 4,ENCRYPTED`` (RFC 1421 §4.6) stand before
        its content.
        """
        return b":" in self.text

    def der(self) -> bytes:
        """Its content; empty where it is no base64.

        What stands round the base64 (white space) is left.
        """
        body = self.text[self.text.index(b"-----", 5) + 5 : self.text.rindex(b"-----END")]
        try:
            return base64.b64decode(b"".join(body.split()), validate=True)
        except binascii.Error:
            return b""


def is_pem(data: bytes) -> bool:
    """Whether a file holds PEM, so that it need not be tried as DER."""
    return b"-----BEGIN " in data


def blocks(data: bytes) -> Iterator[Block]:
    """Each block that ends as it begins.

    One that begins anew before it ended, or is too long, is left out.
    """
    label, begin = b"", -1
    for line in _LINE.finditer(data):
        if line[1] == b"BEGIN":
            label, begin = line[2], line.start()
        elif begin >= 0 and line[2] == label:
            if line.end() - begin <= LONGEST:
                yield Block(label.decode("ascii"), data[begin : line.end()])
            begin = -1
