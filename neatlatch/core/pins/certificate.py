"""Certificate: its chain is good, its thumbprint is the one they hold, it may be used by a client,
and the key is its own (DOMAIN §8).
"""

from __future__ import annotations

import re

from ..lifetimes import in_words
from .base import Act, Halves, Pin, differs, missing, not_known, unwritten

KEY, LABEL = "certificate", "certificate"


def pin(halves: Halves) -> Pin:
    """RFC 5280 §6.1 for the chain, RFC 8705 §2 and §3.1 for the thumbprint; extended key usage must
    have clientAuth (RFC 5280 §4.2.1.12).
    """
    ours, held = halves.caller.certificate, halves.provider.facts.get("thumbprint", "")
    # While one is replaced by another, they hold both: commas stand between.
    held_by_them = [plain(part) for part in held.split(",") if part.strip()]
    put_in = Act("put_certificate", "Put in the certificate")
    theirs = " or ".join(short(thumbprint) for thumbprint in held_by_them) or "—"
    if ours is None:
        return missing(KEY, LABEL, theirs, "", "We have no certificate to show.", put_in)
    shown = f"{ours.subject} · {short(ours.sha256)}"
    if ours.key_matches is None:
        return missing(
            KEY, LABEL, theirs, shown, "The private key of our certificate is missing.", put_in
        )
    if not ours.key_matches:
        return differs(
            KEY,
            LABEL,
            theirs,
            shown,
            "The private key we hold is not this certificate's.",
            put_in,
            marked=False,
        )
    if ours.verdict == "expired" and ours.ends is not None:
        return differs(
            KEY,
            LABEL,
            theirs,
            shown,
            f"Its chain expired {in_words(halves.now - ours.ends)} ago.",
            put_in,
            marked=False,
        )
    if ours.verdict != "ok":
        return differs(KEY, LABEL, theirs, shown, ours.says, put_in, marked=False)
    if not ours.client_use:
        return differs(
            KEY,
            LABEL,
            theirs,
            shown,
            "It is not made for clients: its extended key usage has no clientAuth.",
            put_in,
            marked=False,
        )
    if not halves.provider.known:
        return not_known(KEY, LABEL, shown)
    if not held:
        return unwritten(
            KEY,
            LABEL,
            shown,
            "The thumbprint they hold has not been entered.",
            Act("note_thumbprint", "They have this one", ours.sha256),
        )
    if plain(ours.sha256) not in held_by_them:
        return differs(
            KEY,
            LABEL,
            theirs,
            shown,
            "They hold the thumbprint of another certificate.",
            Act("note_thumbprint", "They have this one now", ours.sha256),
            put_in,
            marked=False,
        )
    left = f" · {in_words(ours.ends - halves.now)} left" if ours.ends is not None else ""
    return halves.agreed(
        KEY,
        LABEL,
        theirs,
        shown + left,
        "The chain is good, and the thumbprint is the same on both sides.",
    )


def plain(thumbprint: str) -> str:
    """A thumbprint for comparing: hexadecimal capitals, without colons or spaces."""
    return re.sub(r"[^0-9A-F]", "", thumbprint.upper())


def short(thumbprint: str) -> str:
    """A thumbprint as it is shown in a row: its first and last octets."""
    text = plain(thumbprint)
    return f"{text[:8]}…{text[-8:]}" if len(text) > 20 else thumbprint
