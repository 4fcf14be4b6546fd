"""What holds of the pins whatever the two halves say: they never fail, never hide a difference, and
what differs can be mended.
"""

from __future__ import annotations

import ipaddress
from dataclasses import replace
from datetime import timedelta

from hypothesis import given
from hypothesis import strategies as st

from neatlatch.core import pins
from neatlatch.core.pins import Fit
from neatlatch.core.schemes import API_KEY, BASIC, KINDS, STREAM

from .test_pins_of_schemes import KEY, NOW, STREAMING, VALUES, halves

TEXT = st.text(st.characters(codec="utf-8", exclude_categories=["Cs"]), max_size=30)


@given(st.sampled_from(sorted(VALUES)), st.data())
def test_any_two_halves_are_compared_without_failing(kind: str, data: st.DataObject) -> None:
    keys = [
        value.key
        for value in (STREAMING if kind == STREAM else KINDS[kind]).all_values()
        if not value.secret
    ]
    anything = st.dictionaries(st.sampled_from(keys), TEXT, max_size=len(keys))
    ours, theirs = data.draw(anything), data.draw(anything)
    found = pins.work_out(
        halves(
            kind,
            {"values": ours, "issuer": ours.get("issuer", ""), "client_id": data.draw(TEXT)},
            {
                "addresses": theirs,
                "facts": theirs,
                "known": data.draw(st.booleans()),
                "account": data.draw(TEXT),
                "account_kind": data.draw(st.sampled_from(["", "service", "person"])),
            },
        )
    )
    assert len({pin.key for pin in found}) == len(found)
    for pin in found:
        assert pin.label
        assert pin.why.rstrip().endswith((".", "?")), pin.why
        if pin.fit is Fit.DIFFERS:
            assert pin.acts, pin.key
        for act in pin.acts:
            assert act.label


@given(st.sampled_from(sorted(VALUES)), st.data())
def test_a_changed_value_never_fits(kind: str, data: st.DataObject) -> None:
    """Names are compared character by character: whatever is changed in one of them shows in its
    own pin.
    """
    names = [
        identity.key for identity in (STREAMING if kind == STREAM else KINDS[kind]).identities()
    ]
    if not names:
        return
    key, other = data.draw(st.sampled_from(names)), data.draw(TEXT.filter(bool))
    if other == VALUES[kind][key]:
        return
    found = next(
        pin
        for pin in pins.work_out(halves(kind, {"values": {**VALUES[kind], key: other}}))
        if pin.key == key
    )
    assert found.fit is Fit.DIFFERS
    assert found.marked is not None


@given(st.sampled_from(sorted(VALUES)), st.timedeltas(timedelta(days=-400), timedelta(days=400)))
def test_a_secret_past_its_end_never_fits(kind: str, away: timedelta) -> None:
    scheme = STREAMING if kind == STREAM else KINDS[kind]
    for value in scheme.secrets():
        if value.type == "key":
            continue
        held = {
            secret.key: (replace(KEY, ends=NOW + away),) if secret.key == value.key else (KEY,)
            for secret in scheme.secrets()
        }
        mine = {
            secret.key: replace(KEY, ends=NOW + away) if secret.key == value.key else KEY
            for secret in scheme.secrets()
        }
        found = next(
            pin
            for pin in pins.work_out(halves(kind, {"secrets": mine}, {"held": held}))
            if pin.key == value.key
        )
        assert (found.fit is Fit.DIFFERS) == (away <= timedelta(0))


@given(st.sampled_from(sorted(VALUES)), st.text("0123456789abcdef", min_size=4, max_size=8))
def test_another_secret_than_they_hold_never_fits_and_is_never_shown(
    kind: str, fingerprint: str
) -> None:
    scheme = STREAMING if kind == STREAM else KINDS[kind]
    for value in scheme.secrets():
        if value.type == "key" or fingerprint == KEY.fingerprint:
            continue
        mine = {
            secret.key: replace(KEY, fingerprint=fingerprint) if secret.key == value.key else KEY
            for secret in scheme.secrets()
        }
        worked_out = pins.work_out(halves(kind, {"secrets": mine, "changed_at": NOW}))
        found = next(pin for pin in worked_out if pin.key == value.key)
        assert found.fit is Fit.DIFFERS
        assert fingerprint not in f"{found.provider} {found.caller} {found.why}".replace(
            KEY.hint, ""
        )


@given(
    st.ip_addresses(v=4),
    st.lists(st.tuples(st.ip_addresses(v=4), st.integers(0, 32)), min_size=1, max_size=4),
)
def test_the_route_as_the_standard_library_sees_networks(
    out: ipaddress.IPv4Address, networks: list[tuple[ipaddress.IPv4Address, int]]
) -> None:
    allowed = tuple(
        str(ipaddress.ip_network(f"{address}/{length}", strict=False))
        for address, length in networks
    )
    inside = any(out in ipaddress.ip_network(item) for item in allowed)
    found = next(
        pin
        for pin in pins.work_out(
            halves(API_KEY, {"outgoing": (str(out),)}, {"allow_list": allowed})
        )
        if pin.key == "route"
    )
    assert (found.fit is Fit.DIFFERS) is not inside


ROLES = ("agent", "manager", "viewer")


@given(st.sets(st.sampled_from(ROLES), min_size=1), st.sets(st.sampled_from(ROLES), min_size=1))
def test_roles_as_sets(held: set[str], wanted: set[str]) -> None:
    """With alternatives of one role each, a workload can work if the account has one of them."""
    need = pins.Need(
        "Night fares", "GET /fares", tuple(frozenset({text}) for text in sorted(wanted))
    )
    given_halves = halves(BASIC, {}, {"rights": frozenset(held)}, roles=ROLES, needs=(need,))
    found = next(pin for pin in pins.work_out(given_halves) if pin.key == "rights")
    assert (found.fit is Fit.DIFFERS) is not bool(held & wanted)
