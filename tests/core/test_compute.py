"""The operations of ``nlatch compute`` against the published and computed check values in
``tests/vectors``.
"""

from __future__ import annotations

import json
import re
import subprocess
import sys
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from neatlatch.core.compute import ROOMS, BadInput, all_ops, answer, answers, room

VECTORS = Path(__file__).parent.parent / "vectors"
OPS = all_ops()
CASES = [case for file in sorted(VECTORS.glob("*.json")) for case in json.loads(file.read_text())]
# Wording of the check values, which an application may word otherwise.
FREE = {"meaning", "reason", "reason_code", "to_do", "note", "warnings"}
# What other verifiers said of a chain: a record of how the check value was made.
RECORDS = {"openssl_error_numbers", "second_verifier_accepts", "openssl_default_accepts"}


def _selection(
    inputs: dict[str, Any], expected: dict[str, Any], answered: dict[str, Any]
) -> dict[str, Any]:
    """Any of the selections of least weight is right."""
    if expected["feasible"]:
        assert answered["selection"] in expected["optimal_selections"]
    return {
        key: value for key, value in expected.items() if key not in ("optimal_selections", "unique")
    }


def _assignment(
    inputs: dict[str, Any], expected: dict[str, Any], answered: dict[str, Any]
) -> dict[str, Any]:
    """Any assignment with the least peak is right, if it keeps to the days and the capacity."""
    if expected["feasible"]:
        days = answered["one_optimal_assignment"]
        assert all(
            job["release"] <= day <= job["due"] and day in inputs["working_days"]
            for job, day in zip(inputs["jobs"], days, strict=True)
        )
        assert (
            max((days.count(day) for day in days), default=0)
            == expected["minimum_peak"]
            <= inputs["capacity_per_day"]
        )
    return {key: value for key, value in expected.items() if key != "one_optimal_assignment"}


ANY_OPTIMUM = {"minimum_scopes": _selection, "minimise_peak": _assignment}


@pytest.mark.parametrize("case", CASES, ids=[case["id"] for case in CASES])
def test_check_value(case: dict[str, Any]) -> None:
    """Each case names its source (an RFC section) in ``source``."""
    got = answer(json.dumps(case["input"]), lambda name: (VECTORS / name).read_bytes())
    assert "error" not in got, got
    expected = case["expected"]
    if case["input"]["op"] in ANY_OPTIMUM:
        expected = ANY_OPTIMUM[case["input"]["op"]](case["input"], expected, got["answer"])
    if isinstance(expected, dict):
        held = {key: value for key, value in expected.items() if key not in FREE | RECORDS}
        if (tolerance := held.pop("tolerance", None)) is not None:
            held = {key: pytest.approx(value, abs=tolerance) for key, value in held.items()}
        assert {key: got["answer"].get(key) for key in held} == held
        if (
            "reason_code" in expected
        ):  # this set's codes and warnings for redirect URIs are ours too
            assert got["answer"]["reason_code"] == expected["reason_code"]
            assert got["answer"]["warnings"] == expected.get("warnings", [])
    else:
        assert got["answer"] == expected


def test_all_operations_of_the_check_values_are_served() -> None:
    assert {case["input"]["op"] for case in CASES} <= set(OPS)
    assert all(op.takes and op.source for op in OPS.values())
    assert {name: tuple(room(name)) for name in ROOMS} == ROOMS


@pytest.mark.parametrize(
    ("line", "said"),
    [
        ("not json", "not a JSON value"),
        ("[1]", "not a JSON object"),
        ('{"op": "no_such"}', "'no_such' is not known"),
        ('{"op": 7}', "7 is not known"),
        ('{"op": "pkce_challenge"}', "“code_verifier” must be a string"),
        ('{"op": "pkce_challenge", "code_verifier": "é"}', "ASCII"),
        (
            '{"op": "redirect_uri_match", "registered": "x", "presented": "y"}',
            "“registered” must be a list of strings",
        ),
        ('{"op": "reply", "endpoint": "nowhere", "status": 200}', "'nowhere' is not known"),
        ('{"op": "retry_after", "value": "1", "now": "2026-06-01"}', "offset"),
        (
            '{"op": "totp", "key_hex": "00", "unix_time": 1, "step": 60}',
            "“step” is not known; it takes key_hex, unix_time, step_seconds",
        ),
        ("[" * 100_000, "not a JSON value"),
    ],
)
def test_a_bad_line_says_what_is_wrong(line: str, said: str) -> None:
    assert said in answer(line)["error"]


def test_a_bad_line_does_not_stop_the_next() -> None:
    lines = ["nonsense\n", "\n", '{"op": "private_use_scheme", "uri": "com.example:/x"}\n']
    got = [json.loads(item) for item in answers(lines)]
    assert len(got) == 2
    assert "error" in got[0]
    assert got[1]["answer"]["acceptable"] is True


# Any line whatsoever

GOOD = '{"op": "private_use_scheme", "uri": "com.example:/x"}'
TEXT = st.text(st.characters(exclude_categories=()), max_size=30) | st.sampled_from(
    [
        "http://127.0.0.1:70000/cb",
        "http://[::1",
        "https://a.example:99999999999/",
        "\ud800",
        "Basic ",
        "-1",
        "2026-06-01T00:00:00Z",
        "\x00",
        "S256",
    ]
)
NUMBER = st.integers() | st.integers(-(10**40), 10**40) | st.floats()
VALUE = st.recursive(
    st.none() | st.booleans() | NUMBER | TEXT,
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(TEXT, inner, max_size=3),
    max_leaves=8,
)
BY_OP: dict[str, list[dict[str, Any]]] = {}
for _case in CASES:
    BY_OP.setdefault(_case["input"]["op"], []).append(_case["input"])


