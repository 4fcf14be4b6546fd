"""Names of connections, the same in each environment, and their references."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from neatlatch.core import references

WORD = st.text("abcdefghij0123456789", min_size=1, max_size=8)
NAMES = st.lists(WORD, min_size=1, max_size=4).map("-".join)
ENVIRONMENTS = st.sampled_from(["sandbox", "staging", "production", "pre-production"])


@pytest.mark.parametrize(
    ("name", "right"),
    [
        ("cargo-manifests", True),
        ("a" * 80, True),
        ("a" * 81, False),
        ("Cargo", False),
        ("cargo--manifests", False),
        ("cargo-", False),
        ("sandbox/cargo", False),
        ("", False),
    ],
)
def test_names(name: str, right: bool) -> None:
    assert references.is_name(name) is right


@given(ENVIRONMENTS, NAMES)
def test_what_is_written_is_read(environment: str, name: str) -> None:
    assert references.read(references.write(environment, name)) == (environment, name)


@pytest.mark.parametrize("text", ["cargo", "/cargo", "sandbox/", "a/b/c", "a/B", ""])
def test_what_is_no_reference(text: str) -> None:
    assert references.read(text) is None


def test_alternatives() -> None:
    assert references.alternatives(["a"]) == "a"
    assert references.alternatives(["a", "b"]) == "a or b"
    assert references.alternatives(["a", "b", "c"]) == "a, b or c"


# Common practice, no source.
@pytest.mark.parametrize(
    ("name", "environment", "joined"),
    [
        ("cargo-manifests-sandbox", "sandbox", "cargo-manifests"),
        ("sandbox-cargo-manifests", "sandbox", "cargo-manifests"),
        ("cargo-sandbox-manifests", "sandbox", "cargo-manifests"),
        ("cargo-sandbox-7", "sandbox", "cargo-7"),
        ("cargo-prod", "production", "cargo"),
        ("cargo-stg", "staging", "cargo"),
        ("cargo-pre-production", "pre-production", "cargo"),
        ("cargo-pre-production", "production", "cargo-pre"),
        ("cargo-staging", "sandbox", "cargo-staging"),
        ("cargo-producer", "production", "cargo-producer"),
        ("sandbox", "sandbox", "sandbox"),
        ("prod", "production", "prod"),
    ],
)
def test_joined_names(name: str, environment: str, joined: str) -> None:
    assert references.joined_name(name, environment) == joined


@given(st.lists(st.tuples(ENVIRONMENTS, NAMES), unique=True, max_size=8))
def test_proposed_names_are_free_and_names(pairs: list[tuple[str, str]]) -> None:
    pairs += [(environment, f"{name}-{environment}") for environment, name in pairs]
    pairs = [pair for pair in dict.fromkeys(pairs) if references.is_name(pair[1])]
    taken = {references.write(*pair): "a connection" for pair in pairs}
    found = [proposal for proposal in references.propose(pairs, taken) if not proposal.obstacle]
    proposed = [references.write(item.environment, item.joined) for item in found]
    assert len(proposed) == len(set(proposed))
    assert not set(proposed) & set(taken)
    assert all(references.is_name(item.joined) and item.joined != item.name for item in found)


def test_two_that_would_get_one_name() -> None:
    pairs = [("sandbox", "cargo-sandbox"), ("sandbox", "sandbox-cargo"), ("staging", "cargo")]
    first, second = references.propose(pairs, {})
    assert (first.joined, first.obstacle) == ("cargo", "")
    assert second.obstacle == "sandbox/cargo is proposed for sandbox/cargo-sandbox."
    (only,) = references.propose(pairs[:1], {"sandbox/cargo": "another connection"})
    assert only.obstacle == "sandbox/cargo is the name of another connection."
