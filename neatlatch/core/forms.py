"""One value of ``application/x-www-form-urlencoded`` (RFC 6749 Appendix B)."""

from __future__ import annotations

# What no encoder escapes. “~” and “*” are left alone by some; escaped, every decoder reads them
# alike.
_PLAIN = frozenset(b"ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789-_.")


class BadForm(ValueError):
    """The text is not form-encoded; the message says why."""


def encode(text: str) -> str:
    """Encode a value: UTF-8, a space as “+”, all but letters, digits and “-_.” as %XX.

    >>> encode("x + y")
    'x+%2B+y'
    """
    return "".join(
        "+" if octet == 0x20 else chr(octet) if octet in _PLAIN else f"%{octet:02X}"
        for octet in text.encode("utf-8")
    )


def decode(text: str) -> str:
    """The reverse of :func:`encode`.

    Raises :class:`BadForm` for a broken escape or octets that are not UTF-8.
    """
    octets, place = bytearray(), 0
    raw = text.encode("utf-8")
    while place < len(raw):
        octet = raw[place]
        if octet == 0x25:
            pair = raw[place + 1 : place + 3]
            if len(pair) < 2 or not all(digit in b"0123456789abcdefABCDEF" for digit in pair):
                raise BadForm("after % two hexadecimal digits are required")
            octets.append(int(pair, 16))
            place += 3
        else:
            octets.append(0x20 if octet == 0x2B else octet)
            place += 1
    try:
        return octets.decode("utf-8")
    except UnicodeDecodeError as error:
        raise BadForm("the octets are not UTF-8") from error
