"""Setting a connection up, in the order of the work (PRODUCT.md): what is done, what comes next,
and what is still missing.

Worked out from the pins and a few facts; nothing is remembered that could be out of date.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from .health import State
from .pins import Fit, Pin
from .schemes import CODE, Scheme

Standing = Literal["done", "now", "later"]
WANTS, WHO, PREPARE, OURS, SIGN_IN, TEST = "wants", "who", "prepare", "ours", "sign_in", "test"
# Pins that are a matter of the application's own side, and of who signs in; the rest are ours.
_THEIRS = frozenset({"consent", "rights", "grant", "redirect_uri", "scopes"})
_SIGNING = frozenset({"account"})


@dataclass(frozen=True)
class SetUpFacts:
    """What setting up knows beside the pins.

    ``steps`` and ``ticked`` count the acts in the application's own screens.
    """

    scheme: Scheme
    other_schemes: tuple[str, ...]
    client_named: bool
    client_words: str
    steps: int
    ticked: int
    workloads: tuple[str, ...]
    scopes: frozenset[str]
    signed_in_as: str
    signed_in: bool
    state: State
    tested: bool
    environments_left: tuple[str, ...] = ()


@dataclass(frozen=True)
class Section:
    """One step of the page: whether it is done, is the one to do now, or comes later; and where it
    stands in a sentence.
    """

    key: str
    title: str
    standing: Standing
    says: str


@dataclass(frozen=True)
class SettingUp:
    """The page: its sections in order, and everything that is still missing, in words."""

    sections: tuple[Section, ...]
    missing: tuple[str, ...]

    @property
    def next(self) -> str:
        """The section to do now; empty when all is done."""
        return next((section.key for section in self.sections if section.standing == "now"), "")


def work_out(facts: SetUpFacts, pins: Sequence[Pin]) -> SettingUp:
    """Work the page out."""
    person = facts.scheme.key == CODE
    off = {pin.key: pin for pin in pins if pin.fit in (Fit.DIFFERS, Fit.MISSING)}
    theirs = [one for key, one in off.items() if key in _THEIRS]
    ours = [one for key, one in off.items() if key not in _THEIRS | _SIGNING]
    prepared = facts.client_named and facts.ticked >= facts.steps
    filled = not ours and facts.client_named
    also = (
        f" Also takes {' and '.join(facts.other_schemes)}; you chose the first."
        if facts.other_schemes
        else ""
    )
    done = {
        WANTS: True,
        WHO: bool(facts.workloads),
        PREPARE: prepared and not theirs,
        OURS: filled,
        SIGN_IN: not person or (facts.signed_in and "account" not in off),
        TEST: facts.state is State.LATCHED,
    }
    says = {
        WANTS: f"{facts.scheme.label}.{also}",
        WHO: f"{', '.join(facts.workloads)}."
        if facts.workloads
        else "It has no workload yet, so what would stop is not known.",
        PREPARE: _prepared(facts, theirs),
        OURS: "Everything is filled in."
        if filled
        else " ".join(dict.fromkeys(pin.why for pin in ours[:2]))
        or "Values are carried across and filled in here.",
        SIGN_IN: _signing(facts, person, off),
        TEST: _testing(facts),
    }
    titles = {
        WANTS: "What it requires",
        WHO: "Who will use it",
        PREPARE: "Prepare their side, carry values across",
        OURS: "Our side",
        SIGN_IN: "Sign in",
        TEST: "Test, then do real work once",
    }
    order = [key for key in titles if key != SIGN_IN or person]
    # Workloads may be added at any time: that step never holds the others up.
    now = next((key for key in order if not done[key] and key != WHO), None) or (
        WHO if not done[WHO] else None
    )
    sections = tuple(
        Section(
            key, titles[key], "done" if done[key] else "now" if key == now else "later", says[key]
        )
        for key in order
    )
    return SettingUp(sections, tuple(_missing(facts, [*off.values()], done, person)))


def _prepared(facts: SetUpFacts, theirs: list[Pin]) -> str:
    if not facts.client_named:
        return "Nothing is prepared there yet."
    if theirs:
        return theirs[0].why
    if facts.ticked < facts.steps:
        return f"{facts.ticked} of {facts.steps} acts there are ticked off."
    return f"{facts.client_words}."


def _signing(facts: SetUpFacts, person: bool, off: dict[str, Pin]) -> str:
    if not person:
        return "Nobody signs in; the credential is enough."
    if "account" in off:
        return off["account"].why
    return (
        f"Signed in{f' as {facts.signed_in_as}' if facts.signed_in_as else ''}."
        if facts.signed_in
        else "Opens their page. Pick the service account, not your own."
    )


def _testing(facts: SetUpFacts) -> str:
    if facts.state is State.LATCHED:
        return "It latches: all rungs passed."
    return (
        "The last test did not pass."
        if facts.tested and facts.state is not State.NOT_PROVEN
        else "Nobody has tried it since the last change."
    )


def _missing(facts: SetUpFacts, off: list[Pin], done: dict[str, bool], person: bool) -> list[str]:
    found = [pin.why for pin in off if pin.key != "account"]
    if not facts.client_named:
        found = [
            "The provider's side is not prepared: name it, or begin it here.",
            *[why for why in found if "No client registration is named" not in why],
        ]
    if facts.client_named and facts.ticked < facts.steps:
        count = facts.steps - facts.ticked
        found.append(f"{count} {'act' if count == 1 else 'acts'} in their screens not ticked off")
    if person and not done[SIGN_IN]:
        found.append(
            "Nobody has signed in" if not facts.signed_in else "The wrong account signed in"
        )
    if not done[TEST]:
        found.append("A test that passes")
    if not done[WHO]:
        found.append("Who will use it")
    found += [f"{text} is not set up yet" for text in facts.environments_left]
    return list(dict.fromkeys(found))
