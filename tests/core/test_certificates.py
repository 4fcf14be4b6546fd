"""Chains made here and judged by two others: ``openssl verify`` and the library's own verifier.

Reading, both ways with openssl.
"""

from __future__ import annotations

import ipaddress
import subprocess
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from pathlib import Path
from typing import Any

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import BestAvailableEncryption, Encoding, pkcs12
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID
from hypothesis import given
from hypothesis import strategies as st

from neatlatch.core import compute, keys
from neatlatch.core.certificates import facts, names, path, reading

AT = datetime(2026, 6, 1, tzinfo=UTC)
VECTORS = Path(__file__).parent.parent / "vectors" / "certs"
KEYS = [ec.generate_private_key(ec.SECP256R1()) for _ in range(5)]


def make(
    subject: str,
    key: int,
    issuer: str,
    by: int,
    *,
    ca: bool = False,
    length: int | None = None,
    begins: int = -100,
    ends: int = 100,
    dns: tuple[str, ...] = (),
    eku: Any = None,
    permitted: str = "",
    excluded: str = "",
    cert_sign: bool = True,
) -> x509.Certificate:
    """A certificate; days are counted from ``AT``."""

    def name(text: str) -> x509.Name:
        return x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, text)])

    built = (
        x509.CertificateBuilder()
        .subject_name(name(subject))
        .issuer_name(name(issuer))
        .public_key(KEYS[key].public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(AT + timedelta(days=begins))
        .not_valid_after(AT + timedelta(days=ends))
        .add_extension(x509.BasicConstraints(ca, length if ca else None), True)
        .add_extension(x509.SubjectKeyIdentifier.from_public_key(KEYS[key].public_key()), False)
        .add_extension(
            x509.AuthorityKeyIdentifier.from_issuer_public_key(KEYS[by].public_key()), False
        )
    )
    if ca:
        built = built.add_extension(
            x509.KeyUsage(True, False, False, False, False, cert_sign, True, False, False), True
        )
    if dns:
        built = built.add_extension(
            x509.SubjectAlternativeName([x509.DNSName(text) for text in dns]), False
        )
    if eku:
        built = built.add_extension(x509.ExtendedKeyUsage([eku]), False)
    if permitted or excluded:
        trees = [[x509.DNSName(item)] if item else None for item in (permitted, excluded)]
        built = built.add_extension(x509.NameConstraints(*trees), True)
    return built.sign(KEYS[by], hashes.SHA256())


def openssl(
    folder: Path,
    leaf: x509.Certificate,
    others: list[x509.Certificate],
    root: x509.Certificate,
    host: str,
) -> tuple[bool, str]:
    for name, some in (("leaf", [leaf]), ("others", others), ("root", [root])):
        (folder / f"{name}.pem").write_bytes(
            b"".join(item.public_bytes(Encoding.PEM) for item in some)
        )
    done = subprocess.run(
        [
            "openssl",
            "verify",
            "-attime",
            str(int(AT.timestamp())),
            "-auth_level",
            "2",
            "-purpose",
            "sslserver",
            "-verify_hostname",
            host,
            "-CAfile",
            "root.pem",
            *(["-untrusted", "others.pem"] if others else []),
            "leaf.pem",
        ],
        cwd=folder,
        capture_output=True,
        text=True,
    )
    return done.returncode == 0, done.stdout + done.stderr


SERVER = ExtendedKeyUsageOID.SERVER_AUTH


@pytest.mark.slow
@given(
    depth=st.integers(0, 3),
    ca=st.lists(st.sampled_from([True, True, True, False]), min_size=3, max_size=3),
    length=st.lists(st.sampled_from([None, None, 0, 1]), min_size=4, max_size=4),
    ends=st.lists(st.sampled_from([100, 100, 100, -1]), min_size=5, max_size=5),
    eku=st.sampled_from([SERVER, None, ExtendedKeyUsageOID.CLIENT_AUTH]),
    permitted=st.sampled_from(["", "", "gannet.example", "other.example"]),
    excluded=st.sampled_from(["", "", "b.gannet.example"]),
    host=st.sampled_from(["a.gannet.example", "b.gannet.example"]),
    wrong_signer=st.sampled_from([False, False, False, True]),
    left_out=st.sampled_from([False, False, False, True]),
)
def test_random_chains_against_openssl(
    tmp_path_factory: pytest.TempPathFactory,
    depth: int,
    ca: list[bool],
    length: list[int | None],
    ends: list[int],
    eku: Any,
    permitted: str,
    excluded: str,
    host: str,
    wrong_signer: bool,
    left_out: bool,
) -> None:
    """RFC 5280 §6.1: root, up to three authorities, leaf, each with something that may be wrong."""
    root = make("root", 0, "root", 0, ca=True, length=length[3], ends=ends[4])
    others, above, by = [], "root", 0
    for place in range(depth):
        name = f"issuer {place}"
        others.append(
            make(
                name,
                place + 1,
                above,
                by,
                ca=ca[place],
                length=length[place],
                ends=ends[place],
                permitted=permitted if place == 0 else "",
                excluded=excluded if place == 0 else "",
            )
        )
        above, by = name, place + 1
    leaf = make(
        "leaf",
        4,
        above,
        (by + 1) % 4 if wrong_signer else by,
        dns=("a.gannet.example", "b.gannet.example"),
        eku=eku,
        ends=ends[3],
    )
    shown = others[1:] if left_out else others
    verdict = path.judge(leaf, shown, [root], AT, purpose="server", host=host)
    good, said = openssl(tmp_path_factory.mktemp("chain"), leaf, shown, root, host)
    assert verdict.valid == good, f"{verdict.verdict} at {verdict.at}; openssl: {said}"
    if verdict.valid:
        assert verdict.ends == min(item.not_valid_after_utc for item in [leaf, *others, root])
    else:
        assert verdict.says == path.WORDS[verdict.verdict]


def revocations(issuer: str, by: int) -> x509.CertificateRevocationList:
    """An empty list of an issuer."""
    named = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, issuer)])
    built = (
        x509.CertificateRevocationListBuilder()
        .issuer_name(named)
        .last_update(AT - timedelta(days=1))
        .next_update(AT + timedelta(days=1))
    )
    return built.sign(KEYS[by], hashes.SHA256())


