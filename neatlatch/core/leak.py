"""A credential has leaked: finding it in whatever was pasted, and when revoking it stops whom."""

from __future__ import annotations

import re
from dataclasses import dataclass
from datetime import datetime

from . import house_key, keys
from .certificates import reading
from .schemes import CERTIFICATE, CODE, OAUTH1, OAUTH2

MOST_WORDS, LONGEST = 500, 20_000
_WORD = re.compile(r"[^\s\"'`<>,;()\[\]{}]{8,4000}")
_AT_THE_START, _AT_THE_END = "=:", ".,;:!?…"


def candidates(text: str) -> tuple[str, ...]:
    """What in a text may be a credential: keys of the house first, then the whole text, then its
    words and what stands after ``=`` or ``:`` in them.
    """
    text = text[:LONGEST]
    found = dict.fromkeys(house_key.find_in(text))
    found.setdefault(text.strip())
    for word in _WORD.findall(text)[:MOST_WORDS]:
        for part in (
            word,
            word.partition("=")[2],
            word.rpartition(":")[2],
            word.rpartition("=")[2],
        ):
            cleaned = part.lstrip(_AT_THE_START).rstrip(_AT_THE_END)
            if len(cleaned) >= 8:
                found.setdefault(cleaned)
    return tuple(found)


def public_keys(text: str) -> tuple[str, ...]:
    """The other halves of private keys in a text, each by the hash of its SubjectPublicKeyInfo, so
    that a key is known however it was written out.
    """
    if "PRIVATE KEY-----" not in text:
        return ()
    try:
        found = reading.read(text[:LONGEST].encode("utf-8"))
    except reading.Unreadable:
        return ()
    return tuple(keys.facts(keys.public_of(key)).spki_sha256 for key in found.keys)


@dataclass(frozen=True)
class ConnectionStop:
    """When a connection stops once its credential is revoked, and why then.

    ``at`` is ``None`` for at once.
    """

    at: datetime | None
    says: str


def stop(
    scheme: str, house: bool, token_ends: datetime | None, has_token: bool, now: datetime
) -> ConnectionStop:
    """When those who use a connection are stopped by the end of its secret.

    A token that was got with it lives on at an application (RFC 6749 §1.5) unless that ends it too;
    the house authority ends both at once.
    """
    if house:
        return ConnectionStop(
            None, "at once: the house authority ends the tokens that were got with it, too"
        )
    if scheme in OAUTH2 and has_token and token_ends is not None and token_ends > now:
        return ConnectionStop(
            token_ends,
            "when the token it holds now expires, unless the application ends that as well",
        )
    if scheme in OAUTH2 and has_token and token_ends is None:
        return ConnectionStop(None, "not known: the token it holds has no expiry")
    return ConnectionStop(
        None,
        "at once: it is shown with every call"
        if scheme not in OAUTH2
        else "at once: it holds no token that lives",
    )


@dataclass(frozen=True)
class RetainedAccess:
    """What somebody who drew a connection may still have of it.

    ``at``: until when it admits, ``None`` where nothing is left or nobody can say; ``lasts``: it
    stays good until the connection's own credential is replaced.
    """

    at: datetime | None
    lasts: bool
    says: str


def taken(
    scheme: str, token_ends: datetime | None, has_token: bool, now: datetime
) -> RetainedAccess:
    """What a header is still good for that was drawn before the key to draw with was revoked (RFC
    6749 §1.4: a token admits anyone who has it until it ends; RFC 5849 §3.3: a signed request is
    taken once).
    """
    if scheme == CERTIFICATE:
        return RetainedAccess(None, False, "nothing can be taken from it: requests only go through")
    if scheme == OAUTH1:
        return RetainedAccess(None, False, "a header taken from it was good for one request")
    if scheme not in OAUTH2:
        return RetainedAccess(
            None,
            True,
            "a header taken from it shows the application's own secret: replace that, too",
        )
    if not has_token or (token_ends is not None and token_ends <= now):
        return RetainedAccess(
            None, False, "it holds no valid token, so no header taken from it is accepted"
        )
    if token_ends is None:
        return RetainedAccess(
            None, True, "a header taken from it holds a token without an end: end that, too"
        )
    return RetainedAccess(
        token_ends, False, "a header taken from it is accepted until its token expires"
    )


@dataclass(frozen=True)
class TokenWorth:
    """What a leaked token is good for: whether it ``lives``, what anyone who has it can do, and
    what its ending does to those who use it rightly.
    """

    lives: bool
    says: str
    after: str


def token_of_connection(
    scheme: str, refresh: bool, ends: datetime | None, public: bool, now: datetime
) -> TokenWorth:
    """What an access or refresh token that a connection holds is worth to somebody else.

    A refresh token of a confidential client is no use without the client's own secret (RFC 6749 §6,
    §10.4); one of a public client is all it takes.
    """
    after = (
        "its workloads stop, until somebody signs in again"
        if scheme == CODE
        else "a new one is got by the next that needs it, and nobody is stopped"
    )
    if refresh:
        return TokenWorth(
            True,
            "anyone who has it gets new tokens with it"
            if public
            else "anyone who has it, and the client's secret too, gets new tokens with it",
            after,
        )
    if ends is not None and ends <= now:
        return TokenWorth(False, "it has expired, and gives no access", after)
    return TokenWorth(
        True,
        (
            f"anyone who has it gets in as this "
            f"connection{' until it expires' if ends else ', and it has no expiry'}"
        ),
        after,
    )


def acts(application: str, house: bool, managed: bool) -> tuple[str, ...]:
    """The quickest replacement, in words and in order.

    ``house``: the house authority issued it; ``managed``: its client is registered by protocol (RFC
    7591); ``application`` is empty where it is not known whose it is.
    """
    if house:
        return (
            "Make another secret of the client: two may live at once.",
            "Enter it in place of the old one, and test.",
            "Revoke this one; it is refused at once.",
        )
    if not application:
        return (
            "Have it revoked where it was issued.",
            "Put a new one into the connections that hold it.",
        )
    if managed:
        return (
            f"Register another client at {application}: it is by protocol, and gives a "
            f"secret at once.",
            "Name it in the connections, sign in, and test.",
            "Remove the old client there.",
        )
    return (
        f"In {application}'s own screens, make a second secret or key.",
        "Paste it into the connections that hold this one, and test.",
        f"Revoke this one in {application}'s screens.",
    )
