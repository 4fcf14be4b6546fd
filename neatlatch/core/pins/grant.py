"""Grant: the one used is switched on; PKCE with S256; password and implicit grants
differ by rule.
"""

from __future__ import annotations

from .base import Act, Halves, Pin, differs, not_known, unwritten

KEY, LABEL = "grant", "grant"
_BY_RULE = {
    "password": "The password grant must not be used (RFC 9700 §2.4).",
    "implicit": (
        "The implicit grant should not be used; tokens leak through the address (RFC 9700 §2.1.2)."
    ),
}


def pin(halves: Halves) -> Pin:
    """RFC 7591 §2 (grant_types), RFC 9700 §2.1.1, §2.1.2, §2.4."""
    used = halves.caller.grant
    short = used.rpartition(":")[2]
    ours = (
        f"{used} + PKCE" if used == "authorization_code" and halves.caller.pkce == "S256" else short
    )
    if not halves.provider.known:
        return not_known(KEY, LABEL, ours)
    theirs = ", ".join(sorted(grant.rpartition(":")[2] for grant in halves.provider.grants))
    switch_on = Act(
        "enable_grant",
        "Switch it on" if halves.provider.managed else "Record it as switched on",
        used,
    )
    if not halves.provider.grants:
        return unwritten(
            KEY,
            LABEL,
            ours,
            "It is not known which grants are switched on.",
            Act("open_client", "Enter them"),
        )
    if used in _BY_RULE:
        return differs(KEY, LABEL, theirs, ours, _BY_RULE[used], marked=False)
    if used not in halves.provider.grants:
        return differs(
            KEY,
            LABEL,
            theirs,
            ours,
            f"{short} is not switched on for this client.",
            switch_on,
            marked=False,
        )
    if used == "authorization_code" and halves.caller.pkce != "S256":
        return differs(
            KEY, LABEL, theirs, ours, "PKCE with S256 is not used (RFC 9700 §2.1.1).", marked=False
        )
    if used == "authorization_code" and "refresh_token" not in halves.provider.grants:
        return differs(
            KEY,
            LABEL,
            theirs,
            ours,
            "refresh_token is not switched on, so nothing can renew the access token.",
            Act(
                "enable_grant",
                "Switch it on" if halves.provider.managed else "Record it as switched on",
                "refresh_token",
            ),
            marked=False,
        )
    if off := [
        switch
        for switch in (halves.caller.parts.switches if halves.caller.parts else ())
        if not halves.provider.switches.get(switch)
    ]:
        return differs(
            KEY,
            LABEL,
            theirs,
            ours,
            (
                f"The firm-wide switch “{off[0]}” is not recorded as on; until it is, this grant "
                f"is refused for everybody."
            ),
            Act("note_switch", "It is on now", off[0]),
            marked=False,
        )
    return halves.agreed(KEY, LABEL, theirs, ours, "Switched on.")
