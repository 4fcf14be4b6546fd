"""What a refusal means and what mends it, by the authentication scheme (DOMAIN §9).

The same answer wants another act of each scheme: nobody can sign in where a key is sent, and a
stream answers no HTTP. The acts are common practice, no source; what a code means is its
standard's.
"""

from __future__ import annotations

from dataclasses import dataclass

from .evidence import Failure
from .replies import RESOURCE_ERRORS, STATUS_MEANINGS, TOKEN_ERRORS
from .schemes import API_KEY, BASIC, BEARER, CERTIFICATE, CLIENT, CODE, JWT, OAUTH1, PAIR, STREAM

# Where each person has an account of their own.
OWN = "own_accounts"


@dataclass(frozen=True)
class Advice:
    """What was seen, in one sentence, and what mends it."""

    says: str
    mend: str


_RIGHT = "Give its account the {right} that the call needs, in the application."
_ACCOUNT = "The application knows us and forbids the call."
_ENVIRONMENT = "Check that token endpoint and API base address belong to the same environment"

# What a call of the API was refused with, by scheme.
NOT_ACCEPTED: dict[str, Advice] = {
    CODE: Advice(
        "The application did not accept the token.",
        "Sign in again, and check that the token is for this environment.",
    ),
    OWN: Advice(
        "The application did not accept the token.",
        "The account's holder connects it again, under My accounts.",
    ),
    CLIENT: Advice(
        "The application did not accept the token that the client was given.",
        f"{_ENVIRONMENT}, and that this client may use the API.",
    ),
    JWT: Advice(
        "The application did not accept the token that the assertion was traded for.",
        f"{_ENVIRONMENT}, and that the account of the assertion may use the API.",
    ),
    API_KEY: Advice(
        "The application did not accept the API key.",
        "Compare its end with what the application shows, and the name and place it travels in."
        " If it expired or was withdrawn, have a new one made there and put it in.",
    ),
    PAIR: Advice(
        "The application did not accept the key.",
        (
            "Compare the key ID, and enter the secret of that key again. If it expired or "
            "was withdrawn, have a new key made there."
        ),
    ),
    BASIC: Advice(
        "The application did not accept user name and password.",
        "Compare the user name, and enter the password again. An account that is locked, or whose"
        " password has expired, is refused in the same way.",
    ),
    BEARER: Advice(
        "The application did not accept the token.",
        (
            "It may have expired or been withdrawn: have a new one made in the application, and "
            "put it in."
        ),
    ),
    OAUTH1: Advice(
        "The application did not accept the signature.",
        (
            "Compare client key and token, and enter both secrets again; a clock that is "
            "minutes off is refused too (RFC 5849 §3.3)."
        ),
    ),
    CERTIFICATE: Advice(
        "The application does not know the certificate as one of its callers.",
        "Compare its thumbprint with the one that the application holds for this account.",
    ),
}
FORBIDDEN: dict[str, Advice] = {
    CODE: Advice(
        _ACCOUNT,
        "Compare the scopes, and what the account that signed in may do in the application.",
    ),
    OWN: Advice(_ACCOUNT, "Compare the scopes, and what this person may do in the application."),
    CLIENT: Advice(_ACCOUNT, "Compare the scopes, and what this client may do in the application."),
    JWT: Advice(
        _ACCOUNT, "Compare the scopes, and what the account of the assertion may do there."
    ),
    OAUTH1: Advice(
        _ACCOUNT,
        f"{_RIGHT} One that was changed after the token was made may want a new token.",
    ),
    **{kind: Advice(_ACCOUNT, _RIGHT) for kind in (API_KEY, PAIR, BASIC, BEARER, CERTIFICATE)},
}
LACKING: dict[str, Advice] = {
    CODE: Advice("The token has too few rights.", "Ask for the scope, then sign in again."),
    OWN: Advice(
        "The token has too few rights.",
        "Ask for the scope; then each person connects their account again.",
    ),
    CLIENT: Advice(
        "The token has too few rights.",
        "Have the scope permitted for the client, then ask for it.",
    ),
    JWT: Advice(
        "The token has too few rights.",
        "Have the scope permitted for the client, then ask for it.",
    ),
    BEARER: Advice(
        "The token has too few rights.",
        "Have a token made that has the {right}, and put it in.",
    ),
    **{
        kind: Advice("Its account has too few rights.", _RIGHT)
        for kind in (API_KEY, PAIR, BASIC, CERTIFICATE, OAUTH1)
    },
    STREAM: Advice("Its key has too few rights.", "Give the key the {right} it needs, there."),
}
_NOT_FOUND = Advice(
    "The application has nothing at this address.",
    "Check the API base address and the path of the call.",
)
_NOT_TAKEN = Advice(
    "The application did not take what was sent.",
    "Compare what was sent with what the application's documents ask for.",
)
# What a stream answers, by its own codes.
STREAM_ANSWERS = {
    "unknown_key": Advice(
        "The stream does not know the key.",
        "Compare the key ID with what the application shows.",
    ),
    "wrong_secret": Advice(
        "The stream did not accept the secret of the key.",
        "Enter the secret of this key again, or have a new key made there.",
    ),
    "key_ended": Advice("The key has expired.", "Have a new key made there, and put it in."),
    "forbidden": Advice(
        "The stream knows the key and forbids this.",
        "Give the key the {right} it needs, in the application.",
    ),
}
# What a token endpoint refuses, by its code (RFC 6749 §5.2) and scheme; "": any scheme.
TOKEN_MENDS: dict[tuple[str, str], str] = {
    (
        "invalid_client",
        "",
    ): (
        "Compare client ID, secret and sign-in method. Enter the secret again: its value, "
        "not its ID."
    ),
    ("invalid_client", JWT): "Compare the client ID, and our certificate with the one they hold.",
    (
        "invalid_grant",
        CODE,
    ): "Sign in again: the refresh token was used before, has expired or was revoked.",
    ("invalid_grant", OWN): "The account's holder connects it again, under My accounts: the"
    " refresh token was used before, has expired or was revoked.",
    ("invalid_grant", JWT): "Compare the assertion's audience and account, and our certificate"
    " with the one they hold; check both clocks (RFC 7523 §3.1).",
    ("invalid_scope", ""): "Ask only for scopes that this client is permitted.",
    ("unauthorized_client", ""): "Have the grant switched on for this client.",
    (
        "unsupported_grant_type",
        "",
    ): "Check the token endpoint; this server does not offer the grant.",
    ("no_token", CODE): "Sign in.",
    ("no_token", OWN): "Somebody of its people connects their account, under My accounts.",
}
_LOOK = "Look at what was sent and what came back."


