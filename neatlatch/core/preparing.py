"""Preparing the provider's side: the numbered acts in an application's own screens, for
any scheme.
"""

from __future__ import annotations

from .registration import RegistrationStep
from .schemes import (
    API_KEY,
    BASIC,
    BEARER,
    CERTIFICATE,
    CLIENT,
    CODE,
    JWT,
    OAUTH1,
    OAUTH2,
    PAIR,
    STREAM,
    ManualAct,
    Scheme,
)
from .scopes import joined

# What is usually done, in the order in which it is usually done (common practice, no source).
_ACCOUNT = ManualAct("Add a service account for this use, not a person's", "{name}")
_RIGHTS = ManualAct("Give it just enough rights, no more", "{rights}")
_USUAL: dict[str, tuple[ManualAct, ...]] = {
    API_KEY: (
        _ACCOUNT,
        _RIGHTS,
        ManualAct("Make an API key with an end date, named", "{name}"),
        ManualAct("Take the key: it is shown once"),
    ),
    PAIR: (
        _ACCOUNT,
        _RIGHTS,
        ManualAct("Make a key and secret, named", "{name}"),
        ManualAct("Take both: the secret is shown once. The key ID is not the secret"),
    ),
    STREAM: (
        _ACCOUNT,
        _RIGHTS,
        ManualAct("Make a key and secret for the stream, named", "{name}"),
        ManualAct("Take both: the secret is shown once"),
    ),
    BASIC: (_ACCOUNT, _RIGHTS, ManualAct("Give the account a long random password and take it")),
    BEARER: (
        _ACCOUNT,
        _RIGHTS,
        ManualAct("Make a token, named", "{name}"),
        ManualAct("Take the token: it is shown once"),
    ),
    OAUTH1: (
        ManualAct("Register our program", "{name}"),
        ManualAct(
            "Set its permission before any token is made: a later change does not reach a token",
            "{rights}",
        ),
        ManualAct("Make a token for the service account"),
        ManualAct("Take all four values: client key, client secret, token, token secret"),
    ),
    CERTIFICATE: (
        _ACCOUNT,
        _RIGHTS,
        ManualAct("Upload our certificate, without its private key"),
        ManualAct("Compare the thumbprint that they show", "{thumbprint}"),
    ),
    JWT: (
        ManualAct("Add a client", "{name}"),
        ManualAct("Switch on the JWT bearer grant (RFC 7523)"),
        ManualAct("Upload our certificate, without its private key"),
        ManualAct("Allow these scopes, no more", "{scopes}"),
    ),
    CODE: (),
    CLIENT: (),
}


def steps(
    scheme: Scheme,
    application: str,
    name: str,
    scopes: frozenset[str],
    redirect_uris: tuple[str, ...],
    thumbprint: str,
    rights: tuple[str, ...] = (),
    administrator_scopes: frozenset[str] = frozenset(),
) -> tuple[RegistrationStep, ...]:
    """The acts of a scheme with what is to be copied filled in.

    One with nothing to copy keeps its words alone; but where no scope is asked for, or none that
    requires an administrator's consent, there is nothing to allow or to consent to.
    """
    consents = scopes & administrator_scopes
    filled = {
        "name": name,
        "scopes": joined(scopes),
        "consents": joined(consents),
        "thumbprint": thumbprint,
        "application": application,
        "redirect_uri": redirect_uris[0] if redirect_uris else "",
        "rights": ", ".join(rights),
    }
    found = [
        RegistrationStep(
            f"switch:{switch}",
            f"See that the firm-wide switch “{switch}” is on; an administrator there can set it",
        )
        for switch in scheme.switches
    ]
    for number, act in enumerate(scheme.acts or _USUAL[scheme.key], 1):
        copy = act.copy
        if (copy == "{scopes}" and not scopes) or (copy == "{consents}" and not consents):
            continue
        for key, value in filled.items():
            copy = copy.replace("{" + key + "}", value)
        found.append(RegistrationStep(f"act:{number}", act.says, copy))
    if scheme.key in OAUTH2:
        found.append(RegistrationStep("client_id", "Carry the client ID across and enter it here"))
    return tuple(found)
