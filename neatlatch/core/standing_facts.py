"""Facts of the standards that cannot be computed, by the question that asks for each.

All are from memory, with the source to check against.
"""

from __future__ import annotations

from dataclasses import dataclass

from . import lifetimes, strength


@dataclass(frozen=True)
class Fact:
    """An answer, and where it stands. ``note``: what goes with it."""

    value: str | int | bool
    source: str
    note: str = ""


_TLS = "CA/Browser Forum Baseline Requirements §6.3.2 (ballot SC-081v3)"
_NIST = "NIST SP 800-63B-4 §3.1.1.2"
_BCP = "RFC 9700"
_DAYS = {since.year: days for since, days in lifetimes.PUBLIC_TLS_DAYS}
FACTS: dict[str, Fact] = {
    "maximum days of a public TLS certificate issued before 2026-03-15 (since 2020-09-01)": Fact(
        _DAYS[2020], _TLS
    ),
    "maximum days of a public TLS certificate issued from 2026-03-15 to before 2027-03-15": Fact(
        _DAYS[2026], _TLS
    ),
    "maximum days of a public TLS certificate issued from 2027-03-15 to before 2029-03-15": Fact(
        _DAYS[2027], _TLS
    ),
    "maximum days of a public TLS certificate issued on or after 2029-03-15": Fact(
        _DAYS[2029], _TLS
    ),
    "how a day is counted": Fact(
        "86400 seconds; any further second or fraction counts as one more day; notBefore "
        "and notAfter are both included",
        _TLS,
    ),
    "recommended maximum lifetime of an authorization code in seconds": Fact(
        lifetimes.LONGEST_CODE, "RFC 6749 §4.1.2"
    ),
    "how often may an authorization code be used": Fact(
        1,
        "RFC 6749 §4.1.2",
        "on a second use the server MUST deny and SHOULD revoke the tokens issued from it",
    ),
    "what must hold for refresh tokens of public clients": Fact(
        "sender-constrained, or refresh token rotation", f"{_BCP} §4.14.2"
    ),
    "what the server does when a rotated, already used refresh token is presented": Fact(
        "it cannot tell the attacker from the client, so it revokes the active refresh "
        "token (and with it the grant)",
        f"{_BCP} §4.14.2",
    ),
    "must public clients use PKCE": Fact(True, f"{_BCP} §2.1.1"),
    "may the resource owner password credentials grant be used": Fact(False, f"{_BCP} §2.4"),
    "default polling interval in seconds when none is given": Fact(5, "RFC 8628 §3.2"),
    "is expires_in required in a token reply": Fact(False, "RFC 6749 §5.1", "RECOMMENDED"),
    "suggested cryptoperiod of a private signature key (originator usage)": Fact(
        "1 to 3 years", "NIST SP 800-57 Part 1 §5.3.6"
    ),
    "suggested cryptoperiod of a symmetric authentication key (originator usage)": Fact(
        "up to 2 years", "NIST SP 800-57 Part 1 §5.3.6", "recipient usage up to 3 years longer"
    ),
    "minimum length of a password used as the only factor": Fact(
        strength.SHORTEST["single"], _NIST
    ),
    "minimum length of a password used only as part of multi-factor authentication": Fact(
        strength.SHORTEST["mfa"], _NIST
    ),
    "minimum length of a password chosen by the user": Fact(8, "NIST SP 800-63B-3 §5.1.1.1"),
    "maximum length that should at least be permitted": Fact(strength.LONGEST_AT_LEAST, _NIST),
    (
        "must new passwords be compared with a blocklist of common, expected or compromised values"
    ): Fact(True, _NIST),
    "may composition rules (mixtures of character types) be imposed": Fact(False, _NIST),
    "may a periodic change of password be required without evidence of compromise": Fact(
        False, _NIST
    ),
    "must a change be forced when there is evidence of compromise": Fact(True, _NIST),
    "minimum entropy in bits of a PKCE code verifier (SHOULD)": Fact(256, "RFC 7636 §7.1"),
    "largest probability that an attacker guesses a generated token: MUST be at most": Fact(
        "2^-128", "RFC 6749 §10.10", "SHOULD be at most 2^-160"
    ),
}


def find(question: str) -> Fact | None:
    """The fact that a question asks for; letters may be large or small.

    ``None``: it is not known.
    """
    return _BY_QUESTION.get(" ".join(question.casefold().split()))


_BY_QUESTION = {question.casefold(): fact for question, fact in FACTS.items()}