@pytest.mark.parametrize("whose", ["own", "root's"])
def test_a_list_of_another_issuer_leaves_revocation_unknown(tmp_path: Path, whose: str) -> None:
    """RFC 5280 §6.3; openssl says error 3, “unable to get certificate CRL”."""
    root = make("root", 0, "root", 0, ca=True)
    issuer = make("issuer", 1, "root", 0, ca=True)
    leaf = make("leaf", 4, "issuer", 1, dns=("a.gannet.example",))
    some = revocations("issuer", 1) if whose == "own" else revocations("root", 0)
    for name, one in (("leaf", leaf), ("issuer", issuer), ("root", root), ("list", some)):
        (tmp_path / f"{name}.pem").write_bytes(one.public_bytes(Encoding.PEM))
    command = [
        "openssl",
        "verify",
        "-attime",
        str(int(AT.timestamp())),
        "-crl_check",
        "-CRLfile",
        "list.pem",
        "-CAfile",
        "root.pem",
        "-untrusted",
        "issuer.pem",
        "leaf.pem",
    ]
    done = subprocess.run(command, cwd=tmp_path, capture_output=True, text=True)
    verdict = path.judge(leaf, [issuer], [root], AT, lists=[some])
    if whose == "own":
        assert (verdict.verdict, done.returncode) == ("ok", 0)
    else:
        assert (verdict.verdict, verdict.valid) == ("revocation_unknown", False)
        assert "error 3 " in done.stdout + done.stderr


def test_a_key_is_told_with_its_curve() -> None:
    for curve in (ec.SECP256R1(), ec.SECP384R1(), ec.BrainpoolP256R1()):
        assert keys.facts(ec.generate_private_key(curve).public_key()).curve == curve.name
    answered = compute.answer(
        '{"op": "certificate_facts", "file": "x"}',
        lambda _: make("a", 0, "a", 0).public_bytes(Encoding.PEM),
    )
    assert answered["answer"]["public_key"] == {"type": "EC", "bits": 256, "curve": "secp256r1"}


