"""Consent: every requested scope that requires an administrator's consent has it."""

from __future__ import annotations

from .base import Act, Fit, Halves, Pin, not_known

KEY, LABEL = "consent", "consent"


def pin(halves: Halves) -> Pin:
    """Some scopes need an administrator's consent; without it nobody can sign in (common
    practice, no source).
    """
    if not halves.provider.known:
        return not_known(KEY, LABEL, "—")
    wanted = sorted(halves.caller.scopes & halves.provider.administrator_scopes)
    if not wanted:
        return Pin(
            KEY,
            LABEL,
            Fit.NOT_ASKED,
            "not asked for",
            "—",
            "No requested scope requires an administrator's consent.",
        )
    without = [scope for scope in wanted if scope not in halves.provider.consents]
    if without:
        acts = tuple(Act("record_consent", f"{scope} was consented to", scope) for scope in without)
        return Pin(
            KEY,
            LABEL,
            Fit.DIFFERS,
            f"none for {', '.join(without)}",
            f"asks for {', '.join(without)}",
            (
                f"An administrator of the application must consent to {', '.join(without)}; "
                f"until then sign-in is refused."
            ),
            acts=(Act("ask_consent", "Ask an administrator"), *acts),
        )
    whens = [
        consent.when
        for consent in (halves.provider.consents[name] for name in wanted)
        if consent.when is not None
    ]
    date = f", {max(whens).day} {max(whens):%b}" if whens else ""
    held = f"administrator{date}"
    # Consent is given in the application's own screens: even where the client is managed by
    # protocol, what stands here is a note.
    if halves.proven:
        return Pin(KEY, LABEL, Fit.FITS, held, "—", f"Consented: {', '.join(wanted)}.")
    return Pin(
        KEY,
        LABEL,
        Fit.NOT_PROVEN,
        held,
        "—",
        "Consent was recorded here, and no test has passed since to prove it.",
        acts=(Act("test", "Test it"),),
    )
