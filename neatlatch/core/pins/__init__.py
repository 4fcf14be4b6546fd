"""Pins: the settings that both halves of a connection must agree on, and where they do not (DOMAIN
§2).

One file for each pin. ``TABLE`` says which scheme has which, in the order in which they are drawn.
"""

from __future__ import annotations

from collections.abc import Callable

from ..health import State
from ..schemes import API_KEY, BASIC, BEARER, CERTIFICATE, CLIENT, CODE, JWT, OAUTH1, PAIR, STREAM
from . import (
    account,
    audience,
    certificate,
    client_id,
    consent,
    endpoints,
    environment,
    grant,
    identity,
    issuer,
    redirect_uri,
    rights,
    route,
    scopes_pin,
    secret,
    sign_in,
    tenant,
)
from .base import (
    Act,
    CallerSide,
    CertificateSight,
    Consent,
    Fit,
    Halves,
    Need,
    PersonalAccount,
    Pin,
    ProviderSide,
    SecretFacts,
)

Maker = Callable[[Halves], tuple[Pin, ...]]


def _one(make: Callable[[Halves], Pin]) -> Maker:
    return lambda halves: (make(halves),)


_ISSUER, _ENDPOINTS, _CLIENT_ID, _SECRET, _SIGN_IN = (
    _one(room.pin) for room in (issuer, endpoints, client_id, secret, sign_in)
)
_GRANT, _SCOPES, _CONSENT, _CERTIFICATE = (
    _one(room.pin) for room in (grant, scopes_pin, consent, certificate)
)
_ROUTE, _ENVIRONMENT, _AUDIENCE = (_one(room.pin) for room in (route, environment, audience))
_KEYS: tuple[Maker, ...] = (
    tenant.pins,
    _ENDPOINTS,
    identity.pins,
    secret.pins,
    rights.pins,
    account.pins,
    _ROUTE,
    _ENVIRONMENT,
)
TABLE: dict[str, tuple[Maker, ...]] = {
    CODE: (
        _ISSUER,
        tenant.pins,
        _ENDPOINTS,
        _one(redirect_uri.pin),
        _CLIENT_ID,
        _SECRET,
        _SIGN_IN,
        _GRANT,
        _SCOPES,
        _CONSENT,
        _one(account.pin),
        _ROUTE,
        _ENVIRONMENT,
    ),
    CLIENT: (
        _ISSUER,
        tenant.pins,
        _ENDPOINTS,
        _CLIENT_ID,
        _SECRET,
        _SIGN_IN,
        _GRANT,
        _SCOPES,
        _CONSENT,
        _ROUTE,
        _ENVIRONMENT,
    ),
    JWT: (
        _ISSUER,
        tenant.pins,
        _ENDPOINTS,
        _CLIENT_ID,
        _CERTIFICATE,
        _AUDIENCE,
        _GRANT,
        _SCOPES,
        _CONSENT,
        _ROUTE,
        _ENVIRONMENT,
    ),
    CERTIFICATE: (
        tenant.pins,
        _ENDPOINTS,
        _CERTIFICATE,
        rights.pins,
        account.pins,
        _ROUTE,
        _ENVIRONMENT,
    ),
    **dict.fromkeys((OAUTH1, API_KEY, PAIR, STREAM, BASIC, BEARER), _KEYS),
}


def work_out(halves: Halves) -> tuple[Pin, ...]:
    """All pins of a connection, in the order of the shear line."""
    return tuple(pin for make in TABLE[halves.caller.scheme] for pin in make(halves))


def latches(pins: tuple[Pin, ...]) -> bool:
    """Whether all pins are on the shear line."""
    return all(pin.fit in (Fit.FITS, Fit.NOT_ASKED) for pin in pins)


def summary(pins: tuple[Pin, ...]) -> str:
    """The pins in words, as a screen reader says them: “11 pins, 2 differ: redirect
    URI, scopes”.
    """
    words = [f"{len(pins)} pins"]
    for fit, verb in (
        (Fit.DIFFERS, "differ"),
        (Fit.MISSING, "missing"),
        (Fit.NOT_PROVEN, "not proven"),
    ):
        named = [pin.label for pin in pins if pin.fit is fit]
        if named:
            verb = f"{verb}s" if fit is Fit.DIFFERS and len(named) == 1 else verb
            words.append(f"{len(named)} {verb}: {', '.join(named)}")
    return ", ".join(words) if len(words) > 1 else f"{words[0]}, all on the line"


def beside(state: State, pins: tuple[Pin, ...]) -> str:
    """The few words beside a glyph when something is the matter with the pins; empty: nothing is,
    or the connection's state tells it.
    """
    off = [pin for pin in pins if pin.fit in (Fit.DIFFERS, Fit.MISSING)]
    if len(off) > 1:
        return f"{len(off)} pins out"
    if off:
        verb = "differ" if off[0].label.endswith("s") else "differs"
        return f"{off[0].label} {'missing' if off[0].fit is Fit.MISSING else verb}"
    if state in (State.STICKING, State.UNLATCHED):
        return ""
    unproven = [pin for pin in pins if pin.fit is Fit.NOT_PROVEN]
    if unproven or state is State.NOT_PROVEN:
        return f"{unproven[0].label} not proven" if len(unproven) == 1 else "not proven"
    return ""


__all__ = [
    "TABLE",
    "Act",
    "CallerSide",
    "CertificateSight",
    "Consent",
    "Fit",
    "Halves",
    "Need",
    "PersonalAccount",
    "Pin",
    "ProviderSide",
    "SecretFacts",
    "beside",
    "latches",
    "summary",
    "work_out",
]
