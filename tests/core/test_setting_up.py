"""The set-up page: what is done, what comes next, what is missing."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import pytest

from neatlatch.core.health import State
from neatlatch.core.pins import Fit, Pin
from neatlatch.core.preparing import steps
from neatlatch.core.schemes import API_KEY, CODE, JWT, KINDS, ManualAct
from neatlatch.core.setting_up import SetUpFacts, work_out

FACTS = SetUpFacts(
    KINDS[CODE],
    (),
    True,
    "Ferries, entered manually",
    4,
    4,
    ("Night run",),
    frozenset({"a"}),
    "svc",
    True,
    State.LATCHED,
    True,
)


def off(key: str, why: str = "It differs.") -> Pin:
    return Pin(key, key, Fit.DIFFERS, "x", "y", why)


def test_all_done() -> None:
    found = work_out(FACTS, [])
    assert {section.standing for section in found.sections} == {"done"}
    assert (found.next, found.missing) == ("", ())
    assert [section.key for section in found.sections] == [
        "wants",
        "who",
        "prepare",
        "ours",
        "sign_in",
        "test",
    ]


@pytest.mark.parametrize(
    ("changes", "pins", "next_", "missing"),
    [
        ({"client_named": False}, [], "prepare", "provider's side is not prepared"),
        ({"ticked": 3}, [], "prepare", "1 act in their screens not ticked off"),
        ({}, [off("scopes", "w is not permitted.")], "prepare", "w is not permitted."),
        (
            {"state": State.NOT_PROVEN},
            [off("endpoints", "One address holds {tenant}.")],
            "ours",
            "{tenant}",
        ),
        (
            {"signed_in": False, "state": State.NOT_PROVEN},
            [off("account", "Nobody yet.")],
            "sign_in",
            "Nobody has signed in",
        ),
        ({"state": State.UNLATCHED}, [], "test", "A test that passes"),
        ({"workloads": ()}, [], "who", "Who will use it"),
        ({"environments_left": ("Production",)}, [], "", "Production is not set up yet"),
    ],
)
def test_what_comes_next_and_what_is_missing(
    changes: dict[str, Any], pins: list[Pin], next_: str, missing: str
) -> None:
    found = work_out(replace(FACTS, **changes), pins)
    assert found.next == next_
    assert any(missing in text for text in found.missing)
    assert len(found.missing) == len(set(found.missing))


def test_nobody_signs_in_with_a_key() -> None:
    found = work_out(replace(FACTS, scheme=KINDS[API_KEY], signed_in=False), [])
    assert "sign_in" not in [section.key for section in found.sections]
    assert found.next == ""


def test_the_acts_are_the_profiles_own_or_the_usual_ones() -> None:
    usual = steps(KINDS[API_KEY], "Fares", "Ferries", frozenset(), (), "", ("reader",))
    assert usual[0].copy == "Ferries"
    assert usual[1].copy == "reader"
    assert [step.says for step in steps(KINDS[JWT], "Pay", "n", frozenset(), (), "")][-2:] == [
        "Upload our certificate, without its private key",
        "Carry the client ID across and enter it here",
    ]  # no scope is asked for, so there is none to allow
    consents = replace(
        KINDS[CODE],
        acts=(ManualAct("Let them agree", "{consents}"), ManualAct("And these", "{scopes}")),
    )
    for asked, copies in (
        (frozenset({"read"}), ["read"]),
        (frozenset({"read", "file"}), ["file", "file read"]),
    ):
        told = steps(consents, "X", "n", asked, (), "", (), frozenset({"file"}))
        assert [step.copy for step in told if step.key.startswith("act")] == copies
    own = replace(
        KINDS[CODE],
        acts=(ManualAct("Give it this", "{redirect_uri}"), ManualAct("And these", "{scopes}")),
        switches=("Programs may sign in",),
    )
    found = steps(own, "X", "n", frozenset({"b", "a"}), ("https://l.example/r",), "")
    assert [(step.key, step.copy) for step in found] == [
        ("switch:Programs may sign in", ""),
        ("act:1", "https://l.example/r"),
        ("act:2", "a b"),
        ("client_id", ""),
    ]
