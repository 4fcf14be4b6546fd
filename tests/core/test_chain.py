"""The journal's chain: every tampering is found, by somebody who has the whole table but not the
key (security.md M6).
"""

from __future__ import annotations

import hashlib
import hmac
import json
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from neatlatch.core import chain

KEY = b"k" * 32


def links(count: int, key: bytes = KEY, keyed_from: int = 1) -> list[chain.Link]:
    made: list[chain.Link] = []
    for number in range(1, count + 1):
        before = made[-1].own if made else chain.FIRST
        content = {"did": "x", "number": number}
        own = (
            chain.own_code(key, number, content, before)
            if number >= keyed_from
            else chain.plain_hash(number, content, before)
        )
        made.append(chain.Link(number, content, before, own))
    return made


def test_the_code_is_what_rfc_2104_says() -> None:
    """Against the standard library, over the text that the docstring names."""
    text = json.dumps(
        [1, {"did": "ä"}, chain.FIRST], sort_keys=True, separators=(",", ":"), ensure_ascii=False
    ).encode()
    assert (
        chain.own_code(KEY, 1, {"did": "ä"}, chain.FIRST)
        == hmac.new(KEY, text, hashlib.sha256).hexdigest()
    )
    assert chain.plain_hash(1, {"did": "ä"}, chain.FIRST) == hashlib.sha256(text).hexdigest()


@given(st.integers(2, 12), st.integers(1, 12), st.data())
def test_any_change_of_the_chain_is_found(count: int, keyed_from: int, data: st.DataObject) -> None:
    whole = links(count, keyed_from=keyed_from)
    assert chain.first_fault(whole, KEY, keyed_from) is None
    place = data.draw(st.integers(0, count - 1))
    changed = [*whole]
    changed[place] = replace(whole[place], content={"did": "y", "number": place + 1})
    assert (
        chain.first_fault(changed, KEY, keyed_from)
        == f"Entry {place + 1} was changed after it was written."
    )
    if place < count - 1:
        assert chain.first_fault(whole[:place] + whole[place + 1 :], KEY, keyed_from) is not None
        swapped = [*whole]
        swapped[place], swapped[place + 1] = swapped[place + 1], swapped[place]
        assert chain.first_fault(swapped, KEY, keyed_from) is not None


@given(st.integers(1, 12))
def test_nobody_without_the_key_makes_it_anew(count: int) -> None:
    """All hashed anew, with another key or with none; the last one replaced, which no
    other holds.
    """
    assert chain.first_fault(links(count, b"another" * 5), KEY) is not None
    assert chain.first_fault(links(count, keyed_from=count + 1), KEY) is not None
    whole = links(count)
    content = {"did": "y"}
    for own in (
        chain.plain_hash(count, content, whole[-1].before),
        chain.own_code(b"", count, content, whole[-1].before),
    ):
        assert (
            chain.first_fault([*whole[:-1], chain.Link(count, content, whole[-1].before, own)], KEY)
            is not None
        )


@given(st.integers(1, 12), st.data())
def test_a_check_may_begin_at_any_entry_whose_code_is_known(
    count: int, data: st.DataObject
) -> None:
    whole = links(count)
    number = data.draw(st.integers(0, count))
    start = chain.CheckStart(number, whole[number - 1].own) if number else chain.CheckStart()
    assert chain.first_fault(whole[number:], KEY, start=start) is None
    if number < count:
        assert (
            chain.first_fault(whole[number:], KEY, start=replace(start, own="1" * 64)) is not None
        )


@given(st.integers(1, 12), st.integers(0, 12))
def test_the_anchor_finds_what_was_cut_off_and_what_was_replaced(count: int, left: int) -> None:
    whole = links(count)
    anchor = chain.Anchor(count, whole[-1].own)
    assert chain.beyond_anchor(anchor, count, whole[-1].own) is None
    assert chain.beyond_anchor(anchor, count + 5, whole[-1].own) is None  # it may be behind
    if left < count:
        assert "missing" in (chain.beyond_anchor(anchor, left, None) or "")
    other = links(count, b"another" * 5)
    assert "is not the one" in (chain.beyond_anchor(anchor, count, other[-1].own) or "")


@given(st.integers(0, 10**12), st.integers(1, 10**6))
def test_an_anchor_is_read_as_it_was_written_and_made_by_nobody_else(
    number: int, keyed_from: int
) -> None:
    anchor = chain.Anchor(number, hashlib.sha256(b"x").hexdigest(), keyed_from)
    text = chain.written(anchor, KEY)
    assert chain.read(f" {text}\n", KEY) == anchor
    assert chain.read(text, b"another" * 5) is None
    assert chain.read(text.replace(f".{number}.", f".{number + 1}.", 1), KEY) is None


@pytest.mark.parametrize(
    "text",
    ["", "nlj1", "nlj1.1.1.x.y", "nlj1.١.1.x.y", "nlj2.1.1.x.y", "a.b.c.d.e.f", "x" * 10_000],
)
def test_what_is_no_anchor(text: str) -> None:
    assert chain.read(text, KEY) is None
