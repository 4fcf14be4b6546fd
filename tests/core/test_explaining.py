"""Files of certificates explained, and packed: against the files of 06-certificates.json and the
``openssl`` command.
"""

from __future__ import annotations

import json
import subprocess
from datetime import UTC, datetime, timedelta
from pathlib import Path

import pytest
from cryptography import x509
from cryptography.hazmat.primitives.asymmetric import ec, rsa
from cryptography.hazmat.primitives.serialization import Encoding
from hypothesis import given, settings
from hypothesis import strategies as st

from neatlatch.core import keys
from neatlatch.core.certificates import explaining, facts, issuing, packing, path, reading
from neatlatch.core.certificates.reading import CertificateFile
from neatlatch.core.schemes import BASIC, CLIENT, KINDS, OAUTH1, PAIR, STREAM

FOLDER = Path(__file__).parents[1] / "vectors" / "certs"
CASES = json.loads((FOLDER.parent / "06-certificates.json").read_text())
AT = datetime(2026, 6, 1, tzinfo=UTC)


def found(*names: str, password: str | None = None) -> CertificateFile:
    return reading.read(b"".join((FOLDER / name).read_bytes() for name in names), password)


def root() -> x509.Certificate:
    return found("root.pem").certificates[0]


def _cases() -> list[object]:
    cases = CASES["cases"] if isinstance(CASES, dict) else CASES
    return [
        case
        for case in cases
        if case["input"]["op"] == "verify_chain" and not case["input"]["crls"]
    ]


@pytest.mark.parametrize("case", _cases(), ids=lambda case: str(case["id"]))
def test_a_file_is_judged_as_the_set_says(case: dict[str, dict[str, str]]) -> None:
    """The same verdict, whether a chain is asked for by parts or comes as one file, and the fault
    stands at one link of it.
    """
    given_, expected = case["input"], case["expected"]
    names = [given_["leaf"], *given_["intermediates"]]
    anchors = given_["trust_anchors"]
    trusted = found(
        *(
            anchor.removeprefix("certs/")
            for anchor in ([anchors] if isinstance(anchors, str) else anchors)
        )
    ).certificates
    purpose = given_["purpose"]
    assert purpose in ("server", "client", "any")
    told = explaining.explain(
        found(*(name.removeprefix("certs/") for name in names)),
        trusted,
        AT
        if given_["verification_time"].startswith("2026-06-01T")
        else datetime.fromisoformat(given_["verification_time"].replace("Z", "+00:00")),
        purpose,
        given_["name"],
    )
    assert told.chain is not None
    assert told.chain.verdict == expected["verdict"]
    broken = [link for link in told.chain.links if link.broken]
    assert bool(broken) == (expected["verdict"] != "ok")
    assert (
        told.chain.links[0].role == "leaf"
    )  # also where it is signed by itself: it may issue nothing


def test_a_chain_ends_with_its_first_end() -> None:
    told = explaining.explain(found("leaf-good.pem", "intermediate.pem"), [root()], AT)
    assert told.chain is not None
    assert [link.role for link in told.chain.links] == ["leaf", "issuing", "root"]
    assert [link.ends_first for link in told.chain.links] == [True, False, False]
    assert [link.trusted for link in told.chain.links] == [False, False, True]
    assert (
        told.chain.ends
        == min(link.facts.not_after for link in told.chain.links)
        == datetime(2026, 12, 31, 23, 59, 59, tzinfo=UTC)
    )


def test_roots_that_came_along_are_trusted_only_where_that_is_asked() -> None:
    whole = found("leaf-good.pem", "intermediate.pem", "root.pem")
    for trust, verdict in ((True, "ok"), (False, "incomplete_chain_or_untrusted_issuer")):
        told = explaining.explain(whole, [], AT, trust_its_roots=trust)
        assert told.chain is not None
        assert told.chain.verdict == verdict


def test_what_else_is_in_a_file_is_told() -> None:
    mixed = found(
        "leaf-good.pem",
        "leaf-good.key.pem",
        "other-root.pem",
        "request-rsa.csr.pem",
        "intermediate.crl.pem",
    )
    told = explaining.explain(mixed, [], AT)
    assert told.key is not None
    assert told.key.words == "RSA 2048"
    assert told.key_fits
    assert len(told.others) == 1
    assert [request.signature_valid for request in told.requests] == [True]
    assert [listing.number for listing in told.lists] == [1]
    swapped = explaining.explain(found("leaf-expired.pem", "leaf-good.key.pem"), [], AT)
    assert swapped.key_fits is False
    alone = explaining.explain(found("leaf-good.key.pem"), [], AT)
    assert (alone.chain, alone.key_fits) == (None, None)