def test_which_certificate_broke_the_rule() -> None:
    root = make("root", 0, "root", 0, ca=True)
    old = make("old issuer", 1, "root", 0, ca=True, ends=-3)
    leaf = make("leaf", 4, "old issuer", 1, dns=("a.gannet.example",), ends=50)
    verdict = path.judge(leaf, [old], [root], AT)
    assert (verdict.verdict, verdict.at) == ("expired", "CN=old issuer")
    assert verdict.ends == AT - timedelta(days=3)
    # A renewed issuer with the same name and key: the path through it holds.
    new = make("old issuer", 1, "root", 0, ca=True)
    assert path.judge(leaf, [old, new], [root], AT).valid


def test_a_key_that_may_not_sign_and_an_unknown_critical_extension() -> None:
    root = make("root", 0, "root", 0, ca=True)
    mute = make("mute", 1, "root", 0, ca=True, cert_sign=False)
    assert (
        path.judge(make("leaf", 4, "mute", 1), [mute], [root], AT).verdict == "issuer_may_not_sign"
    )
    odd = (
        x509.CertificateBuilder()
        .subject_name(root.subject)
        .issuer_name(root.subject)
        .public_key(KEYS[4].public_key())
        .serial_number(5)
        .not_valid_before(AT - timedelta(days=1))
        .not_valid_after(AT + timedelta(days=1))
        .add_extension(
            x509.UnrecognizedExtension(x509.ObjectIdentifier("1.2.3.4"), b"\x05\x00"), True
        )
        .sign(KEYS[0], hashes.SHA256())
    )
    assert path.judge(odd, [], [root], AT).verdict == "unknown_critical_extension"


def test_a_maze_of_issuers_ends() -> None:
    """Cross-signed issuers by the dozen: bounded time, and an answer."""
    maze = [
        make(f"m{i % 6}", i % 4, f"m{(i + 1 + i // 6) % 6}", (i + 1) % 4, ca=True)
        for i in range(36)
    ]
    assert not path.judge(
        make("leaf", 4, "m0", 0), maze, [make("root", 0, "root", 0, ca=True)], AT
    ).valid


@pytest.mark.parametrize(
    ("host", "dns", "ips", "fits"),
    [
        ("a.example", ("*.example",), (), False),
        ("a.b.example", ("*.b.example",), (), True),
        ("b.example", ("*.b.example",), (), False),
        ("xa.b.example", ("x*.b.example",), (), False),
        ("A.Example.", ("a.example",), (), True),
        ("192.0.2.1", ("192.0.2.1",), (), False),
        ("192.0.2.1", (), ("192.0.2.1",), True),
        ("[2001:db8::1]", (), ("2001:db8:0::1",), True),
    ],
)
def test_names(host: str, dns: tuple[str, ...], ips: tuple[str, ...], fits: bool) -> None:
    """RFC 9525 §6.3, §6.5."""
    assert names.matches(host, dns, [str(ipaddress.ip_address(ip)) for ip in ips]) is fits


