"""What opening an encrypted key costs is read before it is opened."""

from __future__ import annotations

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
from tests.bombs import PASSWORD, SAYING, by_rounds, packed, pem

KEY = ec.generate_private_key(ec.SECP256R1())


@given(st.integers(1, 2**60))
def test_rounds_of_any_size(rounds: int) -> None:
    assert [cost.rounds for cost in derivations.costs(by_rounds(rounds))] == [rounds]


def openssl(folder: Path, *words: str) -> str:
    (folder / "key.pem").write_bytes(keys_in_the_open())
    done = subprocess.run(
        ["openssl", *words], cwd=folder, capture_output=True, check=True, text=True
    )
    return done.stdout + done.stderr


@pytest.mark.parametrize(
    "words",
    [["-v2", "aes-256-cbc", "-v2prf", "hmacWithSHA512"], ["-v1", "PBE-SHA1-3DES"]],
    ids=["PBES2", "PBES1"],
)
def test_the_rounds_that_openssl_wrote(tmp_path: Path, words: list[str]) -> None:
    for rounds in (1, 300, 70_000):
        rest = (
            "-iter",
            str(rounds),
            "-passout",
            f"pass:{PASSWORD}",
            "-outform",
            "DER",
            "-out",
            "out",
        )
        openssl(tmp_path, "pkcs8", "-topk8", "-in", "key.pem", *words, *rest)
        assert [cost.rounds for cost in derivations.costs((tmp_path / "out").read_bytes())] == [
            rounds
        ]


def test_each_derivation_of_a_packed_file(tmp_path: Path) -> None:
    certificate = make_root(
        "Gannet Sound Ferries", "Root", KEY, 1, datetime(2026, 7, 1, tzinfo=UTC)
    )
    for cipher in (pkcs12.PBES.PBESv2SHA256AndAES256CBC, pkcs12.PBES.PBESv1SHA1And3KeyTripleDESCBC):
        how = (
            PrivateFormat.PKCS12.encryption_builder()
            .kdf_rounds(1234)
            .key_cert_algorithm(cipher)
            .hmac_hash(hashes.SHA256())
        )
        data = pkcs12.serialize_key_and_certificates(
            b"own", KEY, certificate, None, how.build(PASSWORD.encode())
        )
        (tmp_path / "file.p12").write_bytes(data)
        told = openssl(
            tmp_path, "pkcs12", "-in", "file.p12", "-info", "-noout", "-passin", f"pass:{PASSWORD}"
        )
        assert [cost.rounds for cost in derivations.costs(data)] == [
            int(item) for item in re.findall(r"[Ii]teration (\d+)", told)
        ]
        assert reading.read(data, PASSWORD).keys
    assert [cost.rounds for cost in derivations.costs(packed(77, 99))] == [99, 77]
    assert [cost.rounds for cost in derivations.costs(packed(77, 99, ends=False))] == [99, 77]


@pytest.mark.parametrize("n", [1024, 16384])
def test_scrypt_as_openssl_writes_it(tmp_path: Path, n: int) -> None:
    openssl(
        tmp_path,
        *("pkcs8", "-topk8", "-in", "key.pem", "-scrypt", "-scrypt_N", str(n)),
        *("-passout", f"pass:{PASSWORD}", "-outform", "DER", "-out", "out"),
    )
    data = (tmp_path / "out").read_bytes()
    assert [cost.memory for cost in derivations.costs(data)] == [128 * n * 8]
    assert keys.match(keys.open_private(data, PASSWORD), KEY.public_key())


def keys_in_the_open() -> bytes:
    return reading.key_as_pem(KEY).encode()


@pytest.mark.parametrize("bomb", SAYING)
@pytest.mark.parametrize("password", [None, PASSWORD])
def test_a_bomb_is_refused_before_anything_is_derived(bomb: str, password: str | None) -> None:
    begun = time.process_time()
    with pytest.raises(derivations.TooCostly):
        derivations.check(SAYING[bomb])
    for data in (SAYING[bomb], pem(SAYING[bomb])):
        with pytest.raises(ValueError):
            reading.read(data, password)
        with pytest.raises(keys.BadKey):
            keys.open_private(data, password)
    assert time.process_time() - begun < 20  # any of them would take minutes, or gigabytes


def test_a_bomb_does_not_hide_behind_another_key() -> None:
    """What is looked at is what is opened: the first private key, and no other."""
    with pytest.raises(keys.BadKey, match="30,000,000 rounds"):
        keys.open_private(pem(SAYING["PBKDF2"]) + keys_in_the_open(), PASSWORD)
    assert keys.match(
        keys.open_private(keys_in_the_open() + pem(SAYING["PBKDF2"]), PASSWORD), KEY.public_key()
    )
    with pytest.raises(keys.BadKey):
        keys.open_private(
            pem(SAYING["PBKDF2"]).replace(
                b"KEY-----\n", b"KEY-----\nProc-Type: 4,ENCRYPTED\n\n", 1
            ),
            PASSWORD,
        )


@given(st.binary(max_size=400))
def test_anything_is_walked(data: bytes) -> None:
    list(derivations.costs(b"\x30\x80" + data))
