"""Signed calls against the specification's own example, RFC 4231, and a library by others."""

from __future__ import annotations

import base64
import hashlib
import hmac
import json
from datetime import UTC, datetime, timedelta

import pytest
from hypothesis import given
from hypothesis import strategies as st
from standardwebhooks.webhooks import Webhook, WebhookVerificationError

from neatlatch.core import profiles, signed_calls
from neatlatch.core.profile_keys import wrong_in
from neatlatch.core.schemes import KINDS, SIGNING_SECRET
from neatlatch.core.signed_calls import SignedCalls, check, signature, unsound_secret

NOW = datetime(2026, 12, 2, 3, 0, tzinfo=UTC)
STANDARD = SignedCalls()
# The example that the Standard Webhooks specification and its libraries share (from memory).
SECRET = "whsec_MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw"
EXAMPLE = ("msg_p5jXN8AQM9LWM0D4loKWxJek", "1614265330", b'{"test": 2432232314}')
SIGNED = "v1,g0hM9SsE+OTPJTGt/tmIKtSyZlE3uFJELVlNIOLJ1OE="
TICKETS = SignedCalls(
    "hmac",
    header="X-Ticket-Signature",
    prefix="sha256=",
    content="{timestamp}:{body}",
    timestamp_header="X-Ticket-Time",
)


def call(
    body: bytes, id: str = "msg_1", at: datetime = NOW, secret: str = SECRET
) -> dict[str, str]:
    stamp = str(int(at.timestamp()))
    key = signed_calls.key_of(STANDARD, secret)
    return {
        "webhook-id": id,
        "webhook-timestamp": stamp,
        "webhook-signature": signature(STANDARD, key, id, stamp, body),
    }


def test_the_example_of_the_specification_and_test_case_2_of_rfc_4231():
    assert signature(STANDARD, signed_calls.key_of(STANDARD, SECRET), *EXAMPLE) == SIGNED
    plain = SignedCalls("hmac", header="X-Signature")
    said = "5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843"
    assert signature(plain, b"Jefe", "", "", b"what do ya want for nothing?") == said
    in_capitals = {"x-signature": said.upper()}
    verdict = check(plain, in_capitals, b"what do ya want for nothing?", ["Jefe"], NOW)
    assert verdict.accepted
    assert verdict.at is None
    assert verdict.id == ""


@given(st.binary(min_size=24, max_size=64), st.text(max_size=200), st.sampled_from(["a", "msg_é"]))
def test_what_the_library_signs_is_accepted_and_what_we_sign_it_accepts(key, text, id):
    secret = signed_calls.new_secret(STANDARD, key)
    assert unsound_secret(STANDARD, secret) == ""
    body = json.dumps({"says": text})
    id = id.encode("ascii", "ignore").decode()
    at = datetime.now(UTC)
    theirs = {
        "webhook-id": id,
        "webhook-timestamp": str(int(at.timestamp())),
        "webhook-signature": Webhook(secret).sign(id, at, body),
    }
    assert check(STANDARD, theirs, body.encode(), [secret], at).accepted
    assert Webhook(secret).verify(body, call(body.encode(), id, at, secret)) == {"says": text}


@given(st.binary(max_size=60), st.integers(0, 200), st.integers(1, 255))
def test_one_octet_changed_is_rejected_by_both(body, place, by):
    headers = call(body)
    changed = bytearray(body or b"x")
    changed[place % len(changed)] ^= by
    verdict = check(STANDARD, headers, bytes(changed), [SECRET], NOW)
    assert (verdict.fault, verdict.secret) == ("wrong", -1)
    other = "whsec_" + base64.b64encode(b"another secret of 24 oct").decode()
    assert check(STANDARD, headers, body, [other], NOW).fault == "wrong"
    with pytest.raises(WebhookVerificationError):
        Webhook(other).verify(body.decode("latin-1"), headers)


def test_several_signatures_and_several_secrets_while_one_is_replaced():
    new = "whsec_" + base64.b64encode(b"the new one of 24 octets").decode()
    old_one, new_one = call(b"{}"), call(b"{}", secret=new)
    both = old_one | {
        "webhook-signature": f"v2,xx {old_one['webhook-signature']} {new_one['webhook-signature']}"
    }
    assert check(STANDARD, both, b"{}", [new], NOW).accepted
    assert check(STANDARD, old_one, b"{}", [new, SECRET], NOW).secret == 1
    assert check(STANDARD, new_one, b"{}", [new, SECRET], NOW).secret == 0
    # The same call, whichever secret it was signed with.
    digests = {check(STANDARD, one, b"{}", [new, SECRET], NOW).digest for one in (old_one, new_one)}
    assert len(digests) == 1
    many = " ".join(["v1,AAAA"] * 50 + [old_one["webhook-signature"]])
    assert not check(STANDARD, old_one | {"webhook-signature": many}, b"{}", [SECRET], NOW).accepted


