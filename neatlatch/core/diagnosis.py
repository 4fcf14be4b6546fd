"""Why a test failed: causes, most likely first, each with its reason and what would mend it (DOMAIN
§9).

A pin that differs and explains the refusal comes first: most failures are a place where the two
halves do not meet.
"""

from __future__ import annotations

from dataclasses import dataclass

from . import advice
from .evidence import CauseClass, Failure, RungResult
from .pins import Fit, Pin
from .replies import AUTHORIZATION_ERRORS, STATUS_MEANINGS


@dataclass(frozen=True)
class Cause:
    """One possible cause.

    ``pin`` is the key of the pin behind it, if one is; ``mend`` says what to do next.
    """

    says: str
    reason: str
    mend: str
    pin: str | None = None


@dataclass(frozen=True)
class Diagnosis:
    """The outcome of a test that did not pass, explained."""

    rung: str
    cause_class: CauseClass
    code: str
    causes: tuple[Cause, ...]

    @property
    def pin(self) -> str | None:
        """The pin that explains the failure, if one does."""
        return self.causes[0].pin if self.causes else None


_SECRETS = (
    "api_key",
    "key_secret",
    "password",
    "token",
    "token_secret",
    "client_secret",
    "register.password",
)
_NAMES = ("username", "key_id", "client_key", "token_id", "register.username")
_OWN_CERTIFICATE = (
    "handshake_failure",
    "certificate_required",
    "bad_certificate",
    "unknown_ca",
    "certificate_expired",
    "certificate_revoked",
    "closed_on_certificate",
)
# Which pins can explain which refusals, most telling first: those that bear on what was refused,
# and no others.
_EXPLAINS: dict[tuple[str, str], tuple[str, ...]] = {
    ("resolver", "*"): ("tenant", "endpoints", "environment"),
    ("socket", "*"): ("tenant", "endpoints", "environment"),
    **{("tls", code): ("certificate", "endpoints") for code in _OWN_CERTIFICATE},
    ("tls", "name"): ("endpoints", "environment"),
    ("tls", "not_tls"): ("endpoints",),
    ("setting", "*"): (
        "tenant",
        "issuer",
        "endpoints",
        "client_id",
        "redirect_uri",
        "secret",
        "certificate",
        "account",
        *_SECRETS,
        *_NAMES,
    ),
    ("authorize", "invalid_scope"): ("scopes",),
    ("authorize", "access_denied"): ("consent", "account"),
    ("authorize", "consent_required"): ("consent",),
    ("authorize", "unauthorized_client"): ("grant", "client_id"),
    ("authorize", "unsupported_response_type"): ("grant",),
    ("authorize", "invalid_request"): ("redirect_uri", "client_id", "grant"),
    ("authorize", "no_sign_in_page"): ("tenant", "endpoints", "issuer", "environment"),
    ("authorize", "*"): (
        "tenant",
        "redirect_uri",
        "client_id",
        "environment",
        "endpoints",
        "issuer",
    ),
    ("token", "invalid_client"): (
        "secret",
        "client_id",
        "client_sign_in",
        "certificate",
        "environment",
    ),
    # A refresh token's redirect URI is not compared (RFC 6749 §6), an assertion's audience and key
    # are (RFC 7523 §3).
    ("token", "invalid_grant"): ("audience", "certificate", "client_id", "environment"),
    ("token", "unauthorized_client"): ("grant", "client_id"),
    ("token", "unsupported_grant_type"): ("grant",),
    ("token", "invalid_scope"): ("scopes", "consent"),
    ("token", "no_token"): ("account", "secret"),
    ("token", "*"): ("tenant", "endpoints", "issuer", "environment"),
    ("resource", "insufficient_scope"): ("scopes", "rights", "consent"),
    ("resource", "invalid_token"): (
        *_SECRETS,
        *_NAMES,
        "audience",
        "environment",
        "tenant",
        "endpoints",
    ),
    ("resource", "status_401"): (
        *_SECRETS,
        *_NAMES,
        "certificate",
        "environment",
        "tenant",
        "endpoints",
    ),
    ("resource", "status_403"): ("rights", "scopes", "route", "account"),
    ("resource", "forbidden"): ("rights",),
    ("resource", "unknown_key"): _NAMES,
    ("resource", "wrong_secret"): _SECRETS,
    ("resource", "key_ended"): _SECRETS,
    ("resource", "*"): ("tenant", "endpoints", "environment"),
    ("work", "left_behind"): (),
    ("work", "no_id"): (),
    ("work", "forbidden"): ("rights",),
    ("work", "*"): (),
}

