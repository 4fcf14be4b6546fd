"""Replacing one credential by another: what it costs, in what order, and when the old one may go.

Common practice where no source is named.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime, timedelta
from typing import Literal

from .lifetimes import in_words
from .schemes import OAUTH2, SIGNING_SECRET

Way = Literal["house", "protocol", "hand"]
State = Literal["done", "now", "waits"]


# How long nobody must have been seen with the old one, unless all its workloads were seen with the
# new one before.
WATCHED = timedelta(minutes=15)


@dataclass(frozen=True)
class HoldingWorkload:
    """A workload of a connection that holds the credential.

    ``draws``: it takes headers by reference name and moves by itself. ``workload`` tells two of one
    name apart.
    """

    name: str
    draws: bool
    runs: str = ""
    workload: str = ""


@dataclass(frozen=True)
class Preview:
    """What a replacement by one of the ways will do.

    ``gap`` is for how long the connection is refused at the least; ``None``: not at all.
    """

    way: Way
    overlaps: bool
    gap: timedelta | None
    says: tuple[str, ...]


def preview(
    way: Way,
    scheme: str,
    live_secrets: int,
    spread: timedelta,
    workloads: Sequence[HoldingWorkload],
    token_ends: datetime | None,
    now: datetime,
    certificate: bool = False,
) -> Preview:
    """Say before starting whether both live side by side, and if not, what gap it makes.

    By protocol a new client secret takes the place of the old one at once (RFC 7592 §2.2: the
    client must discard its previous one). ``live_secrets`` is how many the application lets live;
    ``spread`` how long a new one takes to be known everywhere there.
    """
    overlaps = way == "house" or (way == "hand" and live_secrets > 1)
    by_hand = [workload for workload in workloads if not workload.draws]
    said: list[str] = []
    if overlaps:
        said.append("Both live side by side until the old one is retired: nobody is refused.")
        gap = None
    else:
        gap = spread if way == "protocol" else max(spread, timedelta(minutes=2))
        why = (
            "By protocol the new one takes the old one's place at once"
            if way == "protocol"
            else "Only one may live at a time there"
        )
        done = (
            f"until the new one is known everywhere, about {in_words(spread)}"
            if way == "protocol"
            else "until the new one is pasted here, minutes at the least"
        )
        said.append(f"{why}: from the moment it is made the old one is refused, {done}.")
        if scheme in OAUTH2 and token_ends is not None and token_ends > now:
            said.append(
                f"The token that is held remains valid for {in_words(token_ends - now)}, so "
                f"callers feel nothing if it is done within that time."
            )
        elif workloads:
            callers = _listed([_workload_in_words(workload) for workload in workloads])
            said.append(f"Who calls within the gap is refused: {callers}.")
        said.append("It cannot be rolled back once the new one is made.")
    if by_hand:
        said.append(
            f"Changed manually, because they hold it themselves: "
            f"{_listed([workload.name for workload in by_hand])}."
        )
    if certificate:
        said.append(
            "A certificate is replaced with its key; the chain must stand below a root that "
            "the application trusts."
        )
    return Preview(way, overlaps, gap, tuple(said))


def preview_of_signing() -> Preview:
    """What replacing a signing secret does: it is we who check, so both can be accepted."""
    return Preview(
        "hand",
        True,
        None,
        (
            "Both are accepted until the old one is retired: no call is rejected.",
            "It is proven by a call that the application signs with the new one.",
        ),
    )


def acts(
    application: str, whose: str, kind: str, secret_id: str, overlaps: bool
) -> tuple[str, ...]:
    """The numbered acts in an application's own screens.

    ``whose`` names our client or account there, ``secret_id`` the old secret, if it has an ID.
    """
    if kind == "private_key":
        beside = ", beside the old one." if overlaps else ", in the old one's place."
        return (
            f"Make a new key and certificate, or have {application} make them.",
            f"In {application}'s screens, register the new certificate for {whose}{beside}",
            "Put certificate and key in below.",
        )
    if kind == SIGNING_SECRET:
        return (
            f"In {application}'s screens, have a new signing secret made; leave the old one, if "
            "both can stay.",
            "Copy its value and paste it below. Both are accepted here from then on.",
            f"Have {application} sign with the new one, and send a call.",
        )
    what = kind.replace("_", " ")
    return (
        f"In {application}'s screens, open {whose}"
        + (f" (ID {secret_id})" if secret_id else "")
        + ".",
        f"Make a second {what}; leave the old one as it is."
        if overlaps
        else f"Make a new {what}. From this moment the old one is refused.",
        "Copy its value at once, it is shown only there and then, and paste it below.",
    )


def _workload_in_words(moved: HoldingWorkload) -> str:
    return f"{moved.name} ({moved.runs})" if moved.runs else moved.name


def _listed(names: Sequence[str]) -> str:
    return ", ".join(names[:6]) + (f" and {len(names) - 6} more" if len(names) > 6 else "")


@dataclass(frozen=True)
class ReplacementProgress:
    """How far a replacement is.

    ``last_use`` is the last time that anybody was seen with the old one, ``tokens_until`` when the
    last token got with it ends.

    ``seen_at`` is when the last of the workloads was seen with the new one (``None``: some have not
    come since the switch, or none is noted); ``not_seen`` names those who draw and have not come.
    """

    overlaps: bool
    made: datetime | None = None
    proven: datetime | None = None
    switched: datetime | None = None
    retired: datetime | None = None
    refused: datetime | None = None
    to_move: tuple[str, ...] = ()
    last_use: datetime | None = None
    tokens_until: datetime | None = None
    seen_at: datetime | None = None
    not_seen: tuple[str, ...] = ()
    # It signs what the application sends to us, and is never sent.
    signs: bool = False

    @property
    def watched_until(self) -> datetime | None:
        """When the old one will have been watched for long enough; ``None``: nothing has been
        switched.

        Where only one may live, the application has refused the old one ever since.
        """
        if self.switched is None or not self.overlaps:
            return self.switched
        return min(
            self.switched + WATCHED,
            self.seen_at or datetime.max.replace(tzinfo=self.switched.tzinfo),
        )


@dataclass(frozen=True)
class ExchangeStep:
    """A step, and what proves that it is done."""

    key: str
    title: str
    state: State
    says: str
    done_at: datetime | None = None


def quiet(at: ReplacementProgress, now: datetime) -> tuple[bool, str]:
    """Whether the old one may go: nobody was seen with it since the connections were switched,
    those who hold it themselves have moved, and every token that was got with it has ended.
    """
    if at.switched is None:
        return False, "The connections still use it."
    if at.to_move:
        return False, f"Still to be moved manually: {_listed(at.to_move)}."
    if at.last_use is not None and at.last_use > at.switched:
        return (
            False,
            f"Somebody used the old one {in_words(now - at.last_use)} ago, after the switch.",
        )
    if at.tokens_until is not None and at.tokens_until > now:
        return (
            False,
            (
                f"Tokens that were got with it live for {in_words(at.tokens_until - now)} more; "
                f"retired now, their holders stop."
            ),
        )
    since = in_words(now - at.switched)
    come = f" Not come since: {_listed(at.not_seen)}." if at.not_seen else ""
    if at.watched_until is not None and now < at.watched_until:
        return (
            False,
            (
                f"Nobody was seen with it yet, but the switch was only {since} ago; "
                f"{in_words(WATCHED)} are waited.{come}"
            ),
        )
    return True, f"Nobody was seen with it since the switch, {since} ago.{come}"


def steps(at: ReplacementProgress, now: datetime) -> tuple[ExchangeStep, ...]:
    """The order, with what proves each step.

    Where both live, the new one is proven before anything uses it; else it is used at once, and
    proven then.
    """
    still, words = quiet(at, now)
    make = (
        "make",
        "Make a second one" if at.overlaps else "Make the new one, in the old one's place",
        at.made,
        "",
    )
    prove = (
        "prove",
        "Prove the new one by a signed call"
        if at.signs
        else "Prove the new one by a test" + (" before anything uses it" if at.overlaps else ""),
        at.proven,
        "",
    )
    switch = ("switch", "Switch the connections, and their workloads with them", at.switched, "")
    watch = (
        "watch",
        "See that nobody uses the old one",
        at.watched_until if still else at.retired,
        "" if at.retired else words,
    )
    retire = ("retire", "Retire the old one", at.retired, "")
    refuse = ("refuse", "Prove that the old one is refused", at.refused, "")
    raw = (
        (make, prove, switch, watch, retire, refuse)
        if at.overlaps
        else (make, switch, prove, watch, retire, refuse)
    )
    found: list[ExchangeStep] = []
    open_yet = False
    for key, title, done, says in raw:
        state: State = "waits" if open_yet else "done" if done is not None else "now"
        open_yet = open_yet or state == "now"
        found.append(
            ExchangeStep(
                key,
                title,
                state,
                says if state != "waits" else "",
                done if state == "done" else None,
            )
        )
    return tuple(found)


def may_roll_back(at: ReplacementProgress) -> bool:
    """Whether the old one can be put back: as long as it lives, which is until it is retired, or
    where one only may live, not at all.
    """
    return at.overlaps and at.retired is None
