"""One-time codes against the tables of their RFCs and a library."""

from __future__ import annotations

import base64

import pytest
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.twofactor.totp import TOTP
from hypothesis import given
from hypothesis import strategies as st

from neatlatch.core import totp

KEY = b"12345678901234567890"
SEED = {"sha1": KEY, "sha256": (KEY * 2)[:32], "sha512": (KEY * 4)[:64]}
# RFC 6238 App. B: seconds, then the codes by SHA-1, SHA-256 and SHA-512.
TABLE = [
    (59, "94287082", "46119246", "90693936"),
    (1111111109, "07081804", "68084774", "25091201"),
    (1111111111, "14050471", "67062674", "99943326"),
    (1234567890, "89005924", "91819424", "93441116"),
    (2000000000, "69279037", "90698825", "38618901"),
    (20000000000, "65353130", "77737706", "47863826"),
]
# RFC 4226 App. D: the codes of the counters 0 to 9.
HOTP = [
    "755224",
    "287082",
    "359152",
    "969429",
    "338314",
    "254676",
    "287922",
    "162583",
    "399871",
    "520489",
]


@pytest.mark.parametrize(("seconds", "sha1", "sha256", "sha512"), TABLE)
def test_table_of_rfc_6238(seconds: int, sha1: str, sha256: str, sha512: str) -> None:
    for algorithm, wanted in (("sha1", sha1), ("sha256", sha256), ("sha512", sha512)):
        assert totp.code(SEED[algorithm], seconds, 8, algorithm) == wanted


def test_table_of_rfc_4226() -> None:
    assert [totp.code_at(KEY, counter) for counter in range(10)] == HOTP


@given(st.binary(min_size=16, max_size=64), st.integers(0, 2**40))
def test_like_the_library(secret: bytes, now: int) -> None:
    reference = TOTP(secret, 6, hashes.SHA1(), 30, enforce_key_length=False)
    assert totp.code(secret, now).encode() == reference.generate(now)


def test_a_code_serves_once_and_for_a_minute_and_a_half() -> None:
    now = 1_700_000_010.0
    shown = totp.code(KEY, now)
    step = totp.accept(KEY, f"{shown[:3]} {shown[3:]}", now)
    assert step == int(now // 30)
    assert totp.accept(KEY, shown, now, step) is None
    assert totp.accept(KEY, shown, now + 30) == step
    assert totp.accept(KEY, shown, now - 30) == step
    assert totp.accept(KEY, shown, now + 61) is None
    for wrong in ("", "00000", "abcdef", "１２３４５６", shown + "0"):
        assert totp.accept(KEY, wrong, now) is None


def test_the_secret_as_it_is_typed() -> None:
    assert base64.b32decode(totp.as_text(KEY)) == KEY
    assert (
        totp.address(KEY, "morag", "Neat Latch")
        == f"otpauth://totp/Neat%20Latch%3Amorag?secret={totp.as_text(KEY)}&issuer=Neat%20Latch"
    )