# What became of the piece of work that a test made, and what to do.
_WORK = {
    "left_behind": (
        "What the test made is left behind.",
        "Clear it away in the application, then correct clear_path or id_at in the profile.",
    ),
    "no_id": (
        "The answer has no ID of what was made.",
        (
            "Clear it away in the application, then say in the profile's id_at where its "
            "answers have the ID."
        ),
    ),
    "not_there": (
        "What the test made cannot be seen.",
        "Check look_path in the profile, and whether the application shows new things at once.",
    ),
}

_TLS = {  # RFC 8446 §6.2, and what a verifier says before any alert
    "expired": (
        "Their certificate has expired.",
        "Tell the application's owner: it cannot be corrected here. Do not switch the check off.",
    ),
    "not_yet_valid": (
        "Their certificate is not valid yet.",
        "Compare the clocks of both machines.",
    ),
    "untrusted": (
        "Their certificate comes from an authority that is not in our trust store.",
        "Add the issuing authority's certificate to the trust store, if it is the right one.",
    ),
    "self_signed": (
        "Their certificate is self-signed.",
        "Ask for one from an authority, or add this one to the trust store on purpose.",
    ),
    "name": (
        "Their certificate is for another name.",
        "Check the host in the address: is it the name in their certificate?",
    ),
    "revoked": ("Their certificate has been revoked.", "Tell the application's owner."),
    "handshake_failure": (
        "They refused the TLS handshake.",
        "They may want a client certificate, or only other versions.",
    ),
    "protocol_version": (
        "No TLS version is common to both.",
        "They offer only versions that are too old to be safe, or too new for this machine.",
    ),
    "certificate_required": (
        "They want a client certificate.",
        "Put a client certificate in on the caller side.",
    ),
    "bad_certificate": (
        "They did not accept our client certificate.",
        "Compare its thumbprint with the one they hold.",
    ),
    "unknown_ca": (
        "They do not trust the authority of our certificate.",
        "Use a certificate of an authority that they trust, or have them trust this one.",
    ),
    "certificate_expired": (
        "They say that our certificate has expired.",
        "Put a newer one in, and give it to them as well.",
    ),
    "certificate_revoked": (
        "They say that our certificate was revoked.",
        "Put another one in, and give it to them as well.",
    ),
    "closed_on_certificate": (
        "They did not take our client certificate.",
        (
            "They may not trust its authority, or not know this one: compare its thumbprint "
            "with the one they hold."
        ),
    ),
    "not_tls": (
        "The server there does not speak TLS.",
        "Check the port, and whether the address should begin with http: on loopback.",
    ),
}
_ROUTE = {
    "no_such_name": (
        "The name cannot be found.",
        "Check the host's spelling; if it is a new name, it may not have spread yet.",
    ),
    "resolver_silent": (
        "The name server does not answer.",
        "Check this machine's name server; other connections will fail as well.",
    ),
    "refused": (
        "Nothing listens at that address and port.",
        "Check the port, and whether the application is running.",
    ),
    "timeout": (
        "No answer within the time limit.",
        "A firewall may swallow the packets; try another route, or ask the network people.",
    ),
    "unreachable": (
        "There is no route to that network from here.",
        "Check the route of this connection.",
    ),
    "reset": (
        "The line was cut by the other side.",
        "Something in between may close it; try again, then look at proxies and firewalls.",
    ),
    "forbidden_address": (
        "The name leads to an address that Neat Latch must not call.",
        "If it is meant to, an administrator can allow its range in the settings.",
    ),
    "in_the_open": (
        "It would travel unprotected: the address begins with http:, and is not this machine.",
        "Use the application's https address. Nothing was sent.",
    ),
    "coding": (
        "The answer is packed in a way that is not taken apart.",
        "Tell the application's owner, or the operator of a proxy in between.",
    ),
    "too_large": (
        "The answer was larger than the limit.",
        "Check that the address is an API's and not a file's.",
    ),
}