def of_resource(failure: Failure, scheme: str, right: str = "right") -> tuple[Advice, str]:
    """Return the advice on a refused call, and what the answer means.

    ``scheme`` is a kind of ``schemes``, or :data:`OWN`; ``right`` is the application's own word for
    a right, such as role or scope.
    """
    if scheme == STREAM:
        other = Advice(f"The stream answered {failure.code.replace('_', ' ')}.", _LOOK)
        found = (
            LACKING[STREAM]
            if failure.code == "insufficient_scope"
            else STREAM_ANSWERS.get(failure.code, other)
        )
        return _worded(found, right), failure.detail
    found = _of_answer(failure, scheme)
    return _worded(found, right), _explanation(failure)


def _of_answer(failure: Failure, scheme: str) -> Advice:
    if failure.code == "insufficient_scope":
        return LACKING[scheme]
    if failure.code == "invalid_token" or failure.status == 401:
        return NOT_ACCEPTED[scheme]
    if failure.status == 403:
        return FORBIDDEN[scheme]
    if failure.status in (404, 405, 410):
        return _NOT_FOUND
    if failure.status is not None and 400 <= failure.status < 500:
        return _NOT_TAKEN
    return Advice(f"The application answered {failure.status or failure.code}.", _LOOK)


def _explanation(failure: Failure) -> str:
    """What the answer means by its standard, then what it says itself; our own finding is no
    answer.
    """
    if failure.status is None:
        return failure.detail
    if failure.code in RESOURCE_ERRORS:
        meaning, source = f"{failure.code}: {RESOURCE_ERRORS[failure.code]}", "RFC 6750 §3.1"
    else:
        meaning = (
            f"{failure.status}: {STATUS_MEANINGS.get(failure.status, 'no code of the standard')}"
        )
        source = "RFC 9110 §15"
    told = failure.detail.strip()
    if told.rstrip(".").casefold() in meaning.casefold():
        told = ""
    wanted = f"It wants {' '.join(failure.scopes)}." if failure.scopes else ""
    return " ".join(part for part in (f"It answered {meaning} ({source}).", told, wanted) if part)


def _worded(advice: Advice, right: str) -> Advice:
    return Advice(advice.says, advice.mend.replace("{right}", right))


def of_token(failure: Failure, scheme: str) -> tuple[Advice, str]:
    """Return the advice on a refusal of the token endpoint, and what the answer means."""
    mend = TOKEN_MENDS.get((failure.code, scheme)) or TOKEN_MENDS.get((failure.code, ""), _LOOK)
    if failure.code == "no_token":
        return Advice("There is no token to send.", mend), failure.detail
    if failure.status is None:
        # Nobody was asked: it was refused before, or has ended, as far as is known here.
        return Advice("No live token is held.", mend), failure.detail
    meaning = TOKEN_ERRORS.get(failure.code)
    if meaning is None:
        return Advice("The token endpoint did not give a token.", mend), failure.detail
    reason = f"It means: {meaning} (RFC 6749 §5.2). {failure.detail}".strip()
    return Advice(f"The token endpoint answered {failure.code}.", mend), reason
