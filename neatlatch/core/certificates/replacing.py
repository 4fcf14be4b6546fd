"""Replacing a certificate authority without a moment at which somebody shows a certificate that its
receiver does not trust.

The order is forced: each receiver must trust the new root *before* the first one is
issued below it, and may stop trusting the old root only *after* the last one below it is gone.
Common practice, no source.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from typing import Literal

State = Literal["done", "now", "waits"]


@dataclass(frozen=True)
class LeafCertificate:
    """A certificate that lives.

    ``under`` is its root, ``receiver`` the one it is shown to; ``moved``: one under the new root
    has been made for its holder.
    """

    key: str
    name: str
    under: str
    receiver: str
    ends: datetime
    moved: bool = False


@dataclass(frozen=True)
class Receiver:
    """Somebody who trusts certificates: an application that is called, or those who call a server.

    ``trusts`` are roots.
    """

    key: str
    name: str
    trusts: frozenset[str]


@dataclass(frozen=True)
class Item:
    """What a step consists of: one receiver, or one leaf."""

    key: str
    name: str
    done: bool
    says: str = ""


@dataclass(frozen=True)
class ReplacementStep:
    """A step of the order. ``waits_for`` says what must be done before it."""

    key: str
    title: str
    why: str
    state: State
    items: tuple[Item, ...] = ()
    waits_for: str = ""


@dataclass(frozen=True)
class RootReplacementFacts:
    """Where things stand.

    ``new`` is empty before it is made; ``issuing`` is the root below which new leaves are made.
    """

    old: str
    new: str
    issuing: str
    receivers: tuple[Receiver, ...]
    leaves: tuple[LeafCertificate, ...]
    retired: bool = False


def untrusted(
    leaves: Sequence[LeafCertificate], receivers: Sequence[Receiver]
) -> list[tuple[LeafCertificate, Receiver]]:
    """Every leaf that its receiver would refuse, because it does not trust its root.

    The order keeps this empty.
    """
    by_key = {receiver.key: receiver for receiver in receivers}
    return [
        (leaf, by_key[leaf.receiver])
        for leaf in leaves
        if leaf.receiver in by_key and leaf.under not in by_key[leaf.receiver].trusts
    ]


def may_switch(at: RootReplacementFacts) -> list[Receiver]:
    """Who must still trust the new root before leaves may be issued below it."""
    return [receiver for receiver in at.receivers if at.new not in receiver.trusts]


def may_stop_trusting(at: RootReplacementFacts, receiver: str) -> list[LeafCertificate]:
    """The leaves below the old root that this receiver is still shown; while there are any, it must
    go on trusting it.
    """
    return [leave for leave in at.leaves if leave.under == at.old and leave.receiver == receiver]


def may_retire(at: RootReplacementFacts) -> list[LeafCertificate]:
    """The leaves that would die with the old authority."""
    return [leave for leave in at.leaves if leave.under == at.old]


def order(at: RootReplacementFacts) -> tuple[ReplacementStep, ...]:
    """All steps, each with what of it is done; exactly one is “now” until all are done."""
    made, switched = bool(at.new), bool(at.new) and at.issuing == at.new
    trust = tuple(
        Item(receiver.key, receiver.name, made and at.new in receiver.trusts)
        for receiver in at.receivers
    )
    below = may_retire(at)
    move = tuple(
        Item(
            leaf.key,
            leaf.name,
            False,
            "its replacement is made: hand it over, then revoke this one" if leaf.moved else "",
        )
        for leaf in below
    )
    drop = tuple(
        Item(receiver.key, receiver.name, at.old not in receiver.trusts)
        for receiver in at.receivers
    )
    raw: list[tuple[str, str, str, bool, tuple[Item, ...]]] = [
        ("make", "Make the new authority", "It signs nothing yet.", made, ()),
        (
            "trust",
            "Every receiver trusts both roots",
            (
                "Who meets a certificate below a root that it does not know refuses it; so the "
                "new root comes first."
            ),
            made and all(item.done for item in trust),
            trust,
        ),
        (
            "switch",
            "Issue below the new authority",
            "From here on every new certificate is one of the new authority's.",
            switched,
            (),
        ),
        (
            "move",
            "Every certificate below the old one is replaced",
            "Each holder gets a new one while the old one still lives, so nobody is without.",
            switched and not below,
            move,
        ),
        (
            "drop",
            "Every receiver stops trusting the old root",
            "Nothing that lives depends on it any more.",
            switched and not below and all(item.done for item in drop),
            drop,
        ),
        (
            "retire",
            "Retire the old authority",
            "Its key is destroyed, and its last revocation list stays.",
            at.retired,
            (),
        ),
    ]
    steps: list[ReplacementStep] = []
    before = ""
    for key, title, why, done, items in raw:
        state: State = "done" if done and not before else "waits" if before else "now"
        steps.append(ReplacementStep(key, title, why, state, items, before))
        if state == "now":
            before = title
    return tuple(steps)


def moved_by(at: RootReplacementFacts, ends: datetime) -> datetime:
    """By when every leaf must have been moved: the old chain's end, or the first of the leaves'
    ends where that is sooner.
    """
    return min([ends, *(leaf.ends for leaf in may_retire(at))])
