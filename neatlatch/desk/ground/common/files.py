"""Files that people give: pasted as text, or chosen and sent in base64."""

from __future__ import annotations

import binascii

from .problems import wrong_fields


def octets(text: str, base64: str, field: str, most: int, too_large: str) -> bytes:
    """Read what was pasted, or chosen as a file (base64, RFC 4648 §4).

    ``most``: characters of both together. Raises a field error, ``too_large`` where it is.
    """
    if len(text) + len(base64) > most:
        raise wrong_fields({field: too_large})
    if not base64:
        return text.encode("utf-8", "surrogatepass")
    try:
        return binascii.a2b_base64(base64, strict_mode=True)
    except (binascii.Error, ValueError) as error:
        says = "The file did not arrive whole; choose it again."
        raise wrong_fields({field: says}) from error