def test_reading_what_openssl_wrote(tmp_path: Path) -> None:
    """PKCS#7, PKCS#12, DER, CSR and encrypted keys made by the openssl command."""
    certs = VECTORS

    def run(*words: str) -> None:
        subprocess.run(["openssl", *words], cwd=tmp_path, check=True, capture_output=True)

    run(
        "crl2pkcs7",
        "-nocrl",
        "-certfile",
        str(certs / "leaf-good.pem"),
        "-certfile",
        str(certs / "intermediate.pem"),
        "-outform",
        "DER",
        "-out",
        "a.p7b",
    )
    run("x509", "-in", str(certs / "leaf-good.pem"), "-outform", "DER", "-out", "a.der")
    run(
        "pkcs12",
        "-export",
        "-in",
        str(certs / "leaf-good.pem"),
        "-inkey",
        str(certs / "leaf-good.key.pem"),
        "-certfile",
        str(certs / "intermediate.pem"),
        "-name",
        "quay",
        "-passout",
        "pass:hush",
        "-out",
        "a.p12",
    )
    run(
        "req",
        "-new",
        "-newkey",
        "ec",
        "-pkeyopt",
        "ec_paramgen_curve:P-256",
        "-nodes",
        "-subj",
        "/CN=tides",
        "-addext",
        "subjectAltName=DNS:tides.example",
        "-keyout",
        "k.pem",
        "-out",
        "r.pem",
    )
    run("pkey", "-in", "k.pem", "-aes256", "-passout", "pass:hush", "-out", "e.pem")
    assert len(reading.read((tmp_path / "a.p7b").read_bytes()).certificates) == 2
    leaf = reading.read((tmp_path / "a.der").read_bytes()).leaf()
    assert leaf is not None
    opened = reading.read((tmp_path / "a.p12").read_bytes(), "hush")
    assert (opened.friendly_name, opened.leaf(), len(opened.keys)) == ("quay", leaf, 1)
    locked = reading.read((tmp_path / "a.p12").read_bytes())
    assert locked.locked
    assert "password" in locked.notes[0]
    with pytest.raises(reading.Unreadable, match="password"):
        reading.open_pkcs12((tmp_path / "a.p12").read_bytes(), "wrong")
    request = reading.read((tmp_path / "r.pem").read_bytes()).requests[0]
    assert facts.of_request(request).dns_names == ("tides.example",)
    locked = reading.read((tmp_path / "e.pem").read_bytes())
    assert locked.locked
    assert keys.match(
        reading.read((tmp_path / "e.pem").read_bytes(), "hush").keys[0], request.public_key()
    )
    assert keys.is_encrypted((tmp_path / "e.pem").read_bytes())


def test_what_is_written_opens_with_openssl(tmp_path: Path) -> None:
    leaf = make("leaf", 4, "leaf", 4)
    (tmp_path / "x.p12").write_bytes(
        pkcs12.serialize_key_and_certificates(
            b"n", KEYS[4], leaf, [], BestAvailableEncryption(b"hush")
        )
    )
    done = subprocess.run(
        ["openssl", "pkcs12", "-in", "x.p12", "-passin", "pass:hush", "-nodes"],
        cwd=tmp_path,
        capture_output=True,
        text=True,
        check=True,
    )
    found = reading.read(done.stdout.encode())
    assert reading.as_pem(found.certificates[0]) == reading.as_pem(leaf)
    assert reading.key_as_pem(found.keys[0]) == reading.key_as_pem(KEYS[4])


def test_the_leaf_of_a_bundle_in_any_order() -> None:
    files = [
        (VECTORS / name).read_bytes() for name in ("root.pem", "intermediate.pem", "leaf-good.pem")
    ]
    found = reading.read(b"\n".join(files))
    leaf = found.leaf()
    assert leaf is not None
    assert "www.good.example" in facts.of_certificate(leaf).dns_names
    # RFC 8446 §4.4.2: the sender's own certificate comes first.
    assert reading.read(found.chain().encode()).certificates == [leaf, *found.certificates[:2]]
    assert reading.CertificateFile().chain() == ""


@pytest.mark.parametrize(
    ("data", "says"),
    [
        (b"hello", "neither PEM nor DER"),
        (b"0\x03abc", "no certificate"),
        (b"-----BEGIN CERTIFICATE-----\nMIIB", "cut"),
        (b"-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----", "cannot be read"),
        (b"", "neither"),
    ],
)
def test_what_cannot_be_read_is_told(data: bytes, says: str) -> None:
    with pytest.raises(reading.Unreadable, match=says):
        reading.read(data)


@given(
    st.binary(max_size=200)
    | st.binary(max_size=60).map(
        lambda b: b"-----BEGIN CERTIFICATE-----\n" + b + b"\n-----END CERTIFICATE-----"
    )
)
def test_no_octets_crash_the_reading(data: bytes) -> None:
    with suppress(reading.Unreadable):
        assert reading.read(data)
