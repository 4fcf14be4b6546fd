"""What breaks next: for each connection the first moment at which it will stop, and why (DOMAIN
§11).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta

from .health import State
from .lifetimes import in_words
from .pins import Act, Fit, Pin

HORIZON = timedelta(days=90)
# Pins that matter when somebody signs in, or to workloads who lack a right: a token that is held
# and renews serves on.
_NOT_THE_TOKEN = frozenset({"redirect_uri", "consent", "scopes"})


@dataclass(frozen=True)
class BreakFacts:
    """What is known of a connection when asking what breaks next.

    Moments are aware; ``None`` means none or not known.
    """

    ref: str
    state: State
    pins: tuple[Pin, ...]
    workloads: tuple[str, ...] = ()
    signs_in_person: bool = True
    access_ends: datetime | None = None
    has_access: bool = False
    can_renew: bool = False
    refresh_ends: datetime | None = None
    renewal_refused: str = ""
    # Whose account it is that cannot be renewed, where each person has their own.
    whose: str = ""
    secret_ends: datetime | None = None
    secret_hint: str = ""
    secret_words: str = "Client secret"
    signing_ends: datetime | None = None
    signing_hint: str = ""
    certificate_ends: datetime | None = None
    failing: str = ""


@dataclass(frozen=True)
class OwnKey:
    """Something that a workload draws with and that has not been revoked: ``words`` what it is,
    ``ends`` its end (``None``: it has none).
    """

    words: str
    hint: str
    ends: datetime | None


@dataclass(frozen=True)
class Break:
    """One thing that stops a connection, or a workload that draws; ``ref`` is its name.

    ``at`` is ``None`` for now.
    """

    ref: str
    at: datetime | None
    why: str
    act: Act
    workloads: tuple[str, ...]


def next_break(watched: BreakFacts, now: datetime) -> Break | None:
    """The first thing that will stop a connection, or ``None`` if nothing known does."""
    found = candidates(watched, now)
    return (
        min(found, key=lambda candidate: (candidate.at is not None, candidate.at or now))
        if found
        else None
    )


def candidates(watched: BreakFacts, now: datetime) -> list[Break]:
    """Everything known that stops a connection, within 90 days."""
    found: list[Break] = []

    def add(
        at: datetime | None, why: str, act: Act, workloads: tuple[str, ...] = watched.workloads
    ) -> None:
        if at is None or at <= now:
            found.append(Break(watched.ref, None, why, act, workloads))
        elif at - now <= HORIZON:
            found.append(Break(watched.ref, at, why, act, workloads))

    # That nobody has noted the provider's half stops nothing.
    off = [
        pin for pin in watched.pins if pin.fit in (Fit.DIFFERS, Fit.MISSING) and not pin.unwritten
    ]
    alive = watched.has_access and (watched.access_ends is None or watched.access_ends > now)
    # A test that passed since shows that it works all the same: then the pin is a matter of rules,
    # and nothing stops now.
    if off and watched.state is not State.LATCHED:
        labels = " and ".join(pin.label for pin in off) if len(off) < 3 else f"{len(off)} pins"
        verb = "don't" if len(off) > 1 or off[0].label.endswith("s") else "doesn't"
        why = f"{labels[:1].upper()}{labels[1:]} {verb} meet."
        why = f"{why} {off[0].why}" if len(off) == 1 else why
        if (
            alive
            and watched.can_renew
            and not watched.renewal_refused
            and {pin.key for pin in off} <= _NOT_THE_TOKEN
        ):
            stopped = {name for pin in off for name in pin.stops}
            add(
                None,
                f"{why} The token that is held serves on.",
                Act("open", "Open connection"),
                tuple(workload for workload in watched.workloads if workload in stopped),
            )
        else:
            add(None, why, Act("open", "Open connection"))
    elif watched.state is State.UNLATCHED:
        add(None, watched.failing or "The last tests failed.", Act("open", "Open connection"))
    elif watched.state is State.STICKING:
        add(
            None,
            f"Sticking: it works now and then. {watched.failing}".strip(),
            Act("open", "Open connection"),
        )
    if watched.secret_ends is not None:
        over = watched.secret_ends <= now
        if over and alive:
            add(
                watched.access_ends,
                f"{watched.secret_words} {watched.secret_hint} expired "
                f"{in_words(now - watched.secret_ends)} ago. "
                "The access token is the last one; nothing can renew it.",
                Act("put_secret", "Put in a new secret"),
            )
        elif over:
            add(
                None,
                (
                    f"{watched.secret_words} {watched.secret_hint} expired "
                    f"{in_words(now - watched.secret_ends)} ago."
                ),
                Act("put_secret", "Put in a new secret"),
            )
        else:
            add(
                watched.secret_ends,
                f"{watched.secret_words} {watched.secret_hint} expires.",
                Act("put_secret", "Put in a new secret"),
            )
    if watched.signing_ends is not None:
        over = watched.signing_ends <= now
        how_long = f"expired {in_words(now - watched.signing_ends)} ago: calls that are signed with"
        add(
            None if over else watched.signing_ends,
            f"Signing secret {watched.signing_hint} "
            + (f"{how_long} it are rejected." if over else "expires."),
            Act("put_signing_secret", "Put in a new signing secret"),
            (),
        )
    if watched.certificate_ends is not None:
        gone = watched.certificate_ends <= now
        why = (
            f"The certificate's chain expired {in_words(now - watched.certificate_ends)} ago."
            if gone
            else "The certificate, or one above it, expires."
        )
        add(watched.certificate_ends, why, Act("put_certificate", "Put in a new certificate"))
    if watched.signs_in_person and watched.has_access:
        if watched.renewal_refused:
            add(
                watched.access_ends,
                (
                    f"Renewal{f' for {watched.whose}' if watched.whose else ''} was refused: "
                    f"{watched.renewal_refused} The access token is the last one."
                ),
                Act("open", "Open connection")
                if watched.whose
                else Act("sign_in", "Sign in again"),
            )
        elif not watched.can_renew and watched.access_ends is not None:
            add(
                watched.access_ends,
                "The access token expires, and there is no refresh token to renew it.",
                Act("sign_in", "Sign in again"),
            )
        elif watched.refresh_ends is not None:
            add(watched.refresh_ends, "The refresh token expires.", Act("sign_in", "Sign in again"))
    return found


def of_workload(name: str, own: Sequence[OwnKey], now: datetime) -> Break | None:
    """When a workload draws no longer: at the end of the last of what it has of its own, if that is
    within 90 days or over. No end, or nothing at all, is no such moment. Its connections go on for
    and who else uses them (common practice, no source).
    """
    ends = [(own_key.ends, own_key) for own_key in own if own_key.ends is not None]
    if not ends or len(ends) < len(own):
        return None
    at, last = max(ends, key=lambda end: end[0])
    if at - now > HORIZON:
        return None
    over = at <= now
    why = (
        f"The {last.words} {last.hint} that it draws with "
        f"{f'expired {in_words(now - at)} ago' if over else 'expires'}."
    )
    return Break(name, None if over else at, why, Act("give_key", "Replace its key"), (name,))


def urgency(soonest: Break) -> tuple[bool, float, str]:
    """Sorts soonest first: now, then by moment, then by name."""
    return soonest.at is not None, soonest.at.timestamp() if soonest.at else 0.0, soonest.ref


def in_order(breaks: list[Break]) -> list[Break]:
    """Soonest first."""
    return sorted(breaks, key=urgency)
