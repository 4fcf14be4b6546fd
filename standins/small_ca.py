"""The stand-ins' own small certificate authority: a root, a server certificate, and one that has
ended.
"""

from __future__ import annotations

import datetime as dt
import ipaddress
import ssl
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

NAMES = ("localhost", "cargo.gannet.example")


def _name(text: str) -> x509.Name:
    return x509.Name(
        [
            x509.NameAttribute(NameOID.ORGANIZATION_NAME, "Harbour simulation"),
            x509.NameAttribute(NameOID.COMMON_NAME, text),
        ]
    )


def _pem(key: ec.EllipticCurvePrivateKey) -> bytes:
    return key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )


def _leaf(
    root: x509.Certificate,
    root_key: ec.EllipticCurvePrivateKey,
    begins: dt.datetime,
    ends: dt.datetime,
) -> tuple[bytes, bytes]:
    key = ec.generate_private_key(ec.SECP256R1())
    names: list[x509.GeneralName] = [x509.DNSName(name) for name in NAMES]
    names.append(x509.IPAddress(ipaddress.ip_address("127.0.0.1")))
    certificate = (
        x509.CertificateBuilder()
        .subject_name(_name("Cargo manifests"))
        .issuer_name(root.subject)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(begins)
        .not_valid_after(ends)
        .add_extension(x509.SubjectAlternativeName(names), critical=False)
        .add_extension(x509.BasicConstraints(ca=False, path_length=None), critical=True)
        .add_extension(x509.ExtendedKeyUsage([ExtendedKeyUsageOID.SERVER_AUTH]), critical=False)
        .add_extension(
            x509.AuthorityKeyIdentifier.from_issuer_public_key(root_key.public_key()),
            critical=False,
        )
        .sign(root_key, hashes.SHA256())
    )
    return certificate.public_bytes(serialization.Encoding.PEM), _pem(key)


def make(folder: Path) -> None:
    """Make the authority and both certificates in a folder, unless they are there."""
    if (folder / "root.pem").exists() and (folder / "root.key.pem").exists():
        return
    folder.mkdir(parents=True, exist_ok=True)
    now = dt.datetime.now(dt.UTC)
    root_key = ec.generate_private_key(ec.SECP256R1())
    usage = x509.KeyUsage(False, False, False, False, False, True, True, False, False)
    root = (
        x509.CertificateBuilder()
        .subject_name(_name("Harbour simulation root"))
        .issuer_name(_name("Harbour simulation root"))
        .public_key(root_key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - dt.timedelta(days=60))
        .not_valid_after(now + dt.timedelta(days=3650))
        .add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
        .add_extension(usage, critical=True)
        .add_extension(
            x509.SubjectKeyIdentifier.from_public_key(root_key.public_key()), critical=False
        )
        .sign(root_key, hashes.SHA256())
    )
    good = _leaf(root, root_key, now - dt.timedelta(days=1), now + dt.timedelta(days=360))
    ended = _leaf(root, root_key, now - dt.timedelta(days=40), now - dt.timedelta(days=2))
    for name, (certificate, key) in {"good": good, "ended": ended}.items():
        (folder / f"{name}.pem").write_bytes(certificate)
        (folder / f"{name}.key.pem").write_bytes(key)
    (folder / "root.key.pem").write_bytes(_pem(root_key))
    # The root comes last: while it is missing, everything is made again.
    (folder / "root.pem").write_bytes(root.public_bytes(serialization.Encoding.PEM))


def issue_client(folder: Path, name: str, days: int, begins: int = -1) -> tuple[str, str]:
    """A client certificate of the authority with its chain, and its private key, both in PEM.

    Days count from today.
    """
    root = x509.load_pem_x509_certificate((folder / "root.pem").read_bytes())
    root_key = serialization.load_pem_private_key((folder / "root.key.pem").read_bytes(), None)
    assert isinstance(root_key, ec.EllipticCurvePrivateKey)
    now, key = dt.datetime.now(dt.UTC), ec.generate_private_key(ec.SECP256R1())
    certificate = (
        x509.CertificateBuilder()
        .subject_name(_name(name))
        .issuer_name(root.subject)
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now + dt.timedelta(days=begins))
        .not_valid_after(now + dt.timedelta(days=days))
        .add_extension(x509.BasicConstraints(ca=False, path_length=None), critical=True)
        .add_extension(x509.ExtendedKeyUsage([ExtendedKeyUsageOID.CLIENT_AUTH]), critical=False)
        .add_extension(
            x509.AuthorityKeyIdentifier.from_issuer_public_key(root_key.public_key()),
            critical=False,
        )
        .sign(root_key, hashes.SHA256())
    )
    chain = certificate.public_bytes(serialization.Encoding.PEM) + root.public_bytes(
        serialization.Encoding.PEM
    )
    return chain.decode(), _pem(key).decode()


def wants_client(folder: Path) -> ssl.SSLContext:
    """A server context that takes nobody without a certificate of the authority."""
    made = context(folder)
    made.load_verify_locations(folder / "root.pem")
    made.verify_mode = ssl.CERT_REQUIRED
    return made


def context(folder: Path) -> ssl.SSLContext:
    """A server context with the good certificate."""
    made = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    made.minimum_version = ssl.TLSVersion.TLSv1_2
    use(made, folder, "good")
    return made


def use(made: ssl.SSLContext, folder: Path, which: str) -> None:
    """Show another certificate from the next handshake on: ``good`` or ``ended``."""
    made.load_cert_chain(folder / f"{which}.pem", folder / f"{which}.key.pem")
