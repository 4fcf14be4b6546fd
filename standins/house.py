"""How an application of the firm holds what callers show against the firm's own authority.

Three ways: it *asks* about each token (RFC 7662); it *checks* signatures with the published keys
(RFC 7517, RFC 9068) and looks into the status list that a token names; or it takes *certificates*
below the roots it was told to trust, and looks for them on their issuer's revocation list (RFC 5280
§6.3). Written against the standards with a library of its own, so that the authority is not tested
against itself.
"""

from __future__ import annotations

import base64
import ipaddress
import json
import logging
import time
import zlib
from pathlib import Path
from typing import Any

import httpx
from cryptography import x509
from cryptography.exceptions import InvalidSignature
from cryptography.x509.oid import ExtendedKeyUsageOID
from joserfc import jwt
from joserfc.errors import JoseError
from joserfc.jwk import KeySet

from . import clock

log = logging.getLogger(__name__)
KEYS_KEPT, STATUS_KEPT = 30.0, 2.0


class House:
    """What the applications were told of the authority, by application and environment; kept in one
    file.
    """

    def __init__(self, file: Path) -> None:
        self.file = file
        self.known: dict[str, dict[str, str]] = (
            json.loads(file.read_text()) if file.exists() else {}
        )
        # No connection is kept: one that the authority's server closes just then would make a
        # refusal of a good token.
        self.web = httpx.AsyncClient(timeout=20, limits=httpx.Limits(max_keepalive_connections=0))
        self._kept: dict[str, tuple[float, Any]] = {}

    def learn(self, application: str, environment: str, form: dict[str, str]) -> None:
        """Set an application up: ``way`` (ask or check), ``issuer``, ``audience``, and for asking
        ``client_id`` and ``client_secret``.
        """
        self.known[f"{application}/{environment}"] = form
        temporary = self.file.with_suffix(".new")
        temporary.write_text(json.dumps(self.known))
        temporary.chmod(0o600)
        temporary.replace(self.file)

    async def scopes(
        self, application: str, environment: str, token: str, address: str
    ) -> frozenset[str] | None:
        """The scopes of a token or key that the authority issued for this application; ``None``: it
        is no good here.
        """
        told = self.known.get(f"{application}/{environment}")
        if told is None:
            return None
        try:
            return await (
                self._ask(told, token, address)
                if told["way"] == "ask"
                else self._check(told, token)
            )
        except (httpx.HTTPError, JoseError, ValueError, LookupError, zlib.error) as error:
            log.warning("not sure of a token for %s in %s: %r", application, environment, error)
            return None  # who cannot be sure lets nobody in

    def roots(self) -> list[str]:
        """The roots that certificates of callers may stand below, for TLS."""
        return [told["trust"] for told in self.known.values() if told["way"] == "crl"]

    async def role(self, application: str, environment: str, shown: bytes) -> str | None:
        """The role of anyone who showed a certificate; ``None``: it is no good here."""
        told = self.known.get(f"{application}/{environment}")
        if told is None or told["way"] != "crl":
            return None
        try:
            leaf = x509.load_der_x509_certificate(shown)
            issuer = await self._issuer(told, leaf)
            leaf.verify_directly_issued_by(issuer)
            now = clock.moment()
            purposes = leaf.extensions.get_extension_for_class(x509.ExtendedKeyUsage).value
            if (
                ExtendedKeyUsageOID.CLIENT_AUTH not in purposes
                or not leaf.not_valid_before_utc <= now <= leaf.not_valid_after_utc
            ):
                return None
            listed = await self._revocations(told, leaf, issuer)
            if listed.next_update_utc is None or listed.next_update_utc <= now:
                return None
            if listed.get_revoked_certificate_by_serial_number(leaf.serial_number) is not None:
                return None
            names = leaf.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
            accounts: dict[str, str] = json.loads(told["accounts"])
            return next(
                (
                    accounts[value]
                    for value in names.get_values_for_type(x509.UniformResourceIdentifier)
                    if value in accounts
                ),
                None,
            )
        except (
            httpx.HTTPError,
            x509.ExtensionNotFound,
            InvalidSignature,
            ValueError,
            TypeError,
        ) as error:
            log.warning(
                "not sure of a certificate for %s in %s: %r", application, environment, error
            )
            return None  # who cannot be sure lets nobody in

    async def _fetch(self, form: dict[str, str], address: str, seconds: float) -> bytes:
        """What lies at an address of the authority, fetched again when it is so many
        seconds old.
        """
        if not address.startswith(f"{form['issuer']}/"):
            raise ValueError("not an address of the authority")
        kept = self._kept.get(address)
        if kept is None or kept[0] < time.monotonic():
            self._kept[address] = kept = (
                time.monotonic() + seconds,
                (await self.web.get(address)).raise_for_status().content,
            )
        return bytes(kept[1])

    async def _issuer(self, form: dict[str, str], leaf: x509.Certificate) -> x509.Certificate:
        """Whose key signed it, where the certificate says so; itself signed by a root that is
        trusted for this environment.
        """
        access = leaf.extensions.get_extension_for_class(x509.AuthorityInformationAccess).value
        issuer = x509.load_der_x509_certificate(
            await self._fetch(form, access[0].access_location.value, 3600)
        )
        for root in x509.load_pem_x509_certificates(form["trust"].encode()):
            if root.subject == issuer.issuer:
                issuer.verify_directly_issued_by(root)
                return issuer
        raise ValueError("below no root that is trusted here")

    async def _revocations(
        self, form: dict[str, str], leaf: x509.Certificate, issuer: x509.Certificate
    ) -> x509.CertificateRevocationList:
        point = leaf.extensions.get_extension_for_class(x509.CRLDistributionPoints).value[0]
        assert point.full_name is not None
        listed = x509.load_der_x509_crl(
            await self._fetch(form, point.full_name[0].value, STATUS_KEPT)
        )
        if not listed.is_signature_valid(issuer.public_key()):  # type: ignore[arg-type]
            raise ValueError("the list is not its issuer's")
        return listed

    async def _ask(self, form: dict[str, str], token: str, address: str) -> frozenset[str] | None:
        answer = await self.web.post(
            f"{form['issuer']}/introspect",
            data={"token": token},
            auth=(form["client_id"], form["client_secret"]),
        )
        found = answer.raise_for_status().json()
        if not found["active"] or found.get("aud") != form["audience"]:
            return None
        allowed = found.get("allowed_addresses", [])
        if allowed and not any(
            ipaddress.ip_address(address) in ipaddress.ip_network(allowed_address, strict=False)
            for allowed_address in allowed
        ):
            return None
        return frozenset(found["scope"].split())

    async def _check(self, form: dict[str, str], token: str) -> frozenset[str] | None:
        shown = jwt.decode(token, await self._keys(form), algorithms=["RS256"])
        claims, now = shown.claims, clock.now()
        if (
            shown.header.get("typ") != "at+jwt"
            or claims["iss"] != form["issuer"]
            or claims["aud"] != form["audience"]
            or claims["exp"] <= now
        ):
            return None
        where = claims["status"]["status_list"]
        if not str(where["uri"]).startswith(f"{form['issuer']}/status/"):
            return None
        bits = await self._status(form, where["uri"])
        revoked = bits[where["idx"] // 8] >> (where["idx"] % 8) & 1
        return None if revoked else frozenset(claims["scope"].split())

    async def _keys(self, form: dict[str, str]) -> KeySet:
        address = f"{form['issuer']}/jwks"
        kept = self._kept.get(address)
        if kept is None or kept[0] < time.monotonic():
            found = KeySet.import_key_set((await self.web.get(address)).raise_for_status().json())
            self._kept[address] = kept = (time.monotonic() + KEYS_KEPT, found)
        return kept[1]

    async def _status(self, form: dict[str, str], address: str) -> bytes:
        kept = self._kept.get(address)
        if kept is None or kept[0] < time.monotonic():
            shown = jwt.decode(
                (await self.web.get(address)).raise_for_status().text,
                await self._keys(form),
                algorithms=["RS256"],
            )
            if (
                shown.header.get("typ") != "statuslist+jwt"
                or shown.claims["sub"] != address
                or shown.claims["exp"] <= clock.now()
            ):
                raise ValueError("no status list")
            packed = shown.claims["status_list"]["lst"]
            self._kept[address] = kept = (
                time.monotonic() + STATUS_KEPT,
                zlib.decompress(base64.urlsafe_b64decode(packed + "=" * (-len(packed) % 4))),
            )
        return bytes(kept[1])
