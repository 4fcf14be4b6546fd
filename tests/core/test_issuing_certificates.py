"""Certificates and revocation lists that the house makes, held against the ``openssl`` command and
the cryptography path verifier, and the order of a replacement against a plain simulation.
"""

from __future__ import annotations

import subprocess
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from cryptography import x509
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from cryptography.hazmat.primitives.serialization import (
    BestAvailableEncryption,
    Encoding,
    NoEncryption,
    PrivateFormat,
    pkcs12,
)
from cryptography.x509.verification import PolicyBuilder, Store
from hypothesis import given
from hypothesis import strategies as st

from neatlatch.core import keys
from neatlatch.core.certificates import facts, issuing, path, reading, replacing

NOW = datetime(2026, 6, 1, 12, tzinfo=UTC)
FIRM = "Gannet Sound Ferries"


def openssl(*command: str, into: bytes = b"") -> subprocess.CompletedProcess[bytes]:
    return subprocess.run(["openssl", *command], input=into, capture_output=True, check=False)


class House:
    """A root and an issuing authority, and what they sign, written out for the command."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        root_key, own_key = (
            ec.generate_private_key(ec.SECP384R1()),
            ec.generate_private_key(ec.SECP256R1()),
        )
        self.root = issuing.make_root(FIRM, "Root", root_key, 7, NOW)
        issuer = issuing.Issuer(
            self.root, root_key, "http://house.example/root.crl", "http://house.example/root.cer"
        )
        self.own = issuing.make_issuing(
            FIRM, "Issuing", own_key.public_key(), issuer, issuing.serial_from(b"\xff" * 16), NOW
        )
        self.issuer = issuing.Issuer(
            self.own, own_key, "http://house.example/own.crl", "http://house.example/own.cer"
        )
        self.write("root.pem", self.root)
        self.write("own.pem", self.own)

    def write(self, name: str, thing: x509.Certificate | x509.CertificateRevocationList) -> str:
        (self.folder / name).write_bytes(thing.public_bytes(Encoding.PEM))
        return str(self.folder / name)

    def issue(
        self,
        profile: issuing.Profile,
        names: tuple[str, ...],
        days: int = 0,
        serial: int = 99,
        key: object = None,
    ) -> x509.Certificate:
        public = key or ec.generate_private_key(ec.SECP256R1()).public_key()
        wanted = issuing.CertificateContent(
            profile,
            "Night run",
            names,
            public,  # type: ignore[arg-type]
            days or profile.days,
        )
        return issuing.issue(wanted, self.issuer, FIRM, serial, NOW)

    def verify(self, leaf: x509.Certificate, *more: str) -> subprocess.CompletedProcess[bytes]:
        return openssl(
            "verify",
            "-x509_strict",
            "-attime",
            str(int(NOW.timestamp()) + 60),
            "-CAfile",
            str(self.folder / "root.pem"),
            "-untrusted",
            str(self.folder / "own.pem"),
            *more,
            self.write("leaf.pem", leaf),
        )


@pytest.fixture(scope="module")
def house(tmp_path_factory: pytest.TempPathFactory) -> House:
    return House(tmp_path_factory.mktemp("house"))


def test_openssl_trusts_what_the_house_issues(house: House) -> None:
    """RFC 5280 §4, §6.1, by ``openssl verify -x509_strict`` and by the cryptography
    path verifier.
    """
    client = house.issue(issuing.CLIENT, ("urn:uuid:9f0c4a6e-7f1d-4a53-9a55-0d9e0f8c3a11",))
    server = house.issue(
        issuing.SERVER, ("crew.gannet.example", "*.quay.gannet.example", "192.0.2.7")
    )
    assert house.verify(client, "-purpose", "sslclient").returncode == 0
    assert (
        house.verify(
            server, "-purpose", "sslserver", "-verify_hostname", "CREW.gannet.example"
        ).returncode
        == 0
    )
    assert house.verify(server, "-purpose", "sslserver", "-verify_ip", "192.0.2.7").returncode == 0
    assert house.verify(server, "-purpose", "sslclient").returncode == 2
    assert house.verify(client, "-purpose", "sslserver").returncode == 2
    builder = PolicyBuilder().store(Store([house.root])).time(NOW)
    assert (
        builder.build_server_verifier(x509.DNSName("a.quay.gannet.example")).verify(
            server, [house.own]
        )[0]
        == server
    )
    assert builder.build_client_verifier().verify(client, [house.own]).chain[-1] == house.root
    assert path.judge(client, [house.own], [house.root], NOW, purpose="client").valid


def test_what_the_command_says_of_a_certificate(house: House) -> None:
    """The fields that the standard wants, as ``openssl x509`` prints them."""
    leaf = house.issue(
        issuing.SERVER,
        ("crew.gannet.example",),
        days=30,
        serial=issuing.serial_from(bytes(range(200, 216))),
    )
    text = openssl(
        "x509", "-noout", "-text", "-serial", into=leaf.public_bytes(Encoding.PEM)
    ).stdout.decode()
    assert f"serial={facts.serial(leaf.serial_number)}" in text
    for said in (
        "CA:FALSE",
        "Digital Signature",
        "TLS Web Server Authentication",
        "DNS:crew.gannet.example",
        "URI:http://house.example/own.crl",
        "CA Issuers - URI:http://house.example/own.cer",
        f"Issuer: O = {FIRM}, CN = Issuing",
        "Jun  1 11:55:00 2026 GMT",
        "Jul  1 12:00:00 2026 GMT",
    ):
        assert said in text
    above = openssl(
        "x509", "-noout", "-text", into=house.own.public_bytes(Encoding.PEM)
    ).stdout.decode()
    assert "CA:TRUE, pathlen:0" in above
    assert "Certificate Sign, CRL Sign" in above


def test_a_list_refuses_and_only_what_is_on_it(house: House) -> None:
    """RFC 5280 §5 and §6.3, by ``openssl crl`` and ``openssl verify -crl_check``."""
    gone, stays = (
        house.issue(issuing.CLIENT, ("urn:a:1",), serial=4711),
        house.issue(issuing.CLIENT, ("urn:a:2",), serial=4712),
    )
    entries = [
        issuing.RevokedEntry(4711, NOW, "keyCompromise"),
        issuing.RevokedEntry(5, NOW, "unspecified"),
    ]
    made = issuing.revocation_list(house.issuer, entries, 12, NOW, NOW + timedelta(hours=24))
    name = house.write("own.crl", made)
    assert (
        openssl("crl", "-in", name, "-noout", "-CAfile", str(house.folder / "own.pem"))
        .stderr.strip()
        .endswith(b"verify OK")
    )
    told = openssl("crl", "-in", name, "-noout", "-text").stdout.decode()
    assert "Serial Number: 1267" in told
    assert "Key Compromise" in told
    assert told.count("CRL Reason Code") == 1
    assert "X509v3 CRL Number: \n                12" in told
    check = ("-crl_check", "-CRLfile", name)
    refused = house.verify(gone, *check)
    assert refused.returncode == 2
    assert b"certificate revoked" in refused.stderr + refused.stdout
    assert house.verify(stays, *check).returncode == 0
    assert path.judge(gone, [house.own], [house.root], NOW, lists=[made]).verdict == "revoked"
    assert path.judge(stays, [house.own], [house.root], NOW, lists=[made]).valid
    assert facts.of_list(made).number == 12


def test_a_list_of_openssl_is_read_and_obeyed(house: House, tmp_path: Path) -> None:
    """The other way round: a list that the command signed."""
    key = tmp_path / "own.key"
    key.write_bytes(
        house.issuer.key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
    )
    leaf = house.issue(issuing.CLIENT, ("urn:a:3",), serial=0x51)
    (tmp_path / "index").write_text(
        "R\t270101000000Z\t260601110000Z,superseded\t51\tunknown\t/CN=x\n"
    )
    (tmp_path / "number").write_text("03\n")
    (tmp_path / "ca.cnf").write_text(
        f"[ca]\ndefault_ca=one\n[one]\ndatabase={tmp_path}/index\ncrlnumber={tmp_path}/number\n"
        "default_md=sha256\ndefault_crl_days=9000\n"
    )
    out = openssl(
        "ca",
        "-gencrl",
        "-config",
        str(tmp_path / "ca.cnf"),
        "-cert",
        str(house.folder / "own.pem"),
        "-keyfile",
        str(key),
    )
    assert out.returncode == 0, out.stderr
    found = reading.read(out.stdout).lists
    assert facts.of_list(found[0]).revoked[0].reason == "superseded"
    assert path.judge(leaf, [house.own], [house.root], NOW, lists=found).verdict == "revoked"


def test_a_request_of_openssl_is_served(house: House, tmp_path: Path) -> None:
    """RFC 2986: a request made by the command, its certificate taken back by it with the key."""
    key = tmp_path / "key.pem"
    openssl("genpkey", "-algorithm", "RSA", "-pkeyopt", "rsa_keygen_bits:2048", "-out", str(key))
    asked = openssl(
        "req",
        "-new",
        "-key",
        str(key),
        "-subj",
        "/CN=Crew roster",
        "-addext",
        "subjectAltName=DNS:crew.gannet.example,IP:192.0.2.7",
    ).stdout
    request = reading.read(asked).requests[0]
    common, names = issuing.names_of_request(request)
    assert (common, names) == ("Crew roster", ("crew.gannet.example", "192.0.2.7"))
    leaf = house.issue(issuing.SERVER, names, key=request.public_key())
    assert (
        house.verify(
            leaf, "-purpose", "sslserver", "-verify_hostname", "crew.gannet.example"
        ).returncode
        == 0
    )
    packed = pkcs12.serialize_key_and_certificates(
        b"crew",
        keys.open_private(key.read_bytes()),
        leaf,
        [house.own],
        BestAvailableEncryption(b"open sesame"),
    )  # type: ignore[arg-type]
    opened = openssl("pkcs12", "-passin", "pass:open sesame", "-nodes", into=packed)
    assert opened.returncode == 0
    assert opened.stdout.count(b"BEGIN CERTIFICATE") == 2
    assert b"PRIVATE KEY" in opened.stdout
    changed = bytearray(request.public_bytes(Encoding.DER))
    changed[-1] ^= 1
    with pytest.raises(issuing.BadCertificateRequest, match="signature is not valid"):
        issuing.names_of_request(x509.load_der_x509_csr(bytes(changed)))


@pytest.mark.parametrize(
    ("profile", "names", "days", "key", "field"),
    [
        (issuing.SERVER, (), 10, None, "names"),
        (issuing.SERVER, ("urn:only:this",), 10, None, "names"),
        (issuing.SERVER, ("two..dots.example",), 10, None, "names"),
        (issuing.SERVER, ("*.example",), 10, None, "names"),
        (issuing.CLIENT, ("*.gannet.example",), 10, None, "names"),
        (issuing.SERVER, ("a.example",), 201, None, "days"),
        (issuing.CLIENT, ("a.example",), 0, None, "days"),
        (
            issuing.CLIENT,
            ("a.example",),
            10,
            rsa.generate_private_key(65537, 1024).public_key(),
            "request",
        ),
    ],
)
def test_what_is_not_issued(
    house: House,
    profile: issuing.Profile,
    names: tuple[str, ...],
    days: int,
    key: object,
    field: str,
) -> None:
    wanted = issuing.CertificateContent(
        profile, "x", names, key or ec.generate_private_key(ec.SECP256R1()).public_key(), days
    )  # type: ignore[arg-type]
    with pytest.raises(issuing.BadCertificateRequest) as wrong:
        issuing.issue(wanted, house.issuer, FIRM, 1, NOW)
    assert list(wrong.value.fields) == [field]


@pytest.mark.parametrize(
    ("names", "others", "same"),
    [
        (("a.example", "b.example"), ("B.example.", "a.example"), True),  # RFC 4343
        (("2001:db8::1",), ("2001:0db8:0:0:0:0:0:1",), True),  # RFC 5952 §2
        (("a.example",), ("a.example", "b.example"), False),
        (("*.a.example",), ("a.example",), False),
        (("not a name",), ("not a name ",), True),
        ((), (), True),
    ],
)
def test_the_same_names_however_they_are_written(
    names: tuple[str, ...], others: tuple[str, ...], same: bool
) -> None:
    assert issuing.same_names(names, others) is same
    assert issuing.same_names(others, names) is same


@given(octets=st.binary(min_size=16, max_size=20))
def test_serial_numbers(octets: bytes) -> None:
    """RFC 5280 §4.1.2.2: positive, and at most 20 octets in DER; at least 64 random
    bits are kept.
    """
    number = issuing.serial_from(octets)
    assert 0 < number < 1 << 159
    assert number == 1 or number % (1 << (8 * len(octets) - 1)) == int.from_bytes(octets, "big") % (
        1 << (8 * len(octets) - 1)
    )


@given(days=st.integers(1, 366), later=st.integers(0, 1500))
def test_never_beyond_its_issuer(days: int, later: int) -> None:
    begin, end = issuing.life(days, _ISSUER, NOW + timedelta(days=later))
    assert _ISSUER.not_valid_before_utc <= begin
    assert end <= _ISSUER.not_valid_after_utc
    assert end - begin <= timedelta(days=days) + issuing.EARLIER


_KEY = ec.generate_private_key(ec.SECP256R1())
_ISSUER = issuing.make_issuing(
    FIRM,
    "I",
    _KEY.public_key(),
    issuing.Issuer(issuing.make_root(FIRM, "R", _KEY, 1, NOW), _KEY),
    2,
    NOW,
)


@given(data=st.data())
def test_no_moment_without_trust(data: st.DataObject) -> None:
    """Whatever of the permitted acts comes next, no living leaf is below a root that its receiver
    does not trust, until the replacement is over.
    """
    receivers = {f"r{number}": {"old"} for number in range(data.draw(st.integers(1, 4)))}
    leaves = [
        [f"l{number}", "old", data.draw(st.sampled_from(sorted(receivers)))]
        for number in range(data.draw(st.integers(0, 5)))
    ]
    new, issuing_under, retired = "", "old", False

    def now() -> replacing.RootReplacementFacts:
        return replacing.RootReplacementFacts(
            "old",
            new,
            issuing_under,
            tuple(
                replacing.Receiver(key, key, frozenset(roots)) for key, roots in receivers.items()
            ),
            tuple(
                replacing.LeafCertificate(name, name, under, receiver, NOW)
                for name, under, receiver in leaves
            ),
            retired,
        )

    for _ in range(60):
        at = now()
        assert not replacing.untrusted(at.leaves, at.receivers)
        steps = replacing.order(at)
        current = [step for step in steps if step.state == "now"]
        assert len(current) <= 1
        assert [step.state for step in steps] == sorted(
            (step.state for step in steps), key=["done", "now", "waits"].index
        )
        acts = (
            ["make"]
            if not new
            else [f"trust {key}" for key in receivers if "new" not in receivers[key]]
        )
        acts += (
            ["switch"] if new and issuing_under == "old" and not replacing.may_switch(at) else []
        )
        acts += [
            f"renew {place}"
            for place, leaf in enumerate(leaves)
            if issuing_under == "new" and leaf[1] == "old"
        ]
        acts += [
            f"drop {key}"
            for key in receivers
            if issuing_under == "new"
            and "old" in receivers[key]
            and not replacing.may_stop_trusting(at, key)
        ]
        acts += (
            ["retire"]
            if issuing_under == "new"
            and not retired
            and not replacing.may_retire(at)
            and not any("old" in receiver for receiver in receivers.values())
            else []
        )
        if not acts:
            break
        act, _, which = data.draw(st.sampled_from(acts)).partition(" ")
        if act == "make":
            new = "new"
        elif act == "trust":
            receivers[which].add("new")
        elif act == "switch":
            issuing_under = "new"
        elif act == "renew":
            leaves[int(which)][1] = "new"
        elif act == "drop":
            receivers[which].discard("old")
        else:
            retired = True
    assert all(step.state == "done" for step in replacing.order(now()))
