"""Client secret: one of the live ones, by keyed fingerprint or proven by a test, and not past its
end.
"""

from __future__ import annotations

from datetime import datetime

from neatlatch.core.schemes import lower

from ..lifetimes import in_words
from .base import Act, Fit, Halves, Pin, SecretFacts, differs, missing, not_known

KEY, LABEL = "secret", "client secret"


def pin(halves: Halves) -> Pin:
    """Compared by fingerprints, never by values; "secrets have an ID and a value" is
    common practice, no source.
    """
    return _pin(halves, KEY, LABEL, halves.provider.secrets, halves.caller.secret)


def pins(halves: Halves) -> tuple[Pin, ...]:
    """A pin for each secret of a scheme: key, password, token, and those of its further endpoints.

    A private key stands at the certificate's pin. A signing secret has none: no test shows it.
    """
    wanted = halves.caller.parts.sent_secrets() if halves.caller.parts else ()
    return tuple(
        _pin(
            halves,
            secret.key,
            lower(secret.label),
            halves.provider.held.get(secret.key, ()),
            halves.caller.secrets.get(secret.key),
        )
        for secret in wanted
        if secret.type != "key"
    )


def _pin(
    halves: Halves, key: str, label: str, theirs: tuple[SecretFacts, ...], ours: SecretFacts | None
) -> Pin:
    shown = _shown(ours, halves.now) if ours else "—"
    put_in = Act(
        "put_secret", f"Put in the {'secret' if key == KEY else label}", "" if key == KEY else key
    )
    if not halves.provider.known:
        if ours is None and not (key == KEY and halves.caller.sign_in_method == "none"):
            return missing(key, label, "", "", _none(key, label), put_in)
        return not_known(key, label, shown)
    if halves.provider.public:
        if ours is None:
            return Pin(
                key, label, Fit.NOT_ASKED, "not asked for", "none", "A public client has no secret."
            )
        return differs(
            key,
            label,
            "public client, no secret",
            shown,
            "The client is public, yet we send a secret.",
            Act("drop_secret", "Take the secret out"),
            marked=False,
        )
    live = [
        secret_facts
        for secret_facts in theirs
        if secret_facts.live and not _over(secret_facts, halves.now)
    ]
    held = _shown(live[-1], halves.now) if live else ("ended" if theirs else "—")
    if ours is None:
        return missing(key, label, held, "", _none(key, label), put_in)
    same = next(
        (
            secret_facts
            for secret_facts in theirs
            if secret_facts.fingerprint is not None and secret_facts.fingerprint == ours.fingerprint
        ),
        None,
    )
    place = (
        f"{_ordinal(theirs.index(same) + 1)} of {len(theirs)} · "
        if same and len(theirs) > 1
        else ""
    )
    if same is not None and not same.live:
        return differs(
            key,
            label,
            held,
            shown,
            f"The secret we send ({ours.hint}) has been retired or revoked at the provider.",
            put_in,
            marked=False,
        )
    ends = (same.ends if same else None) or ours.ends
    if ends is not None and halves.now >= ends:
        return differs(
            key,
            label,
            held,
            shown,
            f"The secret expired {in_words(halves.now - ends)} ago.",
            put_in,
            marked=False,
        )
    if ours.looks_like_id or any(
        ours.fingerprint == secret_facts.fingerprint
        for secret_facts in theirs
        if secret_facts.looks_like_id
    ):
        return differs(
            key,
            label,
            held,
            shown,
            "What was put in is the ID of the secret, not its value.",
            put_in,
            marked=False,
        )
    if same is not None:
        return halves.agreed(
            key,
            label,
            place + _shown(same, halves.now),
            shown,
            "The same secret on both sides, by its fingerprint.",
            secret=True,
        )
    if halves.secret_proven:
        return Pin(
            key, label, Fit.FITS, held, shown, "The application has taken it since it was put in."
        )
    if live and all(secret.fingerprint is not None for secret in live):
        return differs(
            key,
            label,
            held,
            shown,
            "The secret we send is not one of those that are active at the provider.",
            put_in,
            marked=False,
        )
    return Pin(
        key,
        label,
        Fit.NOT_PROVEN,
        held,
        shown,
        (
            f"The provider's {'secret' if key == KEY else label} was never seen here; only a "
            f"test can say whether ours is right."
        ),
        acts=(Act("test", "Test it"),),
    )


def _none(key: str, label: str) -> str:
    return "We have no secret for this client." if key == KEY else f"We have no {label}."


def _over(secret: SecretFacts, now: datetime) -> bool:
    return secret.ends is not None and now >= secret.ends


def _ordinal(number: int) -> str:
    return {1: "1st", 2: "2nd", 3: "3rd"}.get(number, f"{number}th")


def _shown(secret: SecretFacts, now: datetime) -> str:
    if secret.fingerprint is None:
        return "not seen here"
    words = [secret.hint] if secret.hint else ["kept"]
    if secret.ends is not None:
        words.append(f"{in_words(secret.ends - now)} left" if secret.ends > now else "ended")
    elif secret.put_in is not None:
        words.append(f"put in {secret.put_in.day} {secret.put_in:%b}")
    return " · ".join(words)