@pytest.mark.parametrize(
    ("late", "fault"),
    [(-301, "too-old"), (-300, ""), (0, ""), (300, ""), (301, "too-new")],
)
def test_the_time_is_looked_at_once_the_signature_fits(late, fault):
    sent = NOW + timedelta(seconds=late)
    assert check(STANDARD, call(b"{}", at=sent), b"{}", [SECRET], NOW).fault == fault
    # A stranger cannot have a clock called wrong.
    assert check(STANDARD, call(b"{}", at=sent), b"!", [SECRET], NOW).fault == "wrong"


@pytest.mark.parametrize(
    ("change", "fault"),
    [
        ({"webhook-signature": ""}, "unsigned"),
        ({"webhook-id": ""}, "unreadable"),
        ({"webhook-timestamp": ""}, "unreadable"),
        ({"webhook-timestamp": "yesterday"}, "unreadable"),
        ({"webhook-timestamp": "9" * 13}, "unreadable"),
        ({"webhook-timestamp": "١٢٣"}, "unreadable"),
        ({"webhook-id": "x" * 2000}, "unreadable"),
        ({"webhook-id": "€"}, "wrong"),
        ({"webhook-signature": "v1," + "A" * 5000}, "wrong"),
        ({"webhook-signature": "é"}, "wrong"),
    ],
)
def test_what_cannot_be_read_is_rejected_with_its_reason(change, fault):
    verdict = check(STANDARD, call(b"{}") | change, b"{}", [SECRET], NOW)
    assert verdict.fault == fault
    assert verdict.says
    assert SECRET not in verdict.says


@given(st.dictionaries(st.sampled_from(list(call(b""))), st.text(max_size=40)), st.binary())
def test_no_header_field_makes_it_fail_otherwise_than_by_a_verdict(headers, body):
    for rule in (STANDARD, TICKETS):
        assert not check(rule, headers, body, [SECRET, "whsec_!", ""], NOW).accepted


def test_a_plain_hmac_of_the_applications_own():
    stamp = str(int(NOW.timestamp()))
    mac = hmac.new(b"harbour-lantern", f"{stamp}:{{}}".encode(), hashlib.sha256).hexdigest()
    headers = {"x-ticket-signature": f"sha256={mac}", "x-ticket-time": stamp}
    verdict = check(TICKETS, headers, b"{}", ["harbour-lantern"], NOW)
    assert verdict.accepted
    assert verdict.at == NOW
    assert verdict.id == ""
    for wrong in ({"x-ticket-signature": mac}, {"x-ticket-time": str(int(stamp) + 1)}):
        assert check(TICKETS, headers | wrong, b"{}", ["harbour-lantern"], NOW).fault == "wrong"


def test_secrets_that_cannot_be_one():
    assert unsound_secret(STANDARD, SECRET) == ""
    assert "begins with whsec_" in unsound_secret(STANDARD, "MfKQ9r8GKYqrTwjUPD8ILPZIo2LaLaSw")
    assert "Base64" in unsound_secret(STANDARD, "whsec_?")
    assert "24 to 64" in unsound_secret(STANDARD, "whsec_AAAA")
    assert "8 characters" in unsound_secret(TICKETS, "short")


@pytest.mark.parametrize(
    ("rule", "says"),
    [
        ({"method": "rsa"}, "method"),
        ({"header": "X-Own"}, "fixed by Standard Webhooks"),
        ({"tolerance": 0}, "tolerance"),
        ({"method": "hmac"}, "header names no"),
        ({"method": "hmac", "header": "X Y"}, "header names no"),
        ({"method": "hmac", "header": "X", "hash": "md5"}, "hash"),
        ({"method": "hmac", "header": "X", "encoding": "base32"}, "encoding"),
        ({"method": "hmac", "header": "X", "content": "{body}{body}"}, "ends with {body}"),
        ({"method": "hmac", "header": "X", "content": "{id}.{body}"}, "{id} in content"),
        ({"method": "hmac", "header": "X", "timestamp_header": "T"}, "{timestamp} in content"),
    ],
)
def test_a_profile_that_cannot_be_checked_by_is_refused(rule, says):
    found = profiles.from_dict({"signed_calls": rule})
    assert says in profiles.unsound(found)


def test_a_profile_gives_every_scheme_the_signing_secret_and_stays_as_it_is_written():
    kept = {
        "schemes": [{"key": "api_key"}, {"key": "basic"}],
        "signed_calls": {"method": "standard_webhooks", "where": "Calls"},
    }
    read = profiles.from_dict(kept)
    for scheme in (*read.schemes, read.scheme_for("bearer")):
        assert scheme.secrets()[-1].key == SIGNING_SECRET
        assert SIGNING_SECRET not in [value.key for value in scheme.sent_secrets()]
    assert profiles.brief(read)["signed_calls"] == kept["signed_calls"]
    for again in (profiles.to_dict(read), profiles.brief(read)):
        assert wrong_in(again) == ""
        assert profiles.from_dict(again) == read
    assert all(scheme.further == () for scheme in KINDS.values())
    assert "Do you mean “header”" in wrong_in({"signed_calls": {"heder": "X"}})
    for wrong in ({"tolerance": "soon"}, {"tolerance": True}, {"heder": "X"}, ["hmac"], "hmac"):
        with pytest.raises(profiles.BadProfile):
            profiles.from_dict({"signed_calls": wrong})
