"""The TLS listener: the desk's addresses over TLS, where a caller may show a certificate of the
house instead of a key. ``nlatch tls-listener`` runs it.

Its own server certificate is one of the house's. Its key is made here and never leaves this
machine: it lies beside the database, readable by its owner only.
"""

from __future__ import annotations

import asyncio
import os
import ssl
from asyncio import BaseTransport
from collections.abc import Callable
from datetime import timedelta
from pathlib import Path
from typing import Any

import uvicorn
from asgiref.sync import sync_to_async
from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import Encoding
from django.conf import settings
from django.db import transaction
from django.utils import timezone
from uvicorn.protocols.http.h11_impl import H11Protocol

from neatlatch.core.certificates import reading
from neatlatch.core.certificates.issuing import general_name
from neatlatch.desk.authority.certificates import services as certificates
from neatlatch.desk.authority.house import issuing
from neatlatch.desk.authority.house.own import own_deployment as place_of
from neatlatch.desk.authority.records.certificates.models import Authority
from neatlatch.desk.estate.records.applications.models import Environment
from neatlatch.desk.ground import serving
from neatlatch.desk.ground.common.actors import TLS_LISTENER
from neatlatch.desk.ground.common.keyfile import check_is_own
from neatlatch.desk.ground.serving import HeaderTimeout

from .draw_endpoints import EXTENSION

LOOK_EVERY = 3.0


class ClientCertificateProtocol(HeaderTimeout, H11Protocol):
    """Puts the certificate that TLS has proven into the request's scope, where nobody can put it by
    a header.
    """

    def connection_made(self, transport: BaseTransport) -> None:
        """Read it once for the connection: it cannot change while it lasts."""
        super().connection_made(transport)
        shown = transport.get_extra_info("ssl_object").getpeercert(binary_form=True)
        inner: Callable[..., Any] = self.app

        async def with_certificate(scope: Any, receive: Any, send: Any) -> None:
            if scope["type"] == "http":
                scope.setdefault("extensions", {})[EXTENSION] = shown
            await inner(scope, receive, send)

        self.app = with_certificate


def _is_young(file: Path) -> bool:
    """Whether a certificate has more than a third of its life before it."""
    if not file.exists():
        return False
    leaf = x509.load_pem_x509_certificate(file.read_bytes())
    whole = leaf.not_valid_after_utc - leaf.not_valid_before_utc
    return leaf.not_valid_after_utc - timezone.now() > max(whole / 3, timedelta(hours=1))


def own_certificate(environment: Environment, names: tuple[str, ...]) -> tuple[Path, Path]:
    """The listener's certificate with its chain, and its key; a new one is issued where it is
    missing or two thirds through.
    """
    chain, key_file = settings.HOME / "tls-listener.pem", settings.HOME / "tls-listener.key"
    # Homes of before have them under these names.
    for before, file in (("door.pem", chain), ("door.key", key_file)):
        if (settings.HOME / before).exists():
            os.replace(settings.HOME / before, file)
    if _is_young(chain) and key_file.exists():
        check_is_own(key_file)
        return chain, key_file
    key = ec.generate_private_key(ec.SECP256R1())
    alternative = x509.SubjectAlternativeName([general_name(name, False) for name in names])
    request = x509.CertificateSigningRequestBuilder().subject_name(
        x509.Name([x509.NameAttribute(x509.NameOID.COMMON_NAME, "Neat Latch")])
    )
    signed = (
        request.add_extension(alternative, critical=False)
        .sign(key, hashes.SHA256())
        .public_bytes(Encoding.PEM)
        .decode("ascii")
    )
    with transaction.atomic():
        client = issuing.server(TLS_LISTENER, place_of(environment))
        issued, _ = certificates.issue(
            TLS_LISTENER,
            client,
            certificates.CertificateOrder("server", request=signed),
            renews=certificates.newest(client),
        )
    for file, text in ((key_file, reading.key_as_pem(key)), (chain, issued.chain())):
        temporary = file.with_suffix(".new")
        temporary.touch(0o600)
        temporary.write_text(text)
        os.replace(temporary, file)
    return chain, key_file


def roots() -> list[str]:
    """Whose clients may show a certificate: the roots of all environments that are trusted."""
    return list(
        Authority.objects.filter(root=None)
        .exclude(state=Authority.State.RETIRED)
        .values_list("pem", flat=True)
    )


class TlsListener:
    """The server and its TLS settings, kept up with new roots and a new certificate of its own
    while it runs.
    """

    def __init__(self, environment: Environment, names: tuple[str, ...]) -> None:
        self.environment, self.names, self.known = environment, names, set[str]()
        settings.ALLOWED_HOSTS = [*settings.ALLOWED_HOSTS, *names]
        self.context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        self.context.minimum_version = ssl.TLSVersion.TLSv1_2
        self.context.verify_mode = ssl.CERT_OPTIONAL
        self.reload()

    def reload(self) -> None:
        """Load certificates and roots that changed.

        Revoked, ended and retired ones are refused by the desk itself, which knows them by their
        thumbprints.
        """
        self.context.load_cert_chain(*own_certificate(self.environment, self.names))
        for pem in roots():
            if pem not in self.known:
                self.context.load_verify_locations(cadata=pem)
                self.known.add(pem)

    async def keep_looking(self) -> None:
        """Look again and again, as long as the server runs."""
        while True:
            await asyncio.sleep(LOOK_EVERY)
            await sync_to_async(self.reload)()

    def run(self, host: str, port: int) -> None:
        """Serve until told to stop."""
        config = serving.config(host, port, ClientCertificateProtocol)
        config.load()  # before any loop runs: the desk looks into its database as it starts
        config.ssl = self.context
        asyncio.run(self._serve(uvicorn.Server(config)))

    async def _serve(self, server: uvicorn.Server) -> None:
        looking = asyncio.create_task(self.keep_looking())
        try:
            await server.serve()
        finally:
            looking.cancel()
