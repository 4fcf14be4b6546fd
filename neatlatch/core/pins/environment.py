"""Environment: address, client and credential belong to the same one; no vendor-shared client in
production.
"""

from __future__ import annotations

from neatlatch.core.schemes import lower

from .. import addresses
from .base import Act, Halves, Pin, differs, not_known

KEY, LABEL = "environment", "environment"


def pin(halves: Halves) -> Pin:
    """A value of another environment is the commonest slip of copying (common practice,
    no source).
    """
    ours, theirs = halves.caller.environment, halves.provider.environment
    if not halves.provider.known:
        return not_known(KEY, LABEL, ours)
    if theirs != ours:
        return differs(
            KEY,
            LABEL,
            theirs,
            ours,
            f"The client is registered in {theirs}, this connection is for {ours}.",
            Act("choose_client", "Name another client"),
            marked=False,
        )
    # One address may serve several environments; then it says nothing.
    mine = {halves.provider.issuer, *halves.provider.addresses.values()}
    for name, elsewhere in halves.other_environments.items():
        wanted = halves.caller.parts.addresses() if halves.caller.parts else ()
        for address in (
            halves.caller.issuer,
            *(halves.caller.values.get(address.key, "") for address in wanted),
        ):
            if (
                address
                and address not in mine
                and any(addresses.equivalent(address, other) for other in elsewhere)
            ):
                return differs(
                    KEY,
                    LABEL,
                    theirs,
                    f"{address} is {name}'s",
                    f"An address we use belongs to {name}, not to {ours}.",
                    Act("take_provider", "Use this environment's"),
                    marked=False,
                )
    labels = {
        secret.key: lower(secret.label)
        for secret in (halves.caller.parts.secrets() if halves.caller.parts else ())
    }
    for key, secret in halves.caller.secrets.items():
        # One that a test has proven here belongs here; then it is the other environment that has
        # the wrong one.
        if secret.elsewhere and secret.elsewhere != ours and not halves.secret_proven:
            name = labels.get(key, "secret")
            return differs(
                KEY,
                LABEL,
                theirs,
                f"{name} of {secret.elsewhere}",
                f"The {name} we send is the one that is used in {secret.elsewhere}.",
                Act("put_secret", f"Put in {ours}'s", "" if key == "client_secret" else key),
                marked=False,
            )
    if refused := refuses(halves.provider.vendor_shared, halves.caller.environment_is_production):
        return differs(
            KEY,
            LABEL,
            "vendor's shared client",
            ours,
            refused,
            Act("choose_client", "Name another client"),
            marked=False,
        )
    return halves.agreed(
        KEY, LABEL, theirs, ours, "Address and client belong to the same environment."
    )


def refuses(vendor_shared: bool, production: bool) -> str:
    """Why a client may not be used in an environment, or nothing (common practice, no source)."""
    return (
        "A vendor's shared client is for trying things out, never for production."
        if vendor_shared and production
        else ""
    )