@st.composite
def inputs(draw: st.DrawFn, name: str) -> dict[str, Any]:
    """An input of an operation: one of the check values with some of it replaced, or the names it
    takes with any values.
    """
    known = BY_OP.get(name)
    told = dict(draw(st.sampled_from(known))) if known and draw(st.booleans()) else {"op": name}
    names = sorted(set(told) | set(re.findall(r"[a-z_0-9]{2,}", OPS[name].takes)) - {"op"})
    for key in draw(st.lists(st.sampled_from(names), max_size=4)):
        told[key] = draw(VALUE)
    return told | {"op": name}


def missing(name: str) -> bytes:
    raise BadInput(f"{name!r} is not there")


@pytest.mark.slow
@pytest.mark.parametrize("name", sorted(OPS))
def test_no_line_stops_the_next_and_none_is_unforeseen(name: str) -> None:
    @settings(max_examples=30)
    @given(inputs(name))
    def hold(told: dict[str, Any]) -> None:
        got = list(answers([json.dumps(told), GOOD], missing))
        assert len(got) == 2
        for line in got:
            line.encode("utf-8")
            assert "\n" not in line
        first = json.loads(got[0], parse_constant=lambda name: pytest.fail(f"{name} is no JSON"))
        assert set(first) in ({"answer"}, {"error"})
        assert "not foreseen" not in str(first.get("error", "")), told
        assert json.loads(got[1])["answer"]["acceptable"] is True

    hold()


@given(
    st.text(st.characters(exclude_categories=()))
    | st.binary().map(lambda item: item.decode("utf-8", "surrogateescape"))
)
def test_any_text_is_answered(line: str) -> None:
    got = list(answers([line.replace("\n", " "), GOOD]))
    assert json.loads(got[-1])["answer"]["acceptable"] is True
    assert all("error" in json.loads(item) for item in got[:-1])


def test_what_was_not_foreseen_does_not_stop_the_next(monkeypatch: pytest.MonkeyPatch) -> None:
    def fall(inputs: dict[str, Any]) -> None:
        raise IndexError("a fault of ours")

    monkeypatch.setitem(
        room("pkce_ops"), "pkce_challenge", replace(room("pkce_ops")["pkce_challenge"], run=fall)
    )
    got = [json.loads(item) for item in answers(['{"op": "pkce_challenge"}', GOOD])]
    assert "IndexError" in got[0]["error"]
    assert got[1]["answer"]["acceptable"] is True


@pytest.mark.parametrize(
    ("told", "expected"),
    [
        # RFC 8252 §7.3 lets any port pass, and 70000 is none.
        (
            {
                "op": "redirect_uri_match",
                "registered": ["http://127.0.0.1/cb"],
                "presented": "http://127.0.0.1:70000/cb",
                "client_type": "native",
            },
            {"match": False, "reason_code": "port"},
        ),
        # RFC 7636 §4.3: a method that is not said is plain.
        (
            {"op": "pkce_verify", "code_verifier": "a" * 43, "code_challenge": "a" * 43},
            {"match": True},
        ),
        (
            {
                "op": "pkce_verify",
                "code_verifier": "a" * 43,
                "code_challenge": "a" * 43,
                "code_challenge_method": None,
            },
            {"match": True},
        ),
        (
            {
                "op": "pkce_verify",
                "code_verifier": "a" * 43,
                "code_challenge": "a" * 43,
                "code_challenge_method": "S256",
            },
            {"match": False},
        ),
        # A scope that another implies, and that nobody can ask for by itself.
        (
            {
                "op": "minimum_scopes",
                "scopes": {"super": {"weight": 3, "implies": ["ghost"]}},
                "operations": [{"name": "GET /x", "alternatives": [["ghost"]]}],
            },
            {"feasible": True, "selection": ["super"], "minimum_weight": 3},
        ),
        (
            {"op": "basic_decode", "authorization": "Basic"},
            {"error": "no credentials after the scheme"},
        ),
        (
            {"op": "basic_decode", "authorization": "Basic Zm9v"},
            {"error": "no colon in the decoded credentials"},
        ),
        # RFC 6749 §4.2.2.1: an error that came in the fragment.
        (
            {
                "op": "authorization_reply",
                "redirected_to": "https://a.example/cb#error=access_denied&state=s1",
                "state_sent": "s1",
            },
            {"accept": True, "error": "access_denied", "code": None},
        ),
        (
            {
                "op": "authorization_reply",
                "redirected_to": "https://a.example/cb#code=c&state=s1",
                "state_sent": "s1",
            },
            {"accept": False, "code": None},
        ),
        (
            {
                "op": "public_tls_lifetime",
                "not_before": "2026-06-01T00:00:00Z",
                "not_after": "2026-06-01T00:00:00Z",
            },
            {"days_counted": 1, "validity_seconds": 1},
        ),
        (
            {"op": "authorization_code_usable", "issued_at": 0, "now": 5, "already_used": True},
            {"usable": False},
        ),
    ],
)
def test_what_reviews_found(told: dict[str, Any], expected: dict[str, Any]) -> None:
    answered = answer(json.dumps(told))["answer"]
    assert {key: answered.get(key) for key in expected} == expected


def test_a_line_is_answered_without_what_it_does_not_use() -> None:
    """It is imported when an operation of it is first asked for."""
    code = """import sys
from neatlatch.core import compute

compute.answer(
    '{"op": "pkce_challenge", "code_verifier": "dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk"}'
)
heavy = ("cryptography", "joserfc", "neatlatch.core.profiles")
print([name for name in heavy if name in sys.modules])"""
    told = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert told.stdout == "[]\n"
