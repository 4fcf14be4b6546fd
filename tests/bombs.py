"""What an attacker would send to make others wait: small files that ask for much, and large ones
that are against themselves.
"""

from __future__ import annotations

import base64
import os
from datetime import UTC, datetime, timedelta
from functools import cache

from cryptography import x509
from cryptography.hazmat.primitives import hashes, padding
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes
from cryptography.hazmat.primitives.kdf.pbkdf2 import PBKDF2HMAC
from cryptography.hazmat.primitives.serialization import Encoding

MIB = 1024 * 1024
PASSWORD = "skerry-lantern"
PBES2, PBKDF2, SCRYPT, AES = (
    "2a864886f70d01050d",
    "2a864886f70d01050c",
    "2b06010401da47040b",
    "60864801650304012a",
)
SHROUDED, DATA, ENCRYPTED = "2a864886f70d010c0a0102", "2a864886f70d010701", "2a864886f70d010706"


def der(tag: int, *parts: bytes) -> bytes:
    """One element (X.690 §8.1)."""
    content = b"".join(parts)
    size = len(content)
    octets = size.to_bytes((size.bit_length() + 7) // 8 or 1, "big")
    return (
        bytes([tag])
        + (bytes([size]) if size < 128 else bytes([0x80 | len(octets)]) + octets)
        + content
    )


def open_ended(tag: int, *parts: bytes) -> bytes:
    """The same without a length (X.690 §8.1.3.6)."""
    return bytes([tag, 0x80]) + b"".join(parts) + b"\0\0"


def number(value: int) -> bytes:
    return der(2, value.to_bytes(value.bit_length() // 8 + 1, "big"))


def name(octets: str) -> bytes:
    return der(6, bytes.fromhex(octets))


def by_password(*derivation: bytes, iv: bytes = bytes(16)) -> bytes:
    """How something is encrypted (RFC 8018 §A.4)."""
    return der(
        0x30, name(PBES2), der(0x30, der(0x30, *derivation), der(0x30, name(AES), der(4, iv)))
    )


def encrypted_key(*derivation: bytes) -> bytes:
    """A PKCS#8 file that names a derivation."""
    return der(0x30, by_password(*derivation), der(4, bytes(64)))


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
    return each(
        0x30,
        number(3),
        each(0x30, name(DATA), each(0xA0, whole)),
        der(0x30, digest, der(4, bytes(8)), number(mac_rounds)),
    )


def hidden(rounds: int) -> bytes:
    """A PKCS#12 file without a MAC whose bag is itself encrypted, fairly: what the bag within asks
    for is seen only once that is open.
    """
    bags = der(0x30, der(0x30, name(SHROUDED), der(0xA0, by_rounds(rounds))))
    salt, iv = os.urandom(8), os.urandom(16)
    key = PBKDF2HMAC(hashes.SHA1(), 32, salt, 1000).derive(PASSWORD.encode())
    pad = padding.PKCS7(128).padder()
    lock = Cipher(algorithms.AES(key), modes.CBC(iv)).encryptor()
    sealed = lock.update(pad.update(bags) + pad.finalize()) + lock.finalize()
    how = by_password(name(PBKDF2), der(0x30, der(4, salt), number(1000)), iv=iv)
    content = der(0x30, name(DATA), how, der(0x80, sealed))
    within = der(0x30, der(0x30, name(ENCRYPTED), der(0xA0, der(0x30, number(0), content))))
    return der(0x30, number(3), der(0x30, name(DATA), der(0xA0, der(4, within))))


def pem(data: bytes, label: str = "ENCRYPTED PRIVATE KEY") -> bytes:
    return (
        f"-----BEGIN {label}-----\n{base64.encodebytes(data).decode()}-----END {label}-----\n"
    ).encode()


# Refused for what they say of themselves.
SAYING = {
    "PBKDF2": by_rounds(30_000_000),
    "PBKDF2 beyond 64 bits": by_rounds(2**80),
    "scrypt, memory": by_scrypt(2**21),
    "scrypt, lanes": by_scrypt(2**10, p=4096),
    "PKCS#12, bag": packed(6_000_000, 1),
    "PKCS#12, MAC": packed(1, 6_000_000),
    "PKCS#12 without lengths": packed(6_000_000, 1, ends=False),
    "PKCS#12, many bags": packed(1_999_999, 1, bags=40),
    "PKCS#12 and something behind it": packed(1, 6_000_000) + b"\0\0",
    "nothing but parts": der(0x30, *[der(5)] * 120_000),
}


@cache
def constrained(names: int) -> str:
    """A leaf of many names below an authority of as many name constraints (RFC 5280 §4.2.1.10), in
    PEM.
    """
    now, keys = (
        datetime(2026, 1, 1, tzinfo=UTC),
        [ec.generate_private_key(ec.SECP256R1()) for _ in range(2)],
    )
    top, own = (
        x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, item)]) for item in ("Root", "leaf")
    )

    def made(
        subject: x509.Name, key: ec.EllipticCurvePrivateKey, *extensions: x509.ExtensionType
    ) -> x509.Certificate:
        builder = x509.CertificateBuilder(
            top, subject, key.public_key(), 1 + (subject == own), now, now + timedelta(days=900)
        )
        for extension in extensions:
            builder = builder.add_extension(extension, critical=False)
        return builder.sign(keys[0], hashes.SHA256())

    permitted = [x509.DNSName(f"a{place}.example") for place in range(names)]
    root = made(
        top, keys[0], x509.BasicConstraints(True, None), x509.NameConstraints(permitted, None)
    )
    leaf = made(
        own, keys[1], x509.SubjectAlternativeName([x509.DNSName(f"b.a{names - 1}.example")] * names)
    )
    return "".join(item.public_bytes(Encoding.PEM).decode() for item in (leaf, root))