_KEY = ec.generate_private_key(ec.SECP256R1())
_ISSUER = issuing.Issuer(issuing.make_root("The house", "Root", _KEY, 1, AT), _KEY)


@pytest.mark.slow
@pytest.mark.parametrize("kind", ["EC", "RSA"])
def test_a_packed_certificate_is_opened_by_openssl(kind: str, tmp_path: Path) -> None:
    """RFC 7292: sealed with AES-256 and PBES2, checked by SHA-256, as ``openssl pkcs12 -info``
    says.
    """
    key = _KEY if kind == "EC" else rsa.generate_private_key(65537, 2048)
    leaf = issuing.issue(
        issuing.CertificateContent(issuing.CLIENT, "Nächtlicher Lauf", (), keys.public_of(key), 30),
        _ISSUER,
        "The house",
        5,
        AT,
    )
    (tmp_path / "file.p12").write_bytes(
        packing.pack("Nächtlicher Lauf", key, leaf, [_ISSUER.certificate], "open-sesame")
    )
    done = subprocess.run(
        ["openssl", "pkcs12", "-in", "file.p12", "-nodes", "-info", "-passin", "pass:open-sesame"],
        cwd=tmp_path,
        capture_output=True,
        check=False,
    )
    assert done.returncode == 0
    said = done.stderr.decode()
    assert "PBES2, PBKDF2, AES-256-CBC, Iteration 600000, PRF hmacWithSHA256" in said
    assert "MAC: sha256" in said
    again = reading.open_pkcs12((tmp_path / "file.p12").read_bytes(), "open-sesame")
    assert again.leaf() == leaf
    assert again.friendly_name == "Nächtlicher Lauf"
    with pytest.raises(reading.Unreadable):
        reading.open_pkcs12((tmp_path / "file.p12").read_bytes(), "open sesame")


_NAMES = st.lists(
    st.from_regex(r"[a-z][a-z0-9-]{0,20}[a-z0-9](\.[a-z]{2,8}){1,2}", fullmatch=True),
    min_size=1,
    max_size=5,
    unique=True,
)


@pytest.mark.slow
@settings(max_examples=40)
@given(
    names=_NAMES,
    days=st.integers(1, 200),
    common=st.text(min_size=1, max_size=60).filter(
        lambda text: bool(text.strip()) and text.isprintable()
    ),
)
def test_what_is_issued_says_what_was_asked(names: list[str], days: int, common: str) -> None:
    """Read back by our own reader, every name and the life are those that were wanted, and the
    chain is good for each name.
    """
    wanted = issuing.CertificateContent(
        issuing.SERVER, common, tuple(names), _KEY.public_key(), days
    )
    leaf = issuing.issue(wanted, _ISSUER, "The house", 77, AT)
    told = facts.of_certificate(x509.load_der_x509_certificate(leaf.public_bytes(Encoding.DER)))
    assert told.dns_names == tuple(names)
    assert told.purposes == ("server",)
    assert told.not_after - AT == timedelta(days=days)
    for name in names:
        assert path.judge(
            leaf, [], [_ISSUER.certificate], AT, purpose="server", host=name.upper()
        ).valid
    assert (
        path.judge(leaf, [], [_ISSUER.certificate], AT, purpose="client").verdict == "wrong_purpose"
    )


def test_what_a_secret_is_known_by() -> None:
    assert {
        key: (found_.key if (found_ := KINDS[scheme].name_of(key)) else None)
        for scheme, key in (
            (PAIR, "key_secret"),
            (STREAM, "key_secret"),
            (BASIC, "password"),
            (OAUTH1, "token_secret"),
            (CLIENT, "client_secret"),
        )
    } == {
        "key_secret": "key_id",
        "password": "username",
        "token_secret": "token_id",
        "client_secret": None,
    }
    first = KINDS[OAUTH1].name_of("client_secret")
    assert first is not None
    assert first.key == "client_key"
