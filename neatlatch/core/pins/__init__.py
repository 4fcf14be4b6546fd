"""Pins: the settings that both halves of a connection must agree on, and where they do not (DOMAIN §2).

One file for each pin. ``TABLE`` says which scheme has which, in the order in which they are drawn.
"""

from __future__ import annotations

from ..profiles import CLIENT, CODE
from . import account, client_id, consent, endpoints, environment, grant, issuer, redirect_uri, scopes_pin, secret, sign_in
from .base import Act, CallerSide, Consent, Fit, Halves, Need, Pin, ProviderSide, SecretFacts

_ALL = (issuer, endpoints, redirect_uri, client_id, secret, sign_in, grant, scopes_pin, consent, account, environment)
TABLE = {
    CODE: _ALL,
    CLIENT: tuple(one for one in _ALL if one not in (redirect_uri, account)),
}
LABELS = {one.KEY: one.LABEL for one in _ALL}


def work_out(halves: Halves) -> tuple[Pin, ...]:
    """All pins of a connection, in the order of the shear line."""
    return tuple(one.pin(halves) for one in TABLE[halves.caller.scheme])


def latches(pins: tuple[Pin, ...]) -> bool:
    """Whether all pins are on the shear line."""
    return all(one.fit in (Fit.FITS, Fit.NOT_ASKED) for one in pins)


def summary(pins: tuple[Pin, ...]) -> str:
    """The pins in words, as a screen reader says them: “11 pins, 2 differ: redirect URI, scopes”."""
    words = [f"{len(pins)} pins"]
    for fit, verb in ((Fit.DIFFERS, "differ"), (Fit.MISSING, "missing"), (Fit.NOT_PROVEN, "not proven")):
        named = [one.label for one in pins if one.fit is fit]
        if named:
            verb = f"{verb}s" if fit is Fit.DIFFERS and len(named) == 1 else verb
            words.append(f"{len(named)} {verb}: {', '.join(named)}")
    return ", ".join(words) if len(words) > 1 else f"{words[0]}, all on the line"


__all__ = ["LABELS", "TABLE", "Act", "CallerSide", "Consent", "Fit", "Halves", "Need", "Pin", "ProviderSide", "SecretFacts", "latches",
           "summary", "work_out"]  # fmt: skip