def diagnose(
    result: RungResult,
    pins: tuple[Pin, ...],
    scheme: str,
    *,
    right: str = "right",
    credential_is_new: bool = False,
    clock_skew: float | None = None,
) -> Diagnosis:
    """Explain a rung that failed.

    ``scheme`` is a kind of ``schemes``, or ``advice.OWN`` where each person has an account of their
    own; ``right`` is the application's word for a right. ``credential_is_new``: the credential is
    younger than the provider's spreading time. ``clock_skew``: their ``Date`` minus our clock in
    seconds. Raises ``ValueError`` for a rung that passed.
    """
    failure = result.failure
    if failure is None:
        raise ValueError("a rung that passed has nothing to explain")
    causes = _from_pins(failure, pins)
    if credential_is_new and failure.cause in (CauseClass.CREDENTIAL, CauseClass.RIGHT):
        causes.append(
            Cause(
                "The new credential may not have spread yet.",
                "A right answer may be refused once or twice just after a key is made.",
                "Wait half a minute and test again before changing anything.",
            )
        )
    if (
        clock_skew is not None
        and abs(clock_skew) > 60
        and failure.cause in (CauseClass.CREDENTIAL, CauseClass.TLS)
    ):
        causes.append(
            Cause(
                f"Their clock and ours differ by {abs(clock_skew):.0f} s.",
                "Tokens and certificates are judged by the clock.",
                "Set this machine's clock, or tell the application's owner.",
            )
        )
    causes.append(_plain(failure, scheme, right))
    return Diagnosis(result.rung.value, failure.cause, failure.code, tuple(causes))


def _from_pins(failure: Failure, pins: tuple[Pin, ...]) -> list[Cause]:
    order = _EXPLAINS.get((failure.kind, failure.code), _EXPLAINS.get((failure.kind, "*"), ()))
    by_key = {pin.key: pin for pin in pins}
    causes = []
    for wanted in (Fit.DIFFERS, Fit.MISSING):
        for key in order:
            pin = by_key.get(key)
            if pin is not None and pin.fit is wanted and not pin.unwritten:
                mend = (
                    " or ".join(f"“{act.label}”" for act in pin.acts)
                    or "Change one of the two sides."
                )
                causes.append(Cause(f"The pin “{pin.label}” explains it.", pin.why, mend, pin.key))
    return causes


def _plain(failure: Failure, scheme: str, right: str) -> Cause:
    """What the code itself says, by its standard."""
    if failure.kind == "tls":
        says, mend = _TLS.get(
            failure.code, ("The TLS handshake failed.", "Look at what was sent and what came back.")
        )
        return Cause(says, failure.detail or f"TLS said {failure.code}.", mend)
    if failure.kind in ("resolver", "socket"):
        says, mend = _ROUTE.get(
            failure.code,
            (
                "The route to the application is broken.",
                "Look at what was sent and what came back.",
            ),
        )
        return Cause(says, failure.detail or failure.code, mend)
    if failure.kind == "setting":
        return Cause("Something is not filled in.", failure.detail, "Fill it in and test again.")
    if failure.code == "pace" or failure.status == 429:
        return Cause(
            "They say that we ask too often.",
            failure.detail or "Status 429 (RFC 6585 §4).",
            "Lower this connection's pace, then test again.",
        )
    if failure.status is not None and failure.status >= 500:
        return Cause(
            "The fault is on their side.",
            failure.detail
            or (
                f"They answered {failure.status}: "
                f"{STATUS_MEANINGS.get(failure.status, 'server error')}."
            ),
            "Nothing to change here. Wait, or tell the application's owner.",
        )
    if failure.kind == "authorize":
        if failure.code == "no_sign_in_page":
            says = "There is no sign-in page at this address."
            mend = "Compare the authorization endpoint with what the provider has."
            return Cause(says, failure.detail, mend)
        meaning = AUTHORIZATION_ERRORS.get(failure.code)
        if meaning is None:
            return Cause(
                "Their sign-in page refused the request without sending anybody back.",
                (
                    f"{failure.detail} A provider sends nobody back when the client ID or the "
                    f"redirect URI is wrong (RFC 6749 §4.1.2.1)."
                ).strip(),
                "Compare client ID and redirect URI with what is registered there.",
            )
        return Cause(
            f"Their sign-in page answered {failure.code}.",
            f"It means: {meaning} (RFC 6749 §4.1.2.1). {failure.detail}".strip(),
            "Compare what is asked for with what the client may ask for.",
        )
    if failure.code == "redirect":
        return Cause(
            "The application sent the call on to another address.",
            failure.detail,
            (
                "Put that address in, if it is right. A credential is never sent along to "
                "another origin."
            ),
        )
    if failure.kind in ("token", "resource"):
        scheme = failure.scheme or scheme
        found, reason = (
            advice.of_token(failure, scheme)
            if failure.kind == "token"
            else advice.of_resource(failure, scheme, right)
        )
        return Cause(found.says, reason, found.mend)
    if failure.code in _WORK:
        says, mend = _WORK[failure.code]
        return Cause(says, failure.detail, mend)
    return Cause(
        "The work itself did not go through.",
        failure.detail or failure.code,
        (
            "A sign-in that passes does not mean that the work passes: compare what was sent "
            "with what the application requires."
        ),
    )
