"""What opening an encrypted key costs is read before it is opened."""

from __future__ import annotations

import base64
import re
import subprocess
import time
from datetime import UTC, datetime
from pathlib import Path

import pytest
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import PrivateFormat, pkcs12
from hypothesis import given
from hypothesis import strategies as st

from neatlatch.core import derivations, keys
from neatlatch.core.certificates import reading
from neatlatch.core.certificates.issuing import make_root

PASSWORD = "skerry-lantern"
KEY = ec.generate_private_key(ec.SECP256R1())
PBES2, PBKDF2, SCRYPT, AES = "2a864886f70d01050d", "2a864886f70d01050c", "2b06010401da47040b", "60864801650304012a"
SHROUDED, DATA = "2a864886f70d010c0a0102", "2a864886f70d010701"


def der(tag: int, *parts: bytes) -> bytes:
    """One element (X.690 §8.1)."""
    content = b"".join(parts)
    size = len(content)
    octets = size.to_bytes((size.bit_length() + 7) // 8 or 1, "big")
    return bytes([tag]) + (bytes([size]) if size < 128 else bytes([0x80 | len(octets)]) + octets) + content


def number(value: int) -> bytes:
    return der(2, value.to_bytes(value.bit_length() // 8 + 1, "big"))


def name(octets: str) -> bytes:
    return der(6, bytes.fromhex(octets))


def open_ended(tag: int, *parts: bytes) -> bytes:
    """The same without a length (X.690 §8.1.3.6)."""
    return bytes([tag, 0x80]) + b"".join(parts) + b"\0\0"


def encrypted_key(*derivation: bytes) -> bytes:
    """A PKCS#8 file that names a derivation (RFC 8018 §A.4)."""
    return der(0x30, der(0x30, name(PBES2), der(0x30, der(0x30, *derivation), der(0x30, name(AES), der(4, bytes(16))))), der(4, bytes(64)))


def by_rounds(rounds: int) -> bytes:
    return encrypted_key(name(PBKDF2), der(0x30, der(4, bytes(8)), number(rounds)))


def by_scrypt(n: int, r: int = 8, p: int = 1) -> bytes:
    return encrypted_key(name(SCRYPT), der(0x30, der(4, bytes(8)), number(n), number(r), number(p)))


def packed(bag_rounds: int, mac_rounds: int, ends: bool = True, bags: int = 1) -> bytes:
    """A PKCS#12 file with shrouded key bags (RFC 7292 §4); ``ends``: with lengths."""
    each = der if ends else open_ended
    bag = each(0x30, name(SHROUDED), each(0xA0, by_rounds(bag_rounds)))
    within = each(0x30, each(0x30, name(DATA), each(0xA0, der(4, each(0x30, *[bag] * bags)))))
    whole = der(4, within) if ends else open_ended(0x24, der(4, within[:20]), der(4, within[20:]))
    digest = der(0x30, der(0x30, name("608648016503040201"), der(5)), der(4, bytes(32)))
    return each(0x30, number(3), each(0x30, name(DATA), each(0xA0, whole)), der(0x30, digest, der(4, bytes(8)), number(mac_rounds)))


def pem(data: bytes, label: str = "ENCRYPTED PRIVATE KEY") -> bytes:
    return f"-----BEGIN {label}-----\n{base64.encodebytes(data).decode()}-----END {label}-----\n".encode()


@given(st.integers(1, 2**60))
def test_rounds_of_any_size(rounds: int) -> None:
    assert [one.rounds for one in derivations.costs(by_rounds(rounds))] == [rounds]


def openssl(folder: Path, *words: str) -> str:
    (folder / "key.pem").write_bytes(keys_in_the_open())
    done = subprocess.run(["openssl", *words], cwd=folder, capture_output=True, check=True, text=True)
    return done.stdout + done.stderr


@pytest.mark.parametrize("words", [["-v2", "aes-256-cbc", "-v2prf", "hmacWithSHA512"], ["-v1", "PBE-SHA1-3DES"]], ids=["PBES2", "PBES1"])
def test_the_rounds_that_openssl_wrote(tmp_path: Path, words: list[str]) -> None:
    for rounds in (1, 300, 70_000):
        rest = ("-iter", str(rounds), "-passout", f"pass:{PASSWORD}", "-outform", "DER", "-out", "out")
        openssl(tmp_path, "pkcs8", "-topk8", "-in", "key.pem", *words, *rest)
        assert [one.rounds for one in derivations.costs((tmp_path / "out").read_bytes())] == [rounds]


def test_each_derivation_of_a_packed_file(tmp_path: Path) -> None:
    certificate = make_root("Gannet Sound Ferries", "Root", KEY, 1, datetime(2026, 7, 1, tzinfo=UTC))
    for cipher in (pkcs12.PBES.PBESv2SHA256AndAES256CBC, pkcs12.PBES.PBESv1SHA1And3KeyTripleDESCBC):
        how = PrivateFormat.PKCS12.encryption_builder().kdf_rounds(1234).key_cert_algorithm(cipher).hmac_hash(hashes.SHA256())
        data = pkcs12.serialize_key_and_certificates(b"own", KEY, certificate, None, how.build(PASSWORD.encode()))
        (tmp_path / "file.p12").write_bytes(data)
        told = openssl(tmp_path, "pkcs12", "-in", "file.p12", "-info", "-noout", "-passin", f"pass:{PASSWORD}")
        assert [one.rounds for one in derivations.costs(data)] == [int(one) for one in re.findall(r"[Ii]teration (\d+)", told)]
        assert reading.read(data, PASSWORD).keys
    assert [one.rounds for one in derivations.costs(packed(77, 99))] == [99, 77]
    assert [one.rounds for one in derivations.costs(packed(77, 99, ends=False))] == [99, 77]


@pytest.mark.parametrize("n", [1024, 16384])
def test_scrypt_as_openssl_writes_it(tmp_path: Path, n: int) -> None:
    openssl(
        tmp_path,
        *("pkcs8", "-topk8", "-in", "key.pem", "-scrypt", "-scrypt_N", str(n)),
        *("-passout", f"pass:{PASSWORD}", "-outform", "DER", "-out", "out"),
    )
    data = (tmp_path / "out").read_bytes()
    assert [one.memory for one in derivations.costs(data)] == [128 * n * 8]
    assert keys.match(keys.open_private(data, PASSWORD), KEY.public_key())


def keys_in_the_open() -> bytes:
    return reading.key_as_pem(KEY).encode()


BOMBS = {
    "PBKDF2": by_rounds(30_000_000),
    "PBKDF2 beyond 64 bits": by_rounds(2**80),
    "scrypt, memory": by_scrypt(2**21),
    "scrypt, lanes": by_scrypt(2**10, p=4096),
    "PKCS#12, bag": packed(6_000_000, 1),
    "PKCS#12, MAC": packed(1, 6_000_000),
    "PKCS#12 without lengths": packed(6_000_000, 1, ends=False),
    "PKCS#12, many bags": packed(1_999_999, 1, bags=40),
    "PKCS#12 and something behind it": packed(1, 6_000_000) + b"\0\0",
    "nothing but parts": der(0x30, *[der(5)] * 200_000),
}


@pytest.mark.parametrize("bomb", BOMBS)
@pytest.mark.parametrize("password", [None, PASSWORD])
def test_a_bomb_is_refused_before_anything_is_derived(bomb: str, password: str | None) -> None:
    begun = time.process_time()
    with pytest.raises(derivations.TooCostly):
        derivations.check(BOMBS[bomb])
    for data in (BOMBS[bomb], pem(BOMBS[bomb])):
        with pytest.raises(ValueError):
            reading.read(data, password)
        with pytest.raises(keys.BadKey):
            keys.open_private(data, password)
    assert time.process_time() - begun < 5


def test_a_bomb_does_not_hide_behind_another_key() -> None:
    """What is looked at is what is opened: the first private key, and no other."""
    with pytest.raises(keys.BadKey, match="30,000,000 rounds"):
        keys.open_private(pem(BOMBS["PBKDF2"]) + keys_in_the_open(), PASSWORD)
    assert keys.match(keys.open_private(keys_in_the_open() + pem(BOMBS["PBKDF2"]), PASSWORD), KEY.public_key())
    with pytest.raises(keys.BadKey):
        keys.open_private(pem(BOMBS["PBKDF2"]).replace(b"KEY-----\n", b"KEY-----\nProc-Type: 4,ENCRYPTED\n\n", 1), PASSWORD)


@given(st.binary(max_size=400))
def test_anything_is_walked(data: bytes) -> None:
    list(derivations.costs(b"\x30\x80" + data))
